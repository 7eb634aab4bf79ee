"""Chooses a few calls out of many, evenly, by the times at which calls came."""

from __future__ import annotations

from collections.abc import Sequence


def draw_instants(counts: Sequence[tuple[float, int]], step_s: float, many: int) -> list[float]:
    """Instants that cut calls into as many parts of the same number: whoever takes the next call after each has drawn evenly.

    counts : (start in seconds, calls) of steps of time, in order. step_s : length of a step, over which its calls lie evenly.

    >>> draw_instants([(0.0, 10), (10.0, 0), (20.0, 30)], 10.0, 4)
    [0.0, 20.0, 23.333333333333332, 26.666666666666668]
    """
    total = sum(calls for _, calls in counts)
    instants: list[float] = []
    before = 0
    for start, calls in counts:
        while len(instants) < min(many, total) and (next_call := len(instants) * total / min(many, total)) < before + calls:
            instants.append(start + step_s * (next_call - before) / calls)
        before += calls
    return instants
