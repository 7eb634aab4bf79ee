"""Matches outcomes with recorded answers, stores them, and computes the quality of answers."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from lamppost.core.errors import BadRequest, Conflict, LampPostError
from lamppost.core.monitoring.quality import (
    JudgedAnswer,
    estimate_as_json,
    estimate_mean,
    estimate_share,
    is_number,
    is_right,
    quality_figures,
    told_otherwise,
)
from lamppost.core.names import closest_name
from lamppost.core.payload.recorded_bodies import answer_rows, request_rows
from lamppost.core.roles import MAY, Principal
from lamppost.core.schema.fields import Field
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.monitoring.known_truth import answer_is_right, truth_field_of
from lamppost.service.monitoring.rollout_outcomes import feed_rollouts
from lamppost.store import call_samples, outcomes
from lamppost.store.database import Pool
from lamppost.store.outcomes import AnsweredCall, KnownOutcome, Outcome

_MOST_SLICED = 8
_MOST_VALUE = 60
_SAMPLED = 1_000

SINCE = timedelta(days=30)
"""Back to when keys and figures are sought, where nothing else is said."""


@dataclass(frozen=True, slots=True)
class ReportedOutcome:
    """A reported truth. request_id and row identify the answer; or key, a value of an input field, identifies the latest answer with that
    value.
    """

    truth: Any
    request_id: UUID | None = None
    row: int = 0
    key: str | None = None


@dataclass(frozen=True, slots=True)
class StoredOutcomes:
    """The result of storing. new : outcomes that were stored or changed. known : outcomes that match an answer. unknown : indices of the
    others.
    """

    new: int
    known: int
    unknown: list[int]


async def store_reported_outcomes(
    pool: Pool,
    deployment: Deployment,
    endpoint: str,
    told_outcomes: Sequence[ReportedOutcome],
    key: str | None,
    span: tuple[datetime, datetime],
    by: Principal,
) -> StoredOutcomes:
    """Store the truth about answers of an endpoint; raise BadRequest, and store nothing, if one of them is no possible answer."""
    route = deployment.table.find_route(endpoint)
    names = [str(version) for version in route.setup.versions]
    field, _ = await truth_field_of(pool, deployment, endpoint, names[0])
    if field.private:
        raise Conflict(
            f"the answer {field.name!r} of {endpoint} is private, so neither answers nor truths are kept; choose another answer for "
            f"monitoring.truth: lamppost setup {endpoint}"
        )
    for at, told_outcome in enumerate(told_outcomes):
        _check_truth(field, told_outcome.truth, at)
    matched, unknown = await (
        _by_key(pool, endpoint, key, told_outcomes, span) if key is not None else _by_id(pool, endpoint, told_outcomes)
    )
    named = {
        outcome.of.version: await truth_field_of(pool, deployment, endpoint, outcome.of.version.partition(", ")[0]) for outcome in matched
    }
    judged = []
    for outcome in matched:
        of, spread = named[outcome.of.version]
        judged.append(replace(outcome, correct=answer_is_right(outcome.answer.get(of.name), outcome.truth, of, spread)))
    stored = await outcomes.store_outcomes(pool, judged, by.token, replace_others="point" in MAY[by.role])
    if stored:
        await feed_rollouts(pool, deployment, endpoint)
    return StoredOutcomes(stored, len(matched), unknown)


def _check_truth(field: Field, truth: Any, at: int) -> None:
    if field.kind in ("number", "integer"):
        if not is_number(truth):
            raise BadRequest(f"outcome {at}: the truth is {truth!r}, and {field.name} is {field.expected_text()}; nothing was stored")
    elif field.kind == "choice" and str(truth) not in field.choices:
        like = closest_name(str(truth), field.choices)
        hint = f"; did you mean {like}?" if like else ""
        raise BadRequest(f"outcome {at}: the truth is {truth!r}, and {field.name} is {field.expected_text()}{hint} Nothing was stored.")
    elif not isinstance(truth, (str, bool, int, float)):
        raise BadRequest(f"outcome {at}: the truth is no single value; nothing was stored")


async def _by_id(pool: Pool, endpoint: str, told_outcomes: Sequence[ReportedOutcome]) -> tuple[list[Outcome], list[int]]:
    calls: dict[UUID, list[AnsweredCall]] = defaultdict(list)
    for call in await outcomes.answered_calls(
        pool, [told_outcome.request_id for told_outcome in told_outcomes if told_outcome.request_id is not None]
    ):
        if call.endpoint == endpoint:
            calls[call.request_id].append(call)
    matched, unknown = [], []
    for at, told_outcome in enumerate(told_outcomes):
        of_row = (
            [outcome_of_row(call, told_outcome.row, told_outcome.truth) for call in calls.get(told_outcome.request_id, [])]
            if told_outcome.request_id
            else []
        )
        there = [outcome for outcome in of_row if outcome is not None]
        matched += there
        if not there:
            unknown.append(at)
    return matched, unknown


async def _by_key(
    pool: Pool, endpoint: str, key: str, told_outcomes: Sequence[ReportedOutcome], span: tuple[datetime, datetime]
) -> tuple[list[Outcome], list[int]]:
    """The latest answer in the span for each key, with the answers of shadows."""
    place_of_key = {str(told_outcome.key): at for at, told_outcome in enumerate(told_outcomes) if told_outcome.key is not None}
    places: dict[str, tuple[UUID, int]] = {}
    for call in await outcomes.calls_by_key(pool, endpoint, key, list(place_of_key), *span):
        for row, sent_row in enumerate(request_rows(call.input)):
            value = str(sent_row.get(key))
            if value in place_of_key and value not in places:
                places[value] = (call.request_id, row)
    by_id = [ReportedOutcome(told_outcomes[place_of_key[value]].truth, request_id, row) for value, (request_id, row) in places.items()]
    matched, _ = await _by_id(pool, endpoint, by_id)
    return matched, [at for at, told_outcome in enumerate(told_outcomes) if told_outcome.key is None or str(told_outcome.key) not in places]


def outcome_of_row(call: AnsweredCall, row: int, truth: Any) -> Outcome | None:
    """The outcome of one row of a call; None where the call has no such row, or its answer was not kept."""
    answers, sent_rows = answer_rows(call.answer), request_rows(call.input)
    if not 0 <= row < len(answers):
        return None
    slices: dict[str, Any] = {}
    if row < len(sent_rows):
        for name, value in sent_rows[row].items():
            if isinstance(value, (str, bool)) and len(str(value)) <= _MOST_VALUE and len(slices) < _MOST_SLICED:
                slices[name] = value
    return Outcome(call, row, truth, answers[row], slices)


# -- figures ------------------------------------------------------------------------------------------------------------


async def quality_page(
    pool: Pool, deployment: Deployment, endpoint: str, since: datetime, until: datetime, bins: int = 24, brought_by: str | None = None
) -> dict[str, Any]:
    """Quality by version, how much is known, and over time. brought_by : of answers that this one brought in, and of nothing else."""
    known_outcomes = await outcomes.outcomes_between(pool, endpoint, since, until, brought_by=brought_by)
    answered = await outcomes.count_answered_rows(pool, endpoint, since, until, brought_by)
    by_version: dict[tuple[str, bool], list[KnownOutcome]] = defaultdict(list)
    for outcome in known_outcomes:
        by_version[outcome.version, outcome.shadow].append(outcome)
    versions = []
    for (version, shadow), known in sorted(by_version.items(), key=lambda pair: (pair[0][1], -len(pair[1]))):
        try:
            field, spread = await truth_field_of(pool, deployment, endpoint, version)
        except LampPostError:
            continue
        numbers = field.kind in ("number", "integer")
        judged_answers = [outcome.judged for outcome in known]
        late = sorted((outcome.reported_at - outcome.at).total_seconds() for outcome in known)
        versions.append(
            {
                "version": version,
                "shadow": shadow,
                "answer": field.name,
                "known": len(known),
                "answered": answered.get(version, len(known)),
                "late_s": late[len(late) // 2],
                "callers": len({judged.caller for judged in judged_answers}),
                "told_otherwise": None
                if numbers or brought_by is not None  # answers are sampled over all origins
                else await _told_otherwise(pool, endpoint, version, (since, until), judged_answers, field),
                **await asyncio.to_thread(quality_figures, judged_answers, field.name, numbers, spread),
                "over_time": _over_time(known, field, since, until, bins),
            }
        )
    return {"endpoint": endpoint, "since": since, "until": until, "versions": versions, "summary": _quality_summary(endpoint, versions)}


async def _told_otherwise(
    pool: Pool, endpoint: str, version: str, span: tuple[datetime, datetime], judged_answers: list[JudgedAnswer], field: Field
) -> dict[str, Any] | None:
    """Whether outcomes are told of other answers than were given, by a sample of recorded answers."""
    calls = await call_samples.sample_inputs(pool, endpoint, version, *span, _SAMPLED)
    return await asyncio.to_thread(
        lambda: told_otherwise(judged_answers, [row for c in calls for row in answer_rows(c.answer)], field.name)
    )


def _over_time(known: Sequence[KnownOutcome], field: Field, since: datetime, until: datetime, bins: int) -> list[dict[str, Any]]:
    step = (until - since) / bins
    cells: dict[int, list[KnownOutcome]] = defaultdict(list)
    for outcome in known:
        cells[min(bins - 1, int((outcome.at - since) / step))].append(outcome)
    steps = []
    for at, cell in sorted(cells.items()):
        if field.kind in ("number", "integer"):
            errors = [
                abs(float(outcome.judged.answer[field.name]) - float(outcome.judged.truth))
                for outcome in cell
                if is_number(outcome.judged.answer.get(field.name))
            ]
            estimate = estimate_mean(errors)
        else:
            estimate = estimate_share(
                sum(is_right(outcome.judged.answer.get(field.name), outcome.judged.truth) for outcome in cell), len(cell)
            )
        steps.append({"at": since + at * step, "figure": estimate_as_json(estimate)})
    return steps


def _quality_summary(endpoint: str, versions: list[dict[str, Any]]) -> str:
    if not versions:
        return f"Nothing is known yet. Tell it: lamppost outcome {endpoint} REQUEST_ID TRUTH"
    quality = versions[0]
    share = 100 * quality["known"] / max(1, quality["answered"])
    known = f"{quality['known']:,} of {quality['answered']:,} answers of {quality['version']} are known ({share:.0f} %)"
    main = quality["accuracy"] if quality["kind"] == "labels" else quality["absolute_error"]
    if main is None:
        return f"{known}."
    if quality["kind"] == "labels":
        told = _told_sentence(quality["told_otherwise"])
        return f"{100 * main['value']:.1f} % right ({100 * main['low']:.1f} to {100 * main['high']:.1f} %); {known}.{told}"
    span = "" if main["low"] is None else f" ({main['low']:.3g} to {main['high']:.3g})"
    return f"Off by {main['value']:.3g} on average{span}; {known}."


def _told_sentence(told: dict[str, Any] | None) -> str:
    """What to say of outcomes that are told of other answers than were given."""
    if told is None:
        return ""
    weighed = "" if told["weighted"] is None else f" Weighed by what was answered: {100 * told['weighted']:.1f} % right"
    if told["unknown"] > 0.01 and weighed:
        weighed += f", without {100 * told['unknown']:.0f} % of the answers, of which nothing is known"
    return (
        f" Outcomes are not told of answers as they were given: {told['label']} is {100 * told['told']:.0f} % of the known answers and"
        f" {100 * told['answered']:.0f} % of all.{weighed}{'.' if weighed else ''}"
    )
