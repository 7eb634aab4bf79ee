"""Stored values about changes as the API tells them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from lamppost.core.rollout import Counts
from lamppost.service.shapes_changes import BackShape, ReadingShape, ReviewShape, RolloutShape
from lamppost.store.endpoints import Split
from lamppost.store.reviews import Review
from lamppost.store.rollouts import Stored


def rollout_shape(stored: Stored, steps: Sequence[Counts]) -> RolloutShape:
    """A rollout with what was counted at its steps."""
    rollout = stored.rollout
    return RolloutShape(
        number=stored.number,
        endpoint=stored.endpoint,
        old=rollout.old,
        new=rollout.new,
        plan=rollout.plan,
        sticky=rollout.sticky,
        step=rollout.step,
        state=rollout.state,
        why=rollout.why,
        readings=[ReadingShape.model_validate(one) for one in stored.readings],
        calls=[list(step.calls) for step in steps],
        begun_by=stored.begun_by,
        begun_at=stored.begun_at,
        step_since=stored.step_since,
        ended_at=stored.ended_at,
    )


def back_shape(split: Split) -> BackShape:
    """What going back would return to."""
    return BackShape(revision=split.revision, says=split.setup.says(), version=str(split.version), since=split.since)


def review_shape(review: Review) -> ReviewShape:
    """A review with its verdicts."""
    return ReviewShape.model_validate(asdict(review))
