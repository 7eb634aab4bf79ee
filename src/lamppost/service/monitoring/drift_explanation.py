"""Explains why a window is not steady: the slices behind the change, what of the answers it explains, and what else changed at that
time.
"""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Sequence
from dataclasses import asdict
from datetime import datetime, timedelta
from typing import Any

import orjson

from lamppost.core.drift.attribution import answer_shift, explained_part, rows_with_field_moved, slices_behind_change
from lamppost.core.drift.watched_features import ANSWERS, split_words
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
_CLEAR = 0.03
"""A label whose part of the answers moved by less is moved by chance as easily, with so few rows."""


async def explain_window(pool: Pool, deployment: Deployment, judged: JudgedWindow, begun: datetime) -> dict[str, Any]:
    """The reasons that can be found. begun : when it began to be so."""
    lamp = await deployment.package_cache.lamp_of((await packages.get_version(pool, parse_version(judged.version))).digest)
    calls = await call_samples.sample_inputs(pool, judged.endpoint, judged.version, begun, judged.until, _CALLS)
    rows = [row for call in calls for row in request_rows(call.input)][:_ROWS]
    changed = [field for field in judged.verdict["fields"] if field["state"] != "steady"]
    fields = await asyncio.to_thread(lambda: [_field(changed_field, lamp, rows) for changed_field in changed[:_FIELDS]])
    explanation: dict[str, Any] = {"since": begun.isoformat(), "rows": len(rows), "fields": fields}
    explanation["answers"] = await _answers(
        deployment, judged, lamp, fields, rows, [row for call in calls for row in answer_rows(call.answer)]
    )
    fields.sort(key=lambda changed_field: -(changed_field["explains"] or 0.0))
    explanation["changes"] = await _changes(pool, judged.endpoint, begun)
    explanation["callers"] = await _callers(pool, judged, begun)
    explanation["summary"] = explanation_sentence(explanation)
    return explanation


def explanation_sentence(explanation: dict[str, Any]) -> str:
    """The probable reason in one sentence."""
    parts = []
    inputs = [field for field in explanation["fields"] if not field["name"].startswith(ANSWERS)]
    for changed_field in inputs[:1]:
        text = f"{changed_field['name']} is {changed_field['summary']}"
        if changed_field["slices"]:
            first = changed_field["slices"][0]
            text = f"{changed_field['name']} where {first['by']} is {first['value']} ({100 * first['part']:.0f} % of the change)"
        if changed_field["new"]:
            text += f"; new: {', '.join(changed_field['new'][:3])}"
        if changed_field["explains"] is not None and changed_field["explains"] >= 0.2:
            text += f"; it explains {100 * changed_field['explains']:.0f} % of what changed in the answers"
        parts.append(text)
    parts += [f"{change['summary']} at that time" for change in explanation["changes"][:1]]
    if not any(field["slices"] for field in inputs):
        parts += [f"{caller['token']} sends {caller['summary']}" for caller in explanation["callers"][:1]]
    return "; ".join(parts) if parts else "no single field, version or caller stands out"


def _field(changed_field: dict[str, Any], lamp: Lamp, rows: list[Row]) -> dict[str, Any]:
    """A changed figure: where it sits, and which words are new."""
    name, reference = changed_field["name"], lamp.reference
    known = {input_field.name: input_field for input_field in lamp.manifest.inputs}
    slices: list[dict[str, Any]] = []
    new: list[str] = []
    if reference is not None and name in known:
        missing = bool(changed_field["findings"]) and changed_field["findings"][0]["what"] == "missing"
        choices = [
            input_field.name for input_field in lamp.manifest.inputs if input_field.kind in ("choice", "yes/no") and not input_field.private
        ]
        slices = [asdict(input_field) for input_field in slices_behind_change(name, choices, reference.sample, rows, missing)]
    if reference is not None and name.endswith(".new words"):
        field = name.removesuffix(".new words")
        usual = frozenset(reference.words.get(field, ()))
        words = Counter(word for row in rows if isinstance(row.get(field), str) for word in set(split_words(row[field])) - usual)
        new = [f"{word} ({100 * many / max(1, len(rows)):.0f} %)" for word, many in words.most_common(5) if many > 2]
    return {"name": name, "state": changed_field["state"], "summary": changed_field["summary"], "slices": slices, "new": new, "explains": None}


async def _answers(
    deployment: Deployment, judged: JudgedWindow, lamp: Lamp, fields: list[dict[str, Any]], rows: list[Row], answers: list[Row]
) -> dict[str, Any] | None:
    """How the main answer moved, and what of that each changed field explains: rows of the reference asked again with the field moved."""
    reference = lamp.reference
    if reference is None or not rows or not answers:
        return None
    answer = main_answer(lamp.manifest.answers).name
    names = [input_field.name for input_field in lamp.manifest.inputs]
    sample = reference.sample[:_ASKED]
    if any(name not in sample[0] for name in names) if sample else True:
        return None  # private fields are not kept, so its rows cannot be asked again
    try:
        async with deployment.leases.visited(parse_version(judged.version)) as lane:
            before = await _ask(lane, sample)
            whole = answer_shift(before, answers, answer)
            clear = max(map(abs, whole.values()), default=0.0) > _CLEAR
            for field in fields:
                if field["name"] in names and clear:
                    after = await _ask(lane, rows_with_field_moved(field["name"], sample, rows))
                    field["explains"] = round(explained_part(answer_shift(before, after, answer), whole), 3)
    except LampPostError:
        return None
    most = sorted(whole.items(), key=lambda pair: -abs(pair[1]))[:3]
    return {"answer": answer, "moved": [{"value": name or None, "by": round(by, 4)} for name, by in most]}


async def _ask(lane: Lane, rows: Sequence[Row]) -> list[Row]:
    """Answers to rows as JSON has them, behind all live calls."""
    return await answer_in_bulk(lane, [lane.plan.read_body(orjson.dumps(row), []).rows[0] for row in rows])


async def _changes(pool: Pool, endpoint: str, begun: datetime) -> list[dict[str, Any]]:
    """What the endpoint served otherwise from about that time on."""
    near = [
        revision for revision in await endpoints.endpoint_history(pool, endpoint, 200) if abs(revision.since - begun) <= timedelta(hours=1)
    ]
    return [
        {"at": revision.since.isoformat(), "summary": f"{endpoint} was changed to {revision.setup.summary()} by {revision.changed_by}"}
        for revision in near
    ]


async def _callers(pool: Pool, judged: JudgedWindow, begun: datetime) -> list[dict[str, Any]]:
    """Callers whose part of the calls changed by more than a fifth at that time."""
    span = judged.until - judged.at
    before = await call_samples.count_callers(pool, judged.endpoint, begun - span, begun)
    after = await call_samples.count_callers(pool, judged.endpoint, begun, judged.until)
    moved = []
    for token in before.keys() | after.keys():
        was, has = (counts.get(token, 0) / max(1, sum(counts.values())) for counts in (before, after))
        if abs(has - was) > 0.2 and before:
            caller = {
                "token": token or "somebody",
                "before": was,
                "after": has,
                "summary": f"{100 * has:.0f} % of calls, before {100 * was:.0f} %",
            }
            moved.append((has - was, caller))
    return [caller for _, caller in sorted(moved, key=lambda pair: -pair[0])[:3]]
