"""What a stream does by itself, from its earlier windows: by day and night, and where rows of one caller come together.

A reference whose rows were thinned or shuffled cannot show what an hour does. So each window is also compared with the windows at the same
time of earlier days: of the last fourteen, three at least. How far windows lie from theirs, over the last 168, shows how much more than
independent rows they differ; windows that had changed do not count.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.baseline import DriftBaseline, PairBaseline, WindowSketch, pool_sketches
from lamppost.core.drift.bins import What
from lamppost.core.drift.dependence import Dependence, phi_is_sure
from lamppost.core.drift.field_tests import FLOORS, FieldDifference, field_differences
from lamppost.core.drift.pair_tests import compare_pairs

MOST_CYCLES, LEAST_CYCLES = 14, 3
LEAST_ROWS = 50
"""A window of fewer rows tells nothing of its own."""
_KEPT = 168
_LEAST_WINDOWS, _LEAST_CYCLIC = 4, 8
_FAR_OFF = 30.0
_MOST_DEPENDENT = 0.25
_EVENTS = 5.0

Key = tuple[str, What]
_RATES: tuple[What, ...] = ("missing", "outside", "far", "unseen")


@dataclass(frozen=True, slots=True)
class LivePhi:
    """By how much windows differ more than independent rows would, by field and what is compared; 1 where they do not.

    degrees : of freedom with which this is known. pairs : the same of correlations, as a square array; None for 1. windows : how many it
    is known from.
    """

    of: Mapping[Key, float]
    degrees: float
    pairs: NDArray[np.float64] | None = None
    windows: int = 0

    def dependence(self, field: str, what: What) -> Dependence:
        """The same for one comparison. Rows that come together now came together in training too, whatever order its rows have."""
        phi = self.of.get((field, what), 1.0)
        return Dependence(phi, self.degrees) if phi > 1 else Dependence(1.0, math.inf)

    @property
    def pair_degrees(self) -> float:
        """Degrees of freedom of ``pairs``."""
        return math.inf if self.pairs is None else self.degrees


NO_PHI = LivePhi({}, math.inf)
"""Of a stream of which too little is known."""


@dataclass(frozen=True, slots=True)
class LiveBaseline:
    """What the newest windows are compared with besides the reference.

    latest, four : the windows at the same times of earlier days as the newest one, and as the newest four; None where too few are known.
    cycle : windows of a day.
    """

    cycle: int
    phi: LivePhi
    latest: WindowSketch | None = None
    four: WindowSketch | None = None


@dataclass(frozen=True, slots=True)
class _Seen:
    """How far a window lay from its baseline. of : statistic, degrees and events. cyclic : whether from the same time of earlier days."""

    of: Mapping[Key, tuple[float, int, int | None]]
    pairs: NDArray[np.float64] | None
    cyclic: bool


class LiveHistory:
    """The closed windows of one stream, in the order of time. cycle : windows of a day."""

    def __init__(self, against: DriftBaseline, cycle: int) -> None:
        self._against = against
        self.cycle = cycle
        self._known = {known.name: known for known in against.known}
        self._windows: dict[int, WindowSketch] = {}
        self._seen: dict[int, _Seen] = {}
        self._changed: set[int] = set()
        self._unlike: set[int] = set()
        self._phi: tuple[int, LivePhi] | None = None
        self.last = -1
        """The number of the newest window that was added."""

    def __len__(self) -> int:
        return len(self._windows)

    def add(self, number: int, window: WindowSketch) -> None:
        """Add the next closed window. number : counted from any beginning, one for each span of time. Small windows are left out."""
        if number <= self.last or window.rows < LEAST_ROWS:
            return
        self.last = number
        base = self._at_same_time(number)
        cyclic = base is not None
        base = base or self._before(number)
        if base is not None:
            differences = self._differences(window, base)
            if self._has_changed(number, differences):
                (self._changed if cyclic else self._unlike).add(number)
            of = {key: (one.statistic, one.degrees, one.events and sum(one.events)) for key, one in differences.items()}
            self._seen[number] = _Seen(of, self._pair_statistics(window, base), cyclic)
        self._windows[number] = window
        oldest = number - (MOST_CYCLES + 1) * self.cycle - _KEPT
        for gone in [at for at in self._windows if at < oldest]:
            del self._windows[gone]
            self._seen.pop(gone, None)
            self._changed.discard(gone)
            self._unlike.discard(gone)

    def baseline(self, number: int) -> LiveBaseline:
        """What the window of this number, and it with the three before it, are compared with."""
        places = [number - back for back in range(4)]
        parts = [self._at_same_time(place) for place in places]
        known = [part for part in parts if part is not None]
        return LiveBaseline(self.cycle, self.phi(number), parts[0], pool_sketches(known) if len(known) == len(parts) else None)

    def phi(self, number: int) -> LivePhi:
        """By how much the windows before one differ more than independent rows would."""
        if self._phi is None or self._phi[0] != number:
            self._phi = number, self._measured_phi(number)
        return self._phi[1]

    def _at_same_time(self, number: int) -> WindowSketch | None:
        places = [number - back * self.cycle for back in range(1, MOST_CYCLES + 1)]
        found = [self._windows[at] for at in places if at in self._windows and at not in self._changed]
        return pool_sketches(found) if len(found) >= LEAST_CYCLES else None

    def _before(self, number: int) -> WindowSketch | None:
        left_out = self._changed | self._unlike
        found = [window for at, window in self._windows.items() if number - MOST_CYCLES <= at < number and at not in left_out]
        return pool_sketches(found) if len(found) > LEAST_CYCLES else None

    def _differences(self, window: WindowSketch, base: WindowSketch) -> dict[Key, FieldDifference]:
        return {
            (name, one.what): one
            for name, sketch in window.fields.items()
            if name in self._known and name in base.fields
            for one in field_differences(self._known[name], sketch, base.fields[name])
        }

    def _pair_statistics(self, window: WindowSketch, base: WindowSketch) -> NDArray[np.float64] | None:
        pairs = live_pairs(self._against.pairs, base)
        if pairs is None or window.moments is None or base.moments is None:
            return None
        found = compare_pairs(pairs, base.moments.rows, window.moments)
        if found is None:
            return None
        h = base.moments.rows * window.moments.rows / (base.moments.rows + window.moments.rows)
        square = np.ones_like(pairs.correlations)
        square[found.first, found.second] = h * found.difference**2 / np.maximum(pairs.variances[found.first, found.second], 1e-9)
        square[found.second, found.first] = square[found.first, found.second]
        return square

    def _has_changed(self, number: int, differences: Mapping[Key, FieldDifference]) -> bool:
        """Whether a window lies far from its baseline: by more than its floor, and by so much more than windows usually do. Nobody knows
        that of the first windows.
        """
        phi = self.phi(number)
        if not phi.windows:
            return False
        for key, one in differences.items():
            factor = phi.of.get(key, 1.0)
            if one.size >= FLOORS[one.what][0] and one.statistic > factor * (one.degrees + _FAR_OFF):
                return True
        return False

    def _measured_phi(self, number: int) -> LivePhi:
        left_out = self._changed | self._unlike
        usable = [seen for at, seen in self._seen.items() if at < number and at not in left_out][-_KEPT:]
        cyclic = [seen for seen in usable if seen.cyclic]
        used = cyclic if len(cyclic) >= max(_LEAST_CYCLIC, self.cycle) else usable
        if len(used) < _LEAST_WINDOWS:
            return NO_PHI
        phis, dependent, names = _phis(used)
        pairs = _pair_phi(used)
        if not dependent:
            return replace(NO_PHI, windows=len(used))
        everywhere = len(dependent) > _MOST_DEPENDENT * len(names)
        of = {key: max(1.0, phi) for key, phi in phis.items() if everywhere or key[0] in dependent}
        if everywhere:  # what is too rare to be measured well comes in bursts with all else
            usual = max(1.0, float(np.median(list(phis.values()))))
            of |= {key: max(usual, of.get(key, 1.0)) for seen in used for key in seen.of if key[1] in _RATES}
        return LivePhi(of, len(used) / 2, pairs if everywhere else None, len(used))


def _phis(used: Sequence[_Seen]) -> tuple[dict[Key, float], set[str], set[str]]:
    """Phi by what was compared often enough; the fields in which it is too large for independent rows; all fields."""
    sums: dict[Key, list[float]] = {}
    for seen in used:
        for key, (statistic, degrees, events) in seen.of.items():
            held = sums.setdefault(key, [0.0, 0.0, 0.0, 0.0])
            held[0] += statistic
            held[1] += degrees
            held[2] += 1
            held[3] += _EVENTS if events is None else events
    often = {key: held for key, held in sums.items() if held[3] >= _EVENTS * held[2]}
    phis = {key: held[0] / held[1] for key, held in often.items()}
    dependent = {key[0] for key, held in often.items() if phi_is_sure(phis[key], int(held[2]), held[1] / held[2])}
    return phis, dependent, {key[0] for key in sums}


def _pair_phi(used: Sequence[_Seen]) -> NDArray[np.float64] | None:
    squares = [seen.pairs for seen in used if seen.pairs is not None]
    if not squares:
        return None
    phi: NDArray[np.float64] = np.maximum(1.0, np.mean(squares, axis=0))
    return phi


def live_pairs(pairs: PairBaseline | None, base: WindowSketch) -> PairBaseline | None:
    """The pairs of a reference with the correlations of earlier windows."""
    if pairs is None or base.moments is None or base.moments.products.shape != pairs.correlations.shape:
        return None
    return replace(pairs, correlations=base.moments.correlations(), most_apart=None)
