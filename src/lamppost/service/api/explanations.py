"""API of explanations: of an answer, of one field's curve, and which were made."""

from __future__ import annotations

import contextlib
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from typing import Annotated, Any
from uuid import UUID

from fastapi import APIRouter, Query

from lamppost.core.errors import BadRequest, Conflict, InvalidRows, NotFound
from lamppost.core.explanation.explanation import ExplanationTerms
from lamppost.core.names import parse_version
from lamppost.core.payload.recorded_bodies import request_options, request_rows
from lamppost.core.schema.fields import find_field
from lamppost.service.api.access import PROBLEMS, Caller, RequireCaller, RequireView, TheNode
from lamppost.service.api.schemas.explanations import (
    CurveAnswer,
    CurveRequest,
    ExplainedRowRequest,
    ExplainRequest,
    ExplanationAnswer,
    MadeExplanationAnswer,
)
from lamppost.service.explanation.explainer import Explained
from lamppost.service.node import Node
from lamppost.service.prediction.request_ids import new_request_id
from lamppost.store import call_search, explanations
from lamppost.store.database import AWAY
from lamppost.store.explanations import MadeExplanation

router = APIRouter(prefix="/api", tags=["explanations"], responses=PROBLEMS)


@router.post("/endpoints/{endpoint}/explain")
async def explain(endpoint: str, body: ExplainRequest, node: TheNode, caller: RequireCaller) -> ExplanationAnswer:
    """Explain the answer to a row, or to a recorded call: what contributed to it, what would change it, and a rule that it follows.

    Whoever may ask the endpoint may have a row explained; calls of others and the rows that were tried are for those who may view.
    """
    if body.cases:
        caller.require_permission("view")
    started = time.perf_counter()
    terms = ExplanationTerms(
        contributions="contributions" in body.wanted,
        changes="changes" in body.wanted,
        rule="rule" in body.wanted,
        together=body.together,
        limit=body.limit,
        label=body.label,
    )
    async with _explained(endpoint, body, node, caller) as (explained, row, options):
        told = await node.explainer.explain(explained, row, options, terms, body.rows, body.seconds, body.cases)
    request_id, took_ms = UUID(new_request_id()), round((time.perf_counter() - started) * 1e3, 1)
    made = MadeExplanation(
        request_id=request_id,
        at=datetime.now(UTC),
        endpoint=endpoint,
        version=explained.version,
        token=caller.token,
        call=body.call,
        asked=told["asked"],
        took_ms=took_ms,
        stopped=told["stopped"],
    )
    with contextlib.suppress(*AWAY):  # the note is lost then, and not the answer
        await explanations.add_explanation(node.pool, made)
    return ExplanationAnswer(**told, request_id=request_id, endpoint=endpoint, version=explained.version, took_ms=took_ms)


@router.post("/endpoints/{endpoint}/explain/curve")
async def explain_curve(endpoint: str, body: CurveRequest, node: TheNode, caller: RequireCaller) -> CurveAnswer:
    """The answer as one field goes through its range in training, while everything else stays."""
    async with _explained(endpoint, body, node, caller) as (explained, row, options):
        field = find_field(explained.inputs, body.field)
        if field is None or field.private:
            names = ", ".join(one.name for one in explained.inputs if not one.private)
            raise BadRequest(f"{body.field!r} is no field of {endpoint} that can go through a range; it has {names}")
        told = await node.explainer.curve(explained, row, options, field, body.rows)
    return CurveAnswer(**told, version=explained.version)


@router.get("/endpoints/{endpoint}/explanations")
async def list_explanations(
    endpoint: str, node: TheNode, _: RequireView, limit: Annotated[int, Query(ge=1, le=1_000)] = 50
) -> list[MadeExplanationAnswer]:
    """The explanations that were made of an endpoint's answers, the newest first: who asked for them, and what they cost."""
    node.deployment.table.find_route(endpoint)
    return [
        MadeExplanationAnswer(
            request_id=made.request_id,
            at=made.at,
            version=made.version,
            token=made.token,
            call=made.call,
            asked=made.asked,
            took_ms=round(made.took_ms, 1),
            stopped=made.stopped,
        )
        for made in await explanations.list_explanations(node.pool, endpoint, limit)
    ]


@asynccontextmanager
async def _explained(
    endpoint: str, body: ExplainedRowRequest, node: Node, caller: Caller
) -> AsyncIterator[tuple[Explained, dict[str, Any], dict[str, Any]]]:
    """What is explained, the row and its options."""
    caller.require_permission("predict", endpoint)
    if (body.row is None) == (body.call is None):
        raise BadRequest("say which answer: a row, or the id of a call; one of them")
    row, options, version = body.row, body.options, body.version
    if version is not None or body.call is not None:
        caller.require_permission("view")
    setup = node.deployment.table.find_route(endpoint).setup
    if body.call is not None:
        row, options, answered_by = await _row_of_call(endpoint, body.call, body.at_row, node)
        # where fields are looked up, the record has the keys only, and what the endpoint serves now looks them up again
        version = version or (None if setup.lookups else answered_by)
    assert row is not None
    place = node.explainer.of_endpoint(endpoint) if version is None else node.explainer.of_version(parse_version(version))
    async with place as explained:
        try:
            yield explained, row, options
        except InvalidRows as error:
            told = explained.predictor.redaction.redact_error(error)
            if body.call is None:
                raise told from None
            why = f"the record of call {body.call} is no whole row for {explained.version}: {told}"
            raise Conflict(f"{why}; private fields are not recorded, so send the row itself") from None


async def _row_of_call(endpoint: str, call_id: UUID, at: int, node: Node) -> tuple[dict[str, Any], dict[str, Any], str | None]:
    """A row of a recorded call, its options, and the version that answered; None where several did."""
    call, _ = await call_search.find_call(node.pool, call_id)
    if call["endpoint"] != endpoint:
        raise NotFound(f"call {call_id} was to {call['endpoint']}, not to {endpoint}")
    if call["input"] is None:
        raise Conflict(f"the input of call {call_id} is not kept (the endpoint keeps a sample), so send the row itself")
    rows = request_rows(call["input"])
    if at >= len(rows):
        raise NotFound(f"row {at} of call {call_id} is not recorded; {len(rows):,} of its rows are")
    version = call["version"]
    return rows[at], request_options(call["input"]), None if version is None or "," in version else version
