"""Picks the best setting within limits from what was measured, and says what it was chosen from. Measures nothing, so it can be asked again
with any limit.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from lamppost.core.sweep.measurement import LEAST_ROUNDS, SettingRatio, SettingSummary, compare_settings
from lamppost.core.sweep.sweep_plan import Goal, Limit, SweepSetting, figure_text

_ALIKE = 0.1
"""Settings that chance could explain are called equal only if they lie so close: with a few noisy repeats it could explain anything."""


@dataclass(frozen=True, slots=True)
class SweepPick:
    """pick : the best setting within the limits, None where nothing meets them.

    equals : settings that cannot be told apart from it and are less plain. second : the best of those that can.
    unlimited : what would be best without limits. nearest : where nothing meets the limits, what comes nearest to them, and missed : the
    limits that it misses. doubtful : limits that the pick meets by its median, but not in each repeat.
    """

    pick: SettingSummary | None
    equals: tuple[SettingSummary, ...] = ()
    second: SettingSummary | None = None
    unlimited: SettingSummary | None = None
    nearest: SettingSummary | None = None
    missed: tuple[Limit, ...] = ()
    doubtful: tuple[Limit, ...] = ()


def meets(value: float, limit: Limit) -> bool:
    """Whether a figure keeps a limit."""
    return value >= limit.value if limit.figure == "throughput" else value <= limit.value


def is_within(one: SettingSummary, limits: Sequence[Limit]) -> bool:
    """Whether a setting keeps all limits, by its medians."""
    return all(meets(one.figure(limit.figure), limit) for limit in limits)


def better(goal: Goal, settings: Sequence[SettingSummary]) -> list[SettingSummary]:
    """The settings from the best on: the most throughput, or the least of any other figure."""
    sign = -1 if goal == "throughput" else 1
    return sorted(settings, key=lambda one: (sign * one.figure(goal), one.setting.plainness))


def pick_setting(measured: Sequence[SettingSummary], limits: Sequence[Limit], goal: Goal) -> SweepPick:
    """The pick among the settings that have figures."""
    known = [one for one in measured if one.rounds]
    if not known:
        return SweepPick(None)
    unlimited = _plainest_of_best(goal, known)[0]
    within = [one for one in known if is_within(one, limits)]
    if not within:
        nearest = min(known, key=lambda one: (_excess(one, limits), one.setting.plainness))
        missed = tuple(limit for limit in limits if not meets(nearest.figure(limit.figure), limit))
        return SweepPick(None, unlimited=unlimited, nearest=nearest, missed=missed)
    pick, *equals = _plainest_of_best(goal, within)
    chosen = {one.setting for one in (pick, *equals)}
    second = next((one for one in better(goal, within) if one.setting not in chosen), None)
    doubtful = tuple(limit for limit in limits if not all(meets(value, limit) for value in pick.values(limit.figure)))
    return SweepPick(pick, tuple(equals), second, unlimited, doubtful=doubtful)


def _plainest_of_best(goal: Goal, settings: Sequence[SettingSummary]) -> list[SettingSummary]:
    """The best setting and its equals, the plainest first."""
    best, *others = better(goal, settings)
    return sorted([best, *(one for one in others if are_equal(best, one, goal))], key=lambda one: one.setting.plainness)


def are_equal(one: SettingSummary, other: SettingSummary, goal: Goal) -> bool:
    """Whether two settings cannot be told apart: chance may explain their difference, and it is small."""
    found = compare_settings(one, other, goal)
    ratios = found.ratio, one.figure(goal) / max(other.figure(goal), 1e-9)
    return not found.differs and all(1 / (1 + _ALIKE) <= ratio <= 1 + _ALIKE for ratio in ratios)


def _excess(one: SettingSummary, limits: Sequence[Limit]) -> float:
    """By how many times a setting misses the limit that it misses most."""
    ratios = []
    for limit in limits:
        value = one.figure(limit.figure)
        ratios.append(limit.value / max(value, 1e-9) if limit.figure == "throughput" else value / limit.value)
    return max(ratios)


def pick_sentences(pick: SweepPick, limits: Sequence[Limit], goal: Goal, many_versions: bool = False) -> list[str]:
    """What is to be said of a pick, the most important first."""
    said = " and ".join(limit.sentence() for limit in limits)
    within = f" with {said}" if limits else ""

    def words(setting: SweepSetting) -> str:
        return setting.sentence(many_versions)

    if pick.pick is None:
        if pick.nearest is None:
            return ["nothing was measured that could be picked from"]
        misses = ", ".join(f"its {limit.figure} is {figure_text(limit.figure, pick.nearest.figure(limit.figure))}" for limit in pick.missed)
        return [f"no setting has {said}; nearest is {words(pick.nearest.setting)}: {misses}"]
    best = pick.pick
    lines = [
        f"{words(best.setting)}: {figure_text('throughput', best.figure('throughput'))}, p99 {figure_text('p99', best.figure('p99'))}, "
        f"{figure_text('memory', best.figure('memory'))}; the {'most' if goal == 'throughput' else 'least'} {goal}{within}"
    ]
    if len(best.rounds) < LEAST_ROUNDS:
        lines.append(f"it was measured {'once' if len(best.rounds) == 1 else 'twice'} only; resume the sweep to be surer")
    if pick.doubtful:
        lines.append(
            "not in each repeat: "
            + ", ".join(f"{limit.figure} went up to {figure_text(limit.figure, _worst(best, limit))}" for limit in pick.doubtful)
        )
    if pick.equals:
        others = "; ".join(words(one.setting) for one in pick.equals[:3])
        more = f"; {len(pick.equals) - 3} more" if len(pick.equals) > 3 else ""
        lines.append(f"equal to it as far as can be told, and less plain: {others}{more}")
    if pick.second is not None:
        found = compare_settings(best, pick.second, goal)
        lines.append(f"second: {words(pick.second.setting)} ({_ratio_text(found, goal)})")
    if pick.unlimited is not None and limits and pick.unlimited.setting != best.setting:
        free = pick.unlimited
        figures = ", ".join(
            dict.fromkeys(f"{name} {figure_text(name, free.figure(name))}" for name in (goal, *(limit.figure for limit in limits)))
        )
        lines.append(f"without limits: {words(free.setting)} ({figures})")
    return lines


def _worst(one: SettingSummary, limit: Limit) -> float:
    values = one.values(limit.figure)
    return float(min(values) if limit.figure == "throughput" else max(values))


def _ratio_text(found: SettingRatio, goal: Goal) -> str:
    if found.low is None or found.high is None:
        return f"the pick has {found.ratio:.2f} × its {goal}; the two have too few rounds in common to be told apart"
    return f"the pick has {found.ratio:.2f} × its {goal}, 95 % interval {found.low:.2f} to {found.high:.2f}"
