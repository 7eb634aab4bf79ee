"""Even samples of a sequence of calls: after n calls each sample holds its share of them, within a few calls.

The n-th call belongs to a sample where the fractional part of ``n x`` lies below the share. Samples of the same calls have different ``x``:
the golden section and the square roots of 2, 3 and 7 are linearly independent over the rationals together with 1, so that the sequences
are uniform jointly (Weyl, Math. Annalen 77, 1916). One sample therefore says nothing of another. With one ``x`` for all, a sample of
inputs and answers would hold the calls of one version of a split and none of the other one's.
"""

from __future__ import annotations

import math

GOLDEN = (math.sqrt(5) - 1) / 2
"""Which version of a split answers; see `lamppost.core.endpoint.shares`."""
COPIED = math.sqrt(2) - 1
"""Which calls are copied to a shadow."""
RECORDED = math.sqrt(3) - 1
"""Which calls keep their inputs and answers in the records."""
SENT_HOME = math.sqrt(7) - 2
"""Which calls of an outpost keep their inputs and answers on the way to its hub."""


def is_in_sample(n: int, of: float, share: float) -> bool:
    """Whether the n-th call belongs to a sample. of : one of the numbers of this module. share : from 0 to 1.

    >>> [is_in_sample(n, RECORDED, 0.5) for n in range(6)]
    [True, False, True, True, False, False]
    """
    return share >= 1 or (n * of) % 1.0 < share
