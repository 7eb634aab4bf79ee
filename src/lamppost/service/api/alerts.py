"""API of alerts, mutes, notice channels and reports."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Annotated, Literal
from urllib.parse import urlsplit

from fastapi import APIRouter, Path, Query
from fastapi.responses import Response

from lamppost.core.errors import BadRequest
from lamppost.core.names import check_name
from lamppost.service.api.access import PROBLEMS, Pointer, RequireView, TheNode, TokenKeeper
from lamppost.service.api.schemas.alerts import (
    AcknowledgeRequest,
    AlertAnswer,
    ChannelAnswer,
    ChannelRequest,
    EndpointMuteAnswer,
    EndpointMuteRequest,
    NoticeAnswer,
)
from lamppost.service.monitoring.notices import make_secret
from lamppost.service.monitoring.reports import PERIODS, draw_report, report_facts
from lamppost.store import alerts, trail
from lamppost.store.alerts import Channel, StoredAlert

router = APIRouter(prefix="/api", tags=["alerts"], responses=PROBLEMS)


@router.get("/alerts")
async def list_alerts(
    node: TheNode,
    _: RequireView,
    endpoint: Annotated[str | None, Query(max_length=200)] = None,
    state: Literal["open", "firing", "acknowledged", "resolved"] | None = None,
    limit: Annotated[int, Query(ge=1, le=1_000)] = 100,
) -> list[AlertAnswer]:
    """Alerts: those that are open first, then the newest."""
    return [alert_answer(alert) for alert in await alerts.list_alerts(node.pool, endpoint, state, limit)]


def alert_answer(one: StoredAlert) -> AlertAnswer:
    """An alert as the API gives it."""
    alert = one.alert
    summary = "drift" if alert.rule in ("drift", "odd") else "outcomes" if alert.rule == "quality" else "traffic"
    return AlertAnswer(
        number=one.number,
        endpoint=alert.endpoint,
        rule=alert.rule,
        state=alert.state,
        cause=alert.reading.cause,
        since=alert.since,
        seen_at=alert.seen_at,
        resolved_at=alert.resolved_at,
        says=alert.reading.says,
        sure=alert.reading.sure,
        why=alert.reading.why,
        acknowledged_by=one.acknowledged_by,
        note=one.note,
        next=f"lamppost {summary} {alert.endpoint}",
    )


@router.post("/alerts/{alert}/acknowledge")
async def acknowledge_alert(
    alert: Annotated[int, Path(ge=1, le=2**62)], wanted: AcknowledgeRequest, node: TheNode, caller: Pointer
) -> AlertAnswer:
    """Say that somebody looks after it."""
    stored = await alerts.acknowledge_alert(node.pool, alert, caller.token, wanted.note)
    async with node.pool.connection() as connection:
        await trail.add_entry(
            connection, caller.changed_by, "acknowledged alert", stored.alert.endpoint, note=wanted.note or stored.alert.reading.says
        )
    return alert_answer(stored)


@router.get("/mutes")
async def list_mutes(node: TheNode, _: RequireView) -> list[EndpointMuteAnswer]:
    """Endpoints about which nothing goes out at the moment."""
    return [EndpointMuteAnswer(endpoint=one.endpoint, until=one.until, muted_by=one.muted_by, note=one.note) for one in await _mutes(node)]


async def _mutes(node: TheNode) -> list[alerts.Mute]:
    return sorted((await alerts.list_mutes(node.pool)).values(), key=lambda one: one.endpoint)


@router.put("/endpoints/{endpoint}/mute")
async def mute_endpoint(endpoint: str, wanted: EndpointMuteRequest, node: TheNode, caller: Pointer) -> EndpointMuteAnswer:
    """Let nothing go out about an endpoint for a while. Alerts are raised and shown all the same."""
    node.deployment.table.find_route(endpoint)
    until = datetime.now(UTC) + timedelta(minutes=wanted.minutes)
    async with node.pool.connection() as connection, connection.transaction():
        await alerts.mute_endpoint(connection, endpoint, until, caller.token, wanted.note)
        await trail.add_entry(
            connection, caller.changed_by, "muted" if wanted.minutes else "unmuted", endpoint, after=until.isoformat(), note=wanted.note
        )
    return EndpointMuteAnswer(endpoint=endpoint, until=until, muted_by=caller.token, note=wanted.note)


@router.get("/channels")
async def list_channels(node: TheNode, _: RequireView) -> list[ChannelAnswer]:
    """Where notices and reports go."""
    return [channel_answer(channel) for channel in await alerts.list_channels(node.pool)]


def channel_answer(one: Channel, secret: str | None = None) -> ChannelAnswer:
    """A channel as the API gives it."""
    return ChannelAnswer(
        name=one.name, kind=one.kind, target=one.target, endpoints=one.endpoints, reports=one.reports, made_by=one.made_by, secret=secret
    )


@router.post("/channels/{name}")
async def make_channel(name: str, wanted: ChannelRequest, node: TheNode, caller: TokenKeeper) -> ChannelAnswer:
    """A new channel. Webhooks are CloudEvents, signed as Standard Webhooks says with the secret that is told here, once."""
    check_name(name, "channel")
    _check(wanted)
    for endpoint in wanted.endpoints or []:
        node.deployment.table.find_route(endpoint)
    secret = make_secret() if wanted.kind == "webhook" else None
    now = datetime.now(UTC)
    channel = Channel(name, wanted.kind, wanted.target, secret, wanted.endpoints, wanted.reports, None, caller.token, now)
    async with node.pool.connection() as connection, connection.transaction():
        await alerts.make_channel(connection, channel)
        await trail.add_entry(connection, caller.changed_by, "made channel", name, after={"kind": wanted.kind, "target": wanted.target})
    return channel_answer(channel, secret)


def _check(wanted: ChannelRequest) -> None:
    if wanted.kind == "webhook":
        try:
            parts = urlsplit(wanted.target)
        except ValueError:
            parts = urlsplit("")
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise BadRequest(f"{wanted.target!r} is no address for a webhook; it looks like https://example.org/hook")
        if wanted.reports != "none":
            raise BadRequest("reports go out by mail; a webhook gets alerts only")
    elif "@" not in wanted.target.strip("@") or any(one.isspace() or ord(one) < 32 for one in wanted.target):
        raise BadRequest(f"{wanted.target!r} is no address of mail; it looks like lamps@example.org")


@router.delete("/channels/{name}")
async def remove_channel(name: str, node: TheNode, caller: TokenKeeper) -> list[ChannelAnswer]:
    """Remove a channel, with what waits to go out by it; what is left is returned."""
    async with node.pool.connection() as connection, connection.transaction():
        await alerts.remove_channel(connection, name)
        await trail.add_entry(connection, caller.changed_by, "removed channel", name)
    return [channel_answer(channel) for channel in await alerts.list_channels(node.pool)]


@router.get("/notices")
async def list_notices(node: TheNode, _: RequireView, limit: Annotated[int, Query(ge=1, le=500)] = 50) -> list[NoticeAnswer]:
    """What went out lately, what waits, and what was given up."""
    return [NoticeAnswer(**notice) for notice in await alerts.list_notices(node.pool, limit)]


@router.get("/endpoints/{endpoint}/report", response_class=Response, responses={200: {"content": {"text/html": {}, "application/pdf": {}}}})
async def get_report(
    endpoint: str,
    node: TheNode,
    _: RequireView,
    form: Literal["html", "pdf"] = "html",
    period: Literal["day", "week", "month"] = "week",
    until: Annotated[datetime | None, Query(description="end of the period; now by default")] = None,
) -> Response:
    """A report for a day, a week or thirty days, as a page or as PDF."""
    end = datetime.now(UTC) if until is None else until if until.tzinfo else until.replace(tzinfo=UTC)
    if not 2000 < end.year < 3000:
        raise BadRequest("a report ends after the year 2000")
    told = await report_facts(node.pool, node.deployment, endpoint, end - PERIODS[period], end)
    kind = "application/pdf" if form == "pdf" else "text/html; charset=utf-8"
    return Response(
        await draw_report(told, form), media_type=kind, headers={"content-disposition": f'inline; filename="{endpoint}.{form}"'}
    )
