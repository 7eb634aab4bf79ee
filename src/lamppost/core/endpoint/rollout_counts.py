"""Counts on one node what the guards of a rollout need: failures, latencies, labels, disagreements."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from functools import cache, partial
from secrets import token_hex
from typing import Any

from pydantic import TypeAdapter

from lamppost.core.artifact.reference import Reference
from lamppost.core.endpoint.agreement import answers_differ, main_answer
from lamppost.core.endpoint.caller_counts import StickyCallers
from lamppost.core.endpoint.rollout import Rollout
from lamppost.core.endpoint.rollout_guards import RolloutGuards, StepCounts
from lamppost.core.endpoint.shares import Shares
from lamppost.core.monitoring.latency_histogram import bucket_of
from lamppost.core.schema.fields import Schema, find_field
from lamppost.core.schema.value_kinds import choice_text


@dataclass(frozen=True, slots=True)
class CountedRollout:
    """What is counted for a step of a rollout. old, new : versions. share : percent of calls for the new one. answer : the answer field
    whose distribution is counted. edges : inner edges of its bins for a number, by the old version's reference. scale, tolerance : numbers
    further apart than their product disagree. compare : whether both versions get the same rows. sticky : whether callers are kept with a
    version.
    """

    rollout: int
    step: int
    old: str
    new: str
    share: float
    answer: str
    edges: tuple[float, ...]
    scale: float | None
    tolerance: float
    compare: bool
    sticky: bool = False

    def cell(self, answer: Mapping[str, Any]) -> str:
        """The label of an answer, or the bin that its number falls into."""
        value = answer.get(self.answer)
        if isinstance(value, (int, float)) and not isinstance(value, bool) and self.edges:
            at = bisect_left(self.edges, value)
            low = "" if at == 0 else f"above {self.edges[at - 1]:.3g}"
            high = "" if at == len(self.edges) else f"up to {self.edges[at]:.3g}"
            return f"{self.answer} {low}{' ' if low and high else ''}{high}"
        return "missing" if value is None else choice_text(value)[:80]


def counted_rollout(rollout: Rollout, number: int, answers: Schema, reference: Reference | None) -> CountedRollout:
    """What is to be counted at a step. answers, reference : of the old version."""
    share = rollout.shares.of.get(rollout.new, 0.0)
    counted = counted_versions(rollout.old, rollout.new, share, rollout.plan.guards, answers, reference)
    return replace(counted, rollout=number, step=rollout.step, sticky=rollout.sticky is not None)


def counted_versions(
    old: str, new: str, share: float, guards: RolloutGuards, answers: Schema, reference: Reference | None
) -> CountedRollout:
    """What is to be counted of two versions, in the first step of a rollout without a number. answers, reference : of the old version."""
    field = main_answer(answers)
    profile = next((candidate for candidate in (reference.answers if reference else ()) if candidate.name == field.name), None)
    edges = tuple(sorted(set(profile.quantiles[2:-2:2]))) if profile is not None and field.kind == "number" else ()
    scale = profile.sd if profile is not None else None
    return CountedRollout(0, 0, old, new, share, field.name, edges, scale, guards.tolerance, guards.disagreement is not None)


class RolloutTally:
    """Counts of one node since the last `take_counts`. answers : of the old version, only needed where answers are compared."""

    def __init__(self, rollout: CountedRollout, answers: Schema | None = None) -> None:
        self.rollout = rollout
        self._field = None if answers is None else find_field(answers, rollout.answer) or main_answer(answers)
        shares = Shares({rollout.old: 100.0 - rollout.share, rollout.new: rollout.share})
        self._share_reaching = partial(shares.share_reaching, version=rollout.new)
        self._counts = self._no_counts()
        self._without_key, self._own = 0, token_hex(8)

    def _no_counts(self) -> StepCounts:
        return StepCounts(self.rollout.share, callers=StickyCallers() if self.rollout.sticky else None)

    def answered(self, version: str, ms: float, answers: list[dict[str, Any]], key: str | None = None) -> None:
        """Count a call that a version answered, by its first row, because rows of one call are not independent. key : of its caller."""
        arm, counts = self._arm(version), self._counts
        if arm is None:
            return
        counts.calls[arm] += 1
        bucket = str(bucket_of(ms * 1e3))
        counts.latency[arm][bucket] = counts.latency[arm].get(bucket, 0) + 1
        cell = self.rollout.cell(answers[0]) if answers and self.rollout.answer in answers[0] else None
        if cell is not None:
            labels = counts.answers[arm]
            if cell in labels or len(labels) < 64:
                labels[cell] = labels.get(cell, 0) + 1
        if counts.callers is not None:
            self._without_key += key is None
            caller = key if key is not None else f"{self._own} {self._without_key}"  # nothing keeps it with a version: a caller of its own
            counts.callers.note(caller, arm, cell, self._share_reaching)

    def failed(self, version: str) -> None:
        """Count a call that a version failed."""
        arm = self._arm(version)
        if arm is not None:
            self._counts.calls[arm] += 1
            self._counts.failed[arm] += 1

    def compared(self, old_answers: list[dict[str, Any]], new_answers: list[dict[str, Any]]) -> None:
        """Count the answers of both versions to the same rows, by their first row."""
        if self._field is not None and old_answers and new_answers:
            self._counts.compared += 1
            name = self.rollout.answer
            self._counts.apart += answers_differ(
                self._field, old_answers[0].get(name), new_answers[0].get(name), self.rollout.scale, self.rollout.tolerance
            )

    def take_counts(self) -> StepCounts | None:
        """The counts since the last call of this method; None if nothing was counted."""
        counts, self._counts = self._counts, self._no_counts()
        return None if counts.empty else counts

    def _arm(self, version: str) -> int | None:
        return 1 if version == self.rollout.new else 0 if version == self.rollout.old else None


@cache
def _adapter() -> TypeAdapter[CountedRollout]:
    return TypeAdapter(CountedRollout)


def write_counted_rollout(counted: CountedRollout) -> dict[str, Any]:
    """As JSON has it."""
    return asdict(counted)


def read_counted_rollout(data: Any) -> CountedRollout:
    """What `write_counted_rollout` wrote."""
    return _adapter().validate_python(data)
