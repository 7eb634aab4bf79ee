"""API for asking two versions the same rows: recorded calls, the proof, or rows that were sent."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import Any

import orjson
from fastapi import APIRouter

from lamppost.core.endpoint.agreement import Agreement, measure_agreement
from lamppost.core.errors import BadRequest, LampPostError
from lamppost.core.names import parse_version
from lamppost.core.payload.recorded_bodies import request_options, request_rows
from lamppost.core.payload.validation_plan import Row
from lamppost.runtime.lane import Lane
from lamppost.service.api.access import PROBLEMS, RequireView, TheNode
from lamppost.service.api.schemas.agreement import (
    AgreementAnswer,
    AgreementRequest,
    DisagreeingRowAnswer,
    DisagreeingSliceAnswer,
    LabelFlipAnswer,
)
from lamppost.service.node import Node
from lamppost.service.prediction.bulk_answers import answer_in_bulk
from lamppost.store import call_search

router = APIRouter(prefix="/api", tags=["models"], responses=PROBLEMS)

_BACK = timedelta(days=30)
_MOST_ROWS = 10_000


@router.post("/compare/answers")
async def compare_answers(body: AgreementRequest, node: TheNode, caller: RequireView) -> AgreementAnswer:
    """Compare the answers of two versions to the same rows: agreement, label flips, differences by slice, speed. Nothing is recorded."""
    caller.require_permission("predict")
    if sum((body.endpoint is not None, body.proof, body.rows is not None)) != 1:
        raise BadRequest("say on which rows: the proof, rows, or an endpoint with its last calls; exactly one")
    before, after = parse_version(body.before), parse_version(body.after)
    async with node.deployment.leases.visited(before) as first, node.deployment.leases.visited(after) as second:
        raw, on = await _rows(body, node, first)
        taken = _rows_both_take([first, second], raw)
        answers, took = [], []
        for lane, rows in ((first, [pair[0] for pair in taken]), (second, [pair[1] for pair in taken])):
            start = time.perf_counter()
            answers.append(await answer_in_bulk(lane, rows))
            took.append((time.perf_counter() - start) * 1e3)
        plain = [pair[2] for pair in taken]
        agreement = measure_agreement(plain, answers[0], answers[1], first.manifest.inputs, first.answers, body.tolerance)
    return _shape(body, agreement, on, len(raw) - len(taken), plain, answers, took)


async def _rows(body: AgreementRequest, node: Node, lane: Lane) -> tuple[list[dict[str, Any]], str]:
    if body.proof:
        return list(lane.proof.rows), f"the {len(lane.proof.rows):,} rows of the proof of {body.before}"
    if body.rows is not None:
        return body.rows, f"{len(body.rows):,} rows that were sent"
    endpoint = str(body.endpoint)
    node.deployment.table.find_route(endpoint)
    sent = await call_search.recorded_inputs(node.pool, endpoint, datetime.now(UTC) - _BACK, body.last)
    rows = [row for call in sent for row in _of_body(call.input)][:_MOST_ROWS]
    return rows, f"{len(rows):,} rows of the last {len(sent):,} calls to {endpoint}"


def _of_body(body: Any) -> list[dict[str, Any]]:
    """The rows of a recorded body, each with the options of its call."""
    options = request_options(body)
    return [{**row, "options": options} if options else row for row in request_rows(body)]


def _rows_both_take(lanes: Sequence[Lane], raw: Sequence[dict[str, Any]]) -> list[tuple[Row, Row, dict[str, Any]]]:
    """Rows as each version reads them, and as they were sent. Rows that either version refuses are left out."""
    rows = []
    for row in raw:
        body = orjson.dumps(row)
        try:
            first, second = (lane.plan.read_body(body, []).rows[0] for lane in lanes)
        except (LampPostError, IndexError):
            continue
        rows.append((first, second, row))
    return rows


def _shape(
    body: AgreementRequest,
    agreement: Agreement,
    on: str,
    refused: int,
    rows: list[dict[str, Any]],
    answers: list[list[Row]],
    took: list[float],
) -> AgreementAnswer:
    part = (
        "no rows to compare" if agreement.part is None else f"{agreement.agree:,} of {agreement.rows:,} rows agree ({agreement.part:.1%})"
    )
    return AgreementAnswer(
        before=body.before,
        after=body.after,
        on=on,
        by=agreement.by,
        rows=agreement.rows,
        agree=agreement.agree,
        refused=refused,
        flips=[LabelFlipAnswer(**asdict(flip)) for flip in agreement.flips],
        mean=agreement.mean,
        p95=agreement.p95,
        most=agreement.most,
        scale=agreement.scale,
        slices=[DisagreeingSliceAnswer(**asdict(slice_)) for slice_ in agreement.slices],
        worst=[
            DisagreeingRowAnswer(
                distance=difference.distance, row=rows[difference.row], before=answers[0][difference.row], after=answers[1][difference.row]
            )
            for difference in agreement.worst
        ],
        before_ms=round(took[0], 3),
        after_ms=round(took[1], 3),
        summary=f"{body.before} and {body.after} on {on}: {part}"
        + (f"; {refused:,} rows were refused by one of them" if refused else "")
        + ".",
    )
