"""API of reviews, and of the trail of all changes."""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import asdict
from typing import Annotated

import orjson
from fastapi import APIRouter, Query
from fastapi.responses import StreamingResponse
from pydantic import AwareDatetime

from lamppost.core.names import parse_version
from lamppost.service.api.access import PROBLEMS, Pusher, RequireView, Reviewer, TheNode
from lamppost.service.api.mappers import review_answer
from lamppost.service.api.schemas.reviews import ReviewAnswer, ReviewRequest, ReviewVerdictRequest, TrailEntryAnswer
from lamppost.store import reviews, trail
from lamppost.store.database import Pool
from lamppost.store.trail import TrailSearch

router = APIRouter(prefix="/api", tags=["reviews"], responses=PROBLEMS)

_AT_ONCE = 500


@router.get("/reviews")
async def list_reviews(node: TheNode, _: RequireView, endpoint: str | None = None) -> list[ReviewAnswer]:
    """Reviews, the newest first."""
    return [review_answer(review) for review in await reviews.list_reviews(node.pool, endpoint)]


@router.post("/reviews", status_code=201)
async def ask_for_review(body: ReviewRequest, node: TheNode, caller: Pusher) -> ReviewAnswer:
    """Ask others to approve that an endpoint serves a version."""
    node.deployment.table.find_route(body.endpoint)
    number = await reviews.ask_review(node.pool, body.endpoint, parse_version(body.version), body.note, caller.changed_by)
    return review_answer((await reviews.list_reviews(node.pool, number=number))[0])


@router.post("/reviews/{review}/verdict")
async def decide_review(review: int, document: ReviewVerdictRequest, node: TheNode, caller: Reviewer) -> ReviewAnswer:
    """Approve or refuse a version, with a reason. The token that asked for the review or pushed the version may not decide."""
    return review_answer(await reviews.decide_review(node.pool, review, document.approves, document.reason, caller.changed_by))


@router.delete("/reviews/{review}", status_code=204)
async def withdraw_review(review: int, node: TheNode, caller: Pusher) -> None:
    """Withdraw an open or approved review."""
    await reviews.withdraw_review(node.pool, review, caller.changed_by)


@router.get("/trail")
async def read_trail(
    node: TheNode,
    _: RequireView,
    subject: str | None = None,
    token: str | None = None,
    action: str | None = None,
    search: str | None = None,
    since: AwareDatetime | None = None,
    until: AwareDatetime | None = None,
    before: int | None = None,
    limit: Annotated[int, Query(ge=1, le=1_000)] = 100,
) -> list[TrailEntryAnswer]:
    """The trail of changes, the newest first. search : words that must all match. before : number of an entry; only earlier ones are
    returned.
    """
    trail_search = TrailSearch(subject, token, action, search, since, until)
    return [TrailEntryAnswer.model_validate(asdict(entry)) for entry in await trail.find_entries(node.pool, trail_search, limit, before)]


@router.get("/trail.ndjson", response_class=StreamingResponse, responses={200: {"content": {"application/x-ndjson": {}}}})
async def export_trail(
    node: TheNode, _: RequireView, subject: str | None = None, since: AwareDatetime | None = None, until: AwareDatetime | None = None
) -> StreamingResponse:
    """The whole trail as NDJSON, the newest first."""
    return StreamingResponse(_lines(node.pool, TrailSearch(subject, since=since, until=until)), media_type="application/x-ndjson")


async def _lines(pool: Pool, search: TrailSearch) -> AsyncIterator[bytes]:
    before: int | None = None
    while entries := await trail.find_entries(pool, search, _AT_ONCE, before):
        before = entries[-1].number
        yield b"".join(orjson.dumps(entry, option=orjson.OPT_UTC_Z) + b"\n" for entry in entries)
