"""Matches outcomes with recorded answers, stores them, and computes the quality of answers."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from lamppost.core.endpoint.agreement import main_answer
from lamppost.core.endpoint.rollout import StepCounts
from lamppost.core.endpoint.rollout_counts import read_counted_rollout
from lamppost.core.errors import BadRequest, LampPostError
from lamppost.core.monitoring.quality import estimate_as_json, estimate_mean, estimate_share, is_number, is_right, quality_figures
from lamppost.core.names import closest_name, parse_version
from lamppost.core.payload.recorded_bodies import answer_rows, request_rows
from lamppost.core.schema.fields import Field, Schema, find_field
from lamppost.service.deployment.deployment import Deployment
from lamppost.store import endpoints, outcomes, packages, rollouts
from lamppost.store.database import Pool
from lamppost.store.outcomes import AnsweredCall, KnownOutcome, Outcome

_MOST_SLICED = 8
_MOST_VALUE = 60
SINCE = timedelta(days=30)
"""Back to when keys and figures are sought, where nothing else is said."""


@dataclass(frozen=True, slots=True)
class ToldOutcome:
    """What somebody tells. request_id and row say of which answer; or key, a value of a field, of the latest that had it."""

    truth: Any
    request_id: UUID | None = None
    row: int = 0
    key: str | None = None


@dataclass(frozen=True, slots=True)
class StoredOutcomes:
    """new : outcomes that were stored or changed. unknown : places in what was told of those that no recorded answer belongs to."""

    new: int
    known: int
    unknown: list[int]


async def store_told_outcomes(
    pool: Pool,
    deployment: Deployment,
    endpoint: str,
    told: Sequence[ToldOutcome],
    key: str | None,
    span: tuple[datetime, datetime],
    by: str,
) -> StoredOutcomes:
    """Store the truth about answers of an endpoint; raise BadRequest, and store nothing, where one cannot be a truth."""
    route = deployment.table.find_route(endpoint)
    names = [str(version) for version in route.setup.versions]
    field, _ = await _truth(pool, deployment, endpoint, names[0])
    for at, one in enumerate(told):
        _check(field, one.truth, at)
    found, unknown = await (_by_key(pool, endpoint, key, told, span) if key is not None else _by_id(pool, endpoint, told))
    named = {made.of.version: await _truth(pool, deployment, endpoint, made.of.version.partition(", ")[0]) for made in found}
    judged = []
    for made in found:
        of, spread = named[made.of.version]
        judged.append(replace(made, correct=_right(made.said.get(of.name), made.truth, of, spread)))
    stored = await outcomes.store_outcomes(pool, judged, by)
    if stored:
        await feed_rollout(pool, endpoint, field.name)
    return StoredOutcomes(stored, len(found), unknown)


def truth_field(answers: Schema, name: str | None) -> Field:
    """The answer that outcomes are about."""
    if name is None:
        return main_answer(answers)
    field = find_field(answers, name)
    if field is None:
        raise BadRequest(f"watch.truth is {name!r}, which is no answer; there are {', '.join(answers.names)}")
    return field


def _check(field: Field, truth: Any, at: int) -> None:
    if field.kind in ("number", "integer"):
        if not is_number(truth):
            raise BadRequest(f"outcome {at}: the truth is {truth!r}, and {field.name} is {field.expected_text()}; nothing was stored")
    elif field.kind == "choice" and str(truth) not in field.choices:
        like = closest_name(str(truth), field.choices)
        hint = f"; did you mean {like}?" if like else ""
        raise BadRequest(f"outcome {at}: the truth is {truth!r}, and {field.name} is {field.expected_text()}{hint} Nothing was stored.")
    elif not isinstance(truth, (str, bool, int, float)):
        raise BadRequest(f"outcome {at}: the truth is no single value; nothing was stored")


async def _by_id(pool: Pool, endpoint: str, told: Sequence[ToldOutcome]) -> tuple[list[Outcome], list[int]]:
    calls: dict[UUID, list[AnsweredCall]] = defaultdict(list)
    for call in await outcomes.answered_calls(pool, [one.request_id for one in told if one.request_id is not None]):
        if call.endpoint == endpoint:
            calls[call.request_id].append(call)
    found, unknown = [], []
    for at, one in enumerate(told):
        made = [outcome_of_row(call, one.row, one.truth) for call in calls.get(one.request_id, [])] if one.request_id else []
        there = [outcome for outcome in made if outcome is not None]
        found += there
        if not there:
            unknown.append(at)
    return found, unknown


async def _by_key(
    pool: Pool, endpoint: str, key: str, told: Sequence[ToldOutcome], span: tuple[datetime, datetime]
) -> tuple[list[Outcome], list[int]]:
    """The latest answer of the span that had each key, with what shadows said to it."""
    wanted = {str(one.key): at for at, one in enumerate(told) if one.key is not None}
    places: dict[str, tuple[UUID, int]] = {}
    for call in await outcomes.calls_by_key(pool, endpoint, key, list(wanted), *span):
        for row, asked in enumerate(request_rows(call.input)):
            value = str(asked.get(key))
            if value in wanted and value not in places:
                places[value] = (call.request_id, row)
    by_id = [ToldOutcome(told[wanted[value]].truth, request_id, row) for value, (request_id, row) in places.items()]
    found, _ = await _by_id(pool, endpoint, by_id)
    return found, [at for at, one in enumerate(told) if one.key is None or str(one.key) not in places]


def outcome_of_row(call: AnsweredCall, row: int, truth: Any) -> Outcome | None:
    """The outcome of one row of a call; None where the call has no such row, or its answer was not kept."""
    said, asked = answer_rows(call.answer), request_rows(call.input)
    if not 0 <= row < len(said):
        return None
    slices: dict[str, Any] = {}
    if row < len(asked):
        for name, value in asked[row].items():
            if isinstance(value, (str, bool)) and len(str(value)) <= _MOST_VALUE and len(slices) < _MOST_SLICED:
                slices[name] = value
    return Outcome(call, row, truth, said[row], slices)


async def feed_rollout(pool: Pool, endpoint: str, answer: str) -> None:
    """Tell a rollout that goes on what is known of its steps."""
    going = await rollouts.latest_rollouts(pool, endpoint)
    if not going or going[0].ended_at is not None:
        return
    rollout, number = going[0].rollout, going[0].number
    past = await endpoints.endpoint_history(pool, endpoint, 100)
    steps = [
        (earlier.since, read_counted_rollout(earlier.counted).step) for earlier in past if earlier.rollout == number and earlier.counted
    ]
    counts: dict[int, StepCounts] = {}
    first = min((since for since, _ in steps), default=None)
    if first is None:
        return
    for one in await outcomes.outcomes_between(pool, endpoint, first, datetime.max.replace(tzinfo=first.tzinfo)):
        arm = {rollout.old: 0, rollout.new: 1}.get(one.version)
        step = next((step for since, step in steps if since <= one.at), None)  # the newest change comes first
        if arm is None or step is None or one.shadow:
            continue
        held = counts.setdefault(step, StepCounts(rollout.plan.steps[step].share))
        held.judged[arm] += 1
        held.wrong[arm] += not is_right(one.told.said.get(answer), one.told.truth)
    for step, held in counts.items():
        await rollouts.save_node_counts(pool, number, step, "outcomes", held)


# -- figures ------------------------------------------------------------------------------------------------------------


def _right(said: Any, truth: Any, field: Field, spread: float | None) -> bool:
    if field.kind in ("number", "integer"):
        return said is not None and is_number(said) and abs(float(said) - float(truth)) <= 0.1 * (spread or 0.0)
    return is_right(said, truth)


async def _truth(pool: Pool, deployment: Deployment, endpoint: str, version: str) -> tuple[Field, float | None]:
    lamp = await deployment.package_cache.lamp_of((await packages.get_version(pool, parse_version(version))).digest)
    route = deployment.table.by_endpoint.get(endpoint)
    field = truth_field(lamp.manifest.answers, route.setup.watch.truth if route is not None else None)
    profiles = lamp.reference.answers if lamp.reference is not None else ()
    return field, next((profile.sd for profile in profiles if profile.name == field.name), None)


async def quality_page(
    pool: Pool, deployment: Deployment, endpoint: str, since: datetime, until: datetime, bins: int = 24
) -> dict[str, Any]:
    """Quality by version, how much is known, and over time."""
    found = await outcomes.outcomes_between(pool, endpoint, since, until)
    answered = await outcomes.count_answered_rows(pool, endpoint, since, until)
    by_version: dict[tuple[str, bool], list[KnownOutcome]] = defaultdict(list)
    for one in found:
        by_version[one.version, one.shadow].append(one)
    versions = []
    for (version, shadow), known in sorted(by_version.items(), key=lambda pair: (pair[0][1], -len(pair[1]))):
        try:
            field, spread = await _truth(pool, deployment, endpoint, version)
        except LampPostError:
            continue
        numbers = field.kind in ("number", "integer")
        told = [one.told for one in known]
        late = sorted((one.told_at - one.at).total_seconds() for one in known)
        versions.append(
            {
                "version": version,
                "shadow": shadow,
                "answer": field.name,
                "known": len(known),
                "answered": answered.get(version, len(known)),
                "late_s": late[len(late) // 2],
                **await asyncio.to_thread(quality_figures, told, field.name, numbers, spread),
                "over_time": _over_time(known, field, since, until, bins),
            }
        )
    return {"endpoint": endpoint, "since": since, "until": until, "versions": versions, "says": _says(endpoint, versions)}


def _over_time(known: Sequence[KnownOutcome], field: Field, since: datetime, until: datetime, bins: int) -> list[dict[str, Any]]:
    step = (until - since) / bins
    cells: dict[int, list[KnownOutcome]] = defaultdict(list)
    for one in known:
        cells[min(bins - 1, int((one.at - since) / step))].append(one)
    out = []
    for at, cell in sorted(cells.items()):
        if field.kind in ("number", "integer"):
            errors = [
                abs(float(one.told.said[field.name]) - float(one.told.truth)) for one in cell if is_number(one.told.said.get(field.name))
            ]
            made = estimate_mean(errors)
        else:
            made = estimate_share(sum(is_right(one.told.said.get(field.name), one.told.truth) for one in cell), len(cell))
        out.append({"at": since + at * step, "figure": estimate_as_json(made)})
    return out


def _says(endpoint: str, versions: list[dict[str, Any]]) -> str:
    if not versions:
        return f"Nothing is known yet. Tell it: lamppost outcome {endpoint} REQUEST_ID TRUTH"
    one = versions[0]
    share = 100 * one["known"] / max(1, one["answered"])
    known = f"{one['known']:,} of {one['answered']:,} answers of {one['version']} are known ({share:.0f} %)"
    main = one["accuracy"] if one["kind"] == "labels" else one["absolute_error"]
    if main is None:
        return f"{known}."
    if one["kind"] == "labels":
        return f"{100 * main['value']:.1f} % right ({100 * main['low']:.1f} to {100 * main['high']:.1f} %); {known}."
    span = "" if main["low"] is None else f" ({main['low']:.3g} to {main['high']:.3g})"
    return f"Off by {main['value']:.3g} on average{span}; {known}."
