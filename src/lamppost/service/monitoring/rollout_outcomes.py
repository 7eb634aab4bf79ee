"""Counts for rollouts in how many calls the answer was right and wrong, as outcomes become known."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Hashable, Sequence
from datetime import UTC, datetime
from typing import TypeVar

from lamppost.core.endpoint.outposts import brought_by_outpost
from lamppost.core.endpoint.rollout_counts import read_counted_rollout
from lamppost.core.endpoint.rollout_guards import StepCounts
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.monitoring.known_truth import answer_is_right, truth_field_of
from lamppost.store import endpoints, outcomes, rollouts
from lamppost.store.database import Pool
from lamppost.store.hub import outpost_rollouts
from lamppost.store.outcomes import KnownOutcome

Place = TypeVar("Place", bound=Hashable)


async def feed_rollouts(pool: Pool, deployment: Deployment, endpoint: str) -> None:
    """Store what is known by now for the rollouts of an endpoint that go on, here and over outposts."""
    await _feed_rollout(pool, deployment, endpoint)
    await _feed_outpost_rollout(pool, deployment, endpoint)


async def _feed_rollout(pool: Pool, deployment: Deployment, endpoint: str) -> None:
    going = await rollouts.latest_rollouts(pool, endpoint)
    if not going or going[0].ended_at is not None:
        return
    rollout, number = going[0].rollout, going[0].number
    past = await endpoints.endpoint_history(pool, endpoint, 100)
    steps = [
        (earlier.since, read_counted_rollout(earlier.counted).step) for earlier in past if earlier.rollout == number and earlier.counted
    ]
    first = min((since for since, _ in steps), default=None)
    if first is None:
        return

    def step_of(outcome: KnownOutcome) -> int | None:
        if outcome.brought_by is not None:
            return None
        return next((step for since, step in steps if since <= outcome.at), None)  # the newest change comes first

    shares = {step: rollout.plan.steps[step].share for _, step in steps}
    known = await outcomes.outcomes_between(pool, endpoint, first, datetime.max.replace(tzinfo=UTC))
    counts = await _judged(pool, deployment, endpoint, (rollout.old, rollout.new), known, step_of)
    for step, judged in counts.items():
        judged.share = shares[step]
        await rollouts.save_node_counts(pool, number, step, "outcomes", judged)


async def _feed_outpost_rollout(pool: Pool, deployment: Deployment, endpoint: str) -> None:
    going = await outpost_rollouts.latest_outpost_rollouts(pool, endpoint, 1)
    if not going or going[0].ended_at is not None:
        return
    rollout, number = going[0].rollout, going[0].number
    async with pool.connection() as connection:
        turns = {brought_by_outpost(turn.outpost): turn for turn in (await outpost_rollouts.list_turns(connection, [number]))[number]}
    if not turns:
        return

    def outpost_of(outcome: KnownOutcome) -> str | None:
        turn = turns.get(outcome.brought_by or "")
        there = turn is not None and turn.since <= outcome.at and (turn.until is None or outcome.at < turn.until)
        return turn.outpost if turn is not None and there else None

    first = min(turn.since for turn in turns.values())
    known = await outcomes.outcomes_between(pool, endpoint, first, datetime.max.replace(tzinfo=UTC))
    counts = await _judged(pool, deployment, endpoint, (rollout.old, rollout.new), known, outpost_of)
    for judged in counts.values():
        judged.share = rollout.plan.step.share
    await outpost_rollouts.save_judged_counts(pool, number, counts)


async def _judged(
    pool: Pool,
    deployment: Deployment,
    endpoint: str,
    versions: tuple[str, str],
    known: Sequence[KnownOutcome],
    place_of: Callable[[KnownOutcome], Place | None],
) -> dict[Place, StepCounts]:
    """Right and wrong answers of the old and the new version by place, by the first row of a call that is known, because rows of one call
    are not independent.
    """
    fields = {version: await truth_field_of(pool, deployment, endpoint, version) for version in versions}
    counts: dict[Place, StepCounts] = defaultdict(lambda: StepCounts(0.0))
    counted = set()
    for outcome in known:
        if outcome.version not in versions or outcome.shadow or outcome.place in counted:
            continue
        place = place_of(outcome)
        if place is None:
            continue
        counted.add(outcome.place)
        arm = versions.index(outcome.version)
        field, spread = fields[outcome.version]
        counts[place].judged[arm] += 1
        counts[place].wrong[arm] += not answer_is_right(outcome.judged.answer.get(field.name), outcome.judged.truth, field, spread)
    return counts
