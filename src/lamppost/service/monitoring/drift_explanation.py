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
    fields = await asyncio.to_thread(lambda: [_field(one, lamp, rows) for one in changed[:_FIELDS]])
    out: dict[str, Any] = {"since": begun.isoformat(), "rows": len(rows), "fields": fields}
    out["answers"] = await _answers(deployment, judged, lamp, fields, rows, [row for call in calls for row in answer_rows(call.answer)])
    fields.sort(key=lambda one: -(one["explains"] or 0.0))
    out["changes"] = await _changes(pool, judged.endpoint, begun)
    out["callers"] = await _callers(pool, judged, begun)
    out["says"] = explanation_sentence(out)
    return out


def explanation_sentence(found: dict[str, Any]) -> str:
    """The probable reason in one sentence."""
    told = []
    inputs = [field for field in found["fields"] if not field["name"].startswith(ANSWERS)]
    for one in inputs[:1]:
        text = f"{one['name']} is {one['says']}"
        if one["slices"]:
            first = one["slices"][0]
            text = f"{one['name']} where {first['by']} is {first['value']} ({100 * first['part']:.0f} % of the change)"
        if one["new"]:
            text += f"; new: {', '.join(one['new'][:3])}"
        if one["explains"] is not None and one["explains"] >= 0.2:
            text += f"; it explains {100 * one['explains']:.0f} % of what changed in the answers"
        told.append(text)
    told += [f"{change['says']} at that time" for change in found["changes"][:1]]
    if not any(one["slices"] for one in inputs):
        told += [f"{caller['token']} sends {caller['says']}" for caller in found["callers"][:1]]
    return "; ".join(told) if told else "no single field, version or caller stands out"


def _field(told: dict[str, Any], lamp: Lamp, rows: list[Row]) -> dict[str, Any]:
    """A changed figure: where it sits, and which words are new."""
    name, reference = told["name"], lamp.reference
    known = {one.name: one for one in lamp.manifest.inputs}
    found: list[dict[str, Any]] = []
    new: list[str] = []
    if reference is not None and name in known:
        missing = bool(told["findings"]) and told["findings"][0]["what"] == "missing"
        choices = [one.name for one in lamp.manifest.inputs if one.kind in ("choice", "yes/no") and not one.private]
        found = [asdict(one) for one in slices_behind_change(name, choices, reference.sample, rows, missing)]
    if reference is not None and name.endswith(".new words"):
        field = name.removesuffix(".new words")
        usual = frozenset(reference.words.get(field, ()))
        words = Counter(word for row in rows if isinstance(row.get(field), str) for word in set(split_words(row[field])) - usual)
        new = [f"{word} ({100 * many / max(1, len(rows)):.0f} %)" for word, many in words.most_common(5) if many > 2]
    return {"name": name, "state": told["state"], "says": told["says"], "slices": found, "new": new, "explains": None}


async def _answers(
    deployment: Deployment, judged: JudgedWindow, lamp: Lamp, fields: list[dict[str, Any]], rows: list[Row], answers: list[Row]
) -> dict[str, Any] | None:
    """How the main answer moved, and what of that each changed field explains: rows of the reference asked again with the field moved."""
    reference = lamp.reference
    if reference is None or not rows or not answers:
        return None
    answer = main_answer(lamp.manifest.answers).name
    names = [one.name for one in lamp.manifest.inputs]
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
    near = [one for one in await endpoints.endpoint_history(pool, endpoint, 200) if abs(one.since - begun) <= timedelta(hours=1)]
    return [{"at": one.since.isoformat(), "says": f"{endpoint} was changed to {one.setup.summary()} by {one.changed_by}"} for one in near]


async def _callers(pool: Pool, judged: JudgedWindow, begun: datetime) -> list[dict[str, Any]]:
    """Callers whose part of the calls changed by more than a fifth at that time."""
    span = judged.until - judged.at
    before = await call_samples.count_callers(pool, judged.endpoint, begun - span, begun)
    after = await call_samples.count_callers(pool, judged.endpoint, begun, judged.until)
    found = []
    for token in before.keys() | after.keys():
        was, has = (one.get(token, 0) / max(1, sum(one.values())) for one in (before, after))
        if abs(has - was) > 0.2 and before:
            told = {
                "token": token or "somebody",
                "before": was,
                "after": has,
                "says": f"{100 * has:.0f} % of calls, before {100 * was:.0f} %",
            }
            found.append((has - was, told))
    return [told for _, told in sorted(found, key=lambda pair: -pair[0])[:3]]
