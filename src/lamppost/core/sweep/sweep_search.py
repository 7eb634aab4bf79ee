"""Says what a sweep measures next, from what it has measured. Whoever drives it measures; a sweep that was stopped goes on from its
measurements alone.

A sweep goes in rounds, each of which measures every setting that is still of interest once, in another order. The first round measures the
usual setting of each version and form, and what differs from it by one value. Each later round drops the settings that another one beats at
everything, adds the neighbours of the best ones, and repeats what is left: the more often, the more it matters for the pick.
"""

from __future__ import annotations

from collections.abc import Sequence
from hashlib import sha256

from lamppost.core.sweep.measurement import Measurement, SettingSummary, compare_settings, frontier, summarize
from lamppost.core.sweep.sweep_pick import better, is_within
from lamppost.core.sweep.sweep_plan import SweepGrid, SweepPlan, SweepSetting

REPEATS = 3
MOST_REPEATS = 9
_CLEAR = 1.3
"""A setting measured once is left when another one is so many times better at both throughput and p99."""
_MORE_MEMORY = 1.1
_RIVALS = 4
_NEAR = 0.8
"""A setting whose goal is within this part of the best one's is worth a look at its neighbours."""


def next_settings(plan: SweepPlan, grid: SweepGrid, measured: Sequence[Measurement]) -> tuple[int, list[SweepSetting]]:
    """The round that is to be measured, and what of it is still to do, in order; nothing where the search wants to know no more."""
    last = max((one.round for one in measured), default=0)
    if last:
        before = [one for one in measured if one.round < last]
        done = {one.setting for one in measured if one.round == last}
        left = [setting for setting in _round(plan, grid, before, last) if setting not in done]
        if left:
            return last, left
    return last + 1, _round(plan, grid, measured, last + 1)


def _round(plan: SweepPlan, grid: SweepGrid, measured: Sequence[Measurement], number: int) -> list[SweepSetting]:
    if not measured:
        usual = grid.usual()
        around = [neighbour for setting in usual for neighbour in grid.neighbours(setting)]
        wanted = dict.fromkeys([*usual, *_spread(grid, usual), *around])
    else:
        summaries = summarize(measured)
        known = [one for one in summaries.values() if one.rounds]
        alive = [one for one in known if not any(_beats(other, one) for other in known if other is not one)]
        wanted = dict.fromkeys(
            [
                *(one.setting for one in alive if len(one.rounds) < REPEATS),
                *(one.setting for one in _contenders(plan, alive) if len(one.rounds) < MOST_REPEATS),
            ]
        )
        for one in _promising(plan, alive):
            wanted.update(dict.fromkeys(near for near in grid.neighbours(one.setting) if near not in summaries))
        if wanted:  # whoever is compared with the best one needs rounds in common with it
            wanted.update(dict.fromkeys(one.setting for one in better(plan.goal, _within(plan, alive))[:1]))
    return sorted(wanted, key=lambda setting: sha256(f"{number} {setting}".encode()).digest())  # another order in each round


def _spread(grid: SweepGrid, usual: Sequence[SweepSetting]) -> list[SweepSetting]:
    """The usual settings with the least and the most rows of a batch, however many steps these are away."""
    return [
        SweepSetting(one.version, one.form, rows, one.linger_ms, one.copies, one.threads)
        for one in usual
        for rows in (grid.max_rows[0], grid.max_rows[-1])
    ]


def _beats(one: SettingSummary, other: SettingSummary) -> bool:
    """Whether a setting is better than another at throughput and p99, beyond what chance would do, and holds hardly more memory."""
    if one.figure("memory") > _MORE_MEMORY * other.figure("memory"):
        return False
    more, slower = compare_settings(one, other, "throughput"), compare_settings(one, other, "p99")
    if min(len(one.rounds), len(other.rounds)) < REPEATS:
        return more.ratio > _CLEAR and slower.ratio < 1 / _CLEAR
    return more.low is not None and more.low > 1 and slower.high is not None and slower.high < 1


def _within(plan: SweepPlan, alive: Sequence[SettingSummary]) -> list[SettingSummary]:
    return [one for one in alive if is_within(one, plan.limits)] or list(alive)


def _contenders(plan: SweepPlan, alive: Sequence[SettingSummary]) -> list[SettingSummary]:
    """The best setting within the limits, those that cannot be told apart from it yet, and what would be best without limits."""
    ranked = better(plan.goal, _within(plan, alive))
    if not ranked:
        return []
    best = ranked[0]
    rivals = [one for one in ranked[1:] if not compare_settings(one, best, plan.goal).differs][:_RIVALS]
    unlimited = better(plan.goal, alive)[:1] if len(ranked) < len(alive) and len(best.rounds) <= REPEATS else []
    return [best, *rivals, *unlimited] if rivals or len(best.rounds) < REPEATS else unlimited


def _promising(plan: SweepPlan, alive: Sequence[SettingSummary]) -> list[SettingSummary]:
    """The settings whose neighbours are worth a look: those on the frontier that come near the best one within the limits."""
    ranked = better(plan.goal, _within(plan, alive))
    if not ranked:
        return []
    edge = frontier(alive)
    best = ranked[0].figure(plan.goal)
    near = [one for one in ranked if min(one.figure(plan.goal), best) >= _NEAR * max(one.figure(plan.goal), best)]
    return [one for one in near if one.setting in edge or one is ranked[0]]
