"""Tail probabilities and quantiles of the distributions that verdicts use.

They are those of ``scipy.special``, which is imported with the first use: loading it takes 0.3 s, and a process that judges nothing does
not need it.
"""

from __future__ import annotations

from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray


@cache
def _special() -> Any:
    import scipy.special

    return scipy.special


def chi_squared_tail(degrees: float, statistic: Any) -> Any:
    """The probability that a chi-squared variable with so many degrees of freedom exceeds the statistic; an array for an array.

    >>> round(float(chi_squared_tail(1, 3.841)), 3)
    0.05
    """
    return _special().chdtrc(degrees, statistic)


def bennett_bound(t: Any, v: Any, most: Any, h: Any) -> Any:
    """A bound of the probability that the mean of ``h`` independent values of mean 0, mean square ``v`` and no more than ``most`` lies
    further than ``t`` from 0, on either side (Bennett, *Journal of the American Statistical Association* 57, 1962); arrays for arrays.

    >>> bool(bennett_bound(0.1, 1.0, 1.0, 1000.0) > 0.0015)  # the normal distribution says 0.0016
    True
    """
    most = np.maximum(most, 1e-9)
    u = most * t / v
    return np.minimum(1.0, 2 * np.exp(-(h * v / most**2) * ((1 + u) * np.log1p(u) - u)))


def f_tails(degrees: float, blocks: float, statistics: NDArray[np.float64]) -> NDArray[np.float64]:
    """`f_tail` of many statistics."""
    tails: NDArray[np.float64] = _special().fdtrc(degrees, blocks, statistics)
    return tails


def f_tail(degrees: float, blocks: float, statistic: float) -> float:
    """The probability that an F variable exceeds the statistic. degrees, blocks : of its numerator and denominator."""
    return float(_special().fdtrc(degrees, blocks, statistic))


def binomial_tails(happened: int, of: int, share: float) -> tuple[float, float]:
    """The probabilities that a binomial variable is at least, and at most, ``happened``.

    >>> [round(p, 4) for p in binomial_tails(2, 2, 0.5)]
    [0.25, 1.0]
    """
    special = _special()
    above = float(special.bdtrc(happened - 1, of, share)) if happened > 0 else 1.0
    return above, float(special.bdtr(happened, of, share)) if of else 1.0


def normal_probability(z: NDArray[np.float64]) -> NDArray[np.float64]:
    """The probability that a standard normal variable is at most z."""
    probability: NDArray[np.float64] = _special().ndtr(z)
    return probability


def normal_quantile(probability: NDArray[np.float64]) -> NDArray[np.float64]:
    """The value that a standard normal variable does not exceed with this probability."""
    quantile: NDArray[np.float64] = _special().ndtri(probability)
    return quantile
