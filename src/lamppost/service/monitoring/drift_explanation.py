"""Explains why a window is not steady: the slices behind the change, what of the answers it explains, and what else changed at that
time.
"""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace
from datetime import datetime, timedelta

import orjson

from lamppost.core.drift.attribution import (
    ChangePlace,
    answer_shift,
    explained_part,
    place_of_change,
    rows_with_field_moved,
    shift_is_clear,
)
from lamppost.core.drift.watched_features import NEW_WORDS, split_words
from lamppost.core.drift.window_verdict import (
    AnswerMove,
    AnswerMoves,
    CallerChange,
    DescribedField,
    DriftExplanation,
    FieldReason,
    NearbyChange,
    explanation_sentence,
)
from lamppost.core.endpoint.agreement import main_answer
from lamppost.core.errors import LampPostError
from lamppost.core.names import parse_version
from lamppost.core.payload.recorded_bodies import answer_rows, request_rows
from lamppost.core.payload.validation_plan import Row
from lamppost.package.read import Lamp
from lamppost.runtime.lane import Lane
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.prediction.bulk_answers import answer_in_bulk
from lamppost.store import call_samples, endpoints, packages
from lamppost.store.database import Pool
from lamppost.store.windows import JudgedWindow

_CALLS = 600
_ROWS = 1_500
_ASKED = 300
_FIELDS = 4


async def explain_window(pool: Pool, deployment: Deployment, judged: JudgedWindow, since: datetime) -> DriftExplanation:
    """The explanation of a window that is not steady. since : when the change began."""
    lamp = await deployment.package_cache.lamp_of((await packages.get_version(pool, parse_version(judged.version))).digest)
    calls = await call_samples.sample_inputs(pool, judged.endpoint, judged.version, since, judged.until, _CALLS)
    rows = [row for call in calls for row in request_rows(call.input)][:_ROWS]
    changed = judged.verdict.changed_fields[:_FIELDS]
    mixed = [field.name for field in judged.verdict.changed_fields]
    fields = await asyncio.to_thread(lambda: [_reason(field, lamp, rows, mixed) for field in changed])
    answers = [row for call in calls for row in answer_rows(call.answer)]
    moves, explained = await _answer_moves(deployment, judged, lamp, fields, rows, answers)
    fields = [replace(field, explains=explained.get(field.name)) for field in fields]
    fields.sort(key=lambda field: (field.follows is not None, -(field.explains or 0.0)))
    changes, callers = await _nearby_changes(pool, judged.endpoint, since), await _caller_changes(pool, judged, since)
    return DriftExplanation(
        since,
        explanation_sentence(fields, changes, callers),
        rows=len(rows),
        fields=tuple(fields),
        answers=moves,
        changes=tuple(changes),
        callers=tuple(callers),
    )


def _reason(changed: DescribedField, lamp: Lamp, rows: list[Row], mixed: list[str]) -> FieldReason:
    """A changed feature: where its change sits, and which words are new. mixed : all changed features."""
    name, reference = changed.name, lamp.reference
    place = ChangePlace()
    new: list[str] = []
    if reference is not None and name in lamp.manifest.inputs.names:
        choices = [field.name for field in lamp.manifest.inputs if field.kind in ("choice", "yes/no") and not field.private]
        what = changed.findings[0].what if changed.findings else "location"
        place = place_of_change(name, choices, reference.sample, rows, what, [other for other in mixed if other in choices])
    if reference is not None and name.endswith(NEW_WORDS):
        field = name.removesuffix(NEW_WORDS)
        usual = frozenset(reference.words.get(field, ()))
        words = Counter(word for row in rows if isinstance(row.get(field), str) for word in set(split_words(row[field])) - usual)
        new = [f"{word} ({100 * many / max(1, len(rows)):.0f} %)" for word, many in words.most_common(5) if many > 2]
    return FieldReason(name, changed.state, changed.summary, place.slices, tuple(new), follows=place.follows)


async def _answer_moves(
    deployment: Deployment, judged: JudgedWindow, lamp: Lamp, changed: list[FieldReason], rows: list[Row], answers: list[Row]
) -> tuple[AnswerMoves | None, dict[str, float]]:
    """How the main answer moved, and what part of that each changed input explains: rows of the reference are asked again with that
    input moved.
    """
    reference = lamp.reference
    if reference is None or not rows or not answers:
        return None, {}
    answer, names = main_answer(lamp.manifest.answers).name, lamp.manifest.inputs.names
    sample = reference.sample[:_ASKED]
    if not sample or any(name not in sample[0] for name in names):
        return None, {}  # private fields are not kept, so the sample's rows cannot be asked again
    explained: dict[str, float] = {}
    try:
        async with deployment.leases.visited(parse_version(judged.version)) as lane:
            before = await _ask(lane, sample)
            whole = answer_shift(before, answers, answer)
            if not shift_is_clear(before, answers, answer):
                return None, {}
            for reason in changed:
                if reason.name in names:
                    within = (reason.slices[0].by, reason.slices[0].value) if reason.slices else None
                    after = await _ask(lane, rows_with_field_moved(reason.name, sample, rows, within))
                    explained[reason.name] = round(explained_part(answer_shift(before, after, answer), whole), 3)
    except LampPostError:
        return None, {}
    most = sorted(whole.items(), key=lambda pair: -abs(pair[1]))[:3]
    return AnswerMoves(answer, tuple(AnswerMove(name or None, round(by, 4)) for name, by in most)), explained


async def _ask(lane: Lane, rows: Sequence[Row]) -> list[Row]:
    """Answers to rows of JSON values, at bulk priority."""
    return await answer_in_bulk(lane, [lane.plan.read_body(orjson.dumps(row), []).rows[0] for row in rows])


async def _nearby_changes(pool: Pool, endpoint: str, since: datetime) -> list[NearbyChange]:
    """Changes of the endpoint within an hour of that time."""
    return [
        NearbyChange(revision.since, f"{endpoint} was changed to {revision.setup.summary()} by {revision.changed_by}")
        for revision in await endpoints.endpoint_history(pool, endpoint, 200)
        if abs(revision.since - since) <= timedelta(hours=1)
    ]


async def _caller_changes(pool: Pool, judged: JudgedWindow, since: datetime) -> list[CallerChange]:
    """Callers whose part of the calls changed by more than a fifth at that time, the largest increase first."""
    span = judged.until - judged.at
    before = await call_samples.count_callers(pool, judged.endpoint, since - span, since)
    after = await call_samples.count_callers(pool, judged.endpoint, since, judged.until)
    callers = []
    for token in before.keys() | after.keys():
        old, new = (counts.get(token, 0) / max(1, sum(counts.values())) for counts in (before, after))
        if abs(new - old) > 0.2 and before:
            callers.append(CallerChange(token or "somebody", old, new, f"{100 * new:.0f} % of calls, before {100 * old:.0f} %"))
    return sorted(callers, key=lambda caller: caller.before - caller.after)[:3]
