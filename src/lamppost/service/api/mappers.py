"""Maps stored rollouts, revisions and reviews to API schemas."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict

from lamppost.core.endpoint.rollout_guards import StepCounts
from lamppost.service.api.schemas.endpoints import RollbackTargetAnswer
from lamppost.service.api.schemas.reviews import ReviewAnswer
from lamppost.service.api.schemas.rollouts import GuardReadingAnswer, RolloutAnswer
from lamppost.store.endpoints import EndpointRevision
from lamppost.store.reviews import Review
from lamppost.store.rollouts import StoredRollout


def rollout_answer(stored: StoredRollout, steps: Sequence[StepCounts]) -> RolloutAnswer:
    """A rollout with what was counted at its steps."""
    rollout = stored.rollout
    return RolloutAnswer(
        number=stored.number,
        endpoint=stored.endpoint,
        old=rollout.old,
        new=rollout.new,
        plan=rollout.plan,
        sticky=rollout.sticky,
        step=rollout.step,
        state=rollout.state,
        reason=rollout.reason,
        readings=[GuardReadingAnswer.model_validate(reading) for reading in stored.readings],
        calls=[list(step.calls) for step in steps],
        begun_by=stored.begun_by,
        begun_at=stored.begun_at,
        step_since=stored.step_since,
        ended_at=stored.ended_at,
    )


def rollback_target(revision: EndpointRevision) -> RollbackTargetAnswer:
    """The revision that a rollback would restore."""
    return RollbackTargetAnswer(
        revision=revision.revision, summary=revision.setup.summary(), version=str(revision.version), since=revision.since
    )


def review_answer(review: Review) -> ReviewAnswer:
    """A review with its verdicts."""
    return ReviewAnswer.model_validate(asdict(review))
