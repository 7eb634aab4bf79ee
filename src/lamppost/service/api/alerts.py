"""API of alerts, mutes, notice channels and reports."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Annotated, Literal
from urllib.parse import urlsplit

from fastapi import APIRouter, Path, Query
from fastapi.responses import Response

from lamppost.core.errors import BadRequest
from lamppost.core.names import check_name
from lamppost.core.roles import MAY
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
from lamppost.service.api.schemas.base import Instant
from lamppost.service.monitoring.notices import make_secret
from lamppost.service.monitoring.reports import PERIODS, report_facts
from lamppost.service.pages.draw import MEDIA_TYPES, Form, draw_page, in_turn
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


def alert_answer(stored: StoredAlert) -> AlertAnswer:
    """An alert as the API gives it."""
    alert = stored.alert
    summary = "drift" if alert.rule in ("drift", "odd") else "outcomes" if alert.rule == "quality" else "traffic"
    return AlertAnswer(
        number=stored.number,
        endpoint=alert.endpoint,
        rule=alert.rule,
        state=alert.state,
        cause=alert.reading.cause,
        since=alert.since,
        seen_at=alert.seen_at,
        resolved_at=alert.resolved_at,
        summary=alert.reading.summary,
        certainty=alert.reading.certainty,
        probable_cause=alert.reading.probable_cause,
        acknowledged_by=stored.acknowledged_by,
        note=stored.note,
        next=f"lamppost {summary} {alert.endpoint}",
    )


@router.post("/alerts/{alert}/acknowledge")
async def acknowledge_alert(
    alert: Annotated[int, Path(ge=1, le=2**62)], body: AcknowledgeRequest, node: TheNode, caller: Pointer
) -> AlertAnswer:
    """Acknowledge an alert: somebody is working on it."""
    stored = await alerts.acknowledge_alert(node.pool, alert, caller.token, body.note)
    async with node.pool.connection() as connection:
        await trail.add_entry(
            connection, caller.changed_by, "acknowledged alert", stored.alert.endpoint, note=body.note or stored.alert.reading.summary
        )
    return alert_answer(stored)


@router.get("/mutes")
async def list_mutes(node: TheNode, _: RequireView) -> list[EndpointMuteAnswer]:
    """The endpoints that are muted now: no notices are sent about them."""
    return [
        EndpointMuteAnswer(endpoint=mute.endpoint, until=mute.until, muted_by=mute.muted_by, note=mute.note) for mute in await _mutes(node)
    ]


async def _mutes(node: TheNode) -> list[alerts.Mute]:
    return sorted((await alerts.list_mutes(node.pool)).values(), key=lambda mute: mute.endpoint)


@router.put("/endpoints/{endpoint}/mute")
async def mute_endpoint(endpoint: str, body: EndpointMuteRequest, node: TheNode, caller: Pointer) -> EndpointMuteAnswer:
    """Send no notices about an endpoint for a while. Alerts are still raised and shown."""
    node.deployment.table.find_route(endpoint)
    until = datetime.now(UTC) + timedelta(minutes=body.minutes)
    async with node.pool.connection() as connection, connection.transaction():
        await alerts.mute_endpoint(connection, endpoint, until, caller.token, body.note)
        await trail.add_entry(
            connection, caller.changed_by, "muted" if body.minutes else "unmuted", endpoint, after=until.isoformat(), note=body.note
        )
    return EndpointMuteAnswer(endpoint=endpoint, until=until, muted_by=caller.token, note=body.note)


@router.get("/channels")
async def list_channels(node: TheNode, caller: RequireView) -> list[ChannelAnswer]:
    """Where notices and reports go. The address of a webhook may hold a credential, so only who makes channels sees all of it."""
    whole = "tokens" in MAY[caller.role]
    return [channel_answer(channel, whole=whole) for channel in await alerts.list_channels(node.pool)]


def channel_answer(channel: Channel, secret: str | None = None, whole: bool = True) -> ChannelAnswer:
    """A channel as the API gives it. whole : whether with the whole address of a webhook."""
    return ChannelAnswer(
        name=channel.name,
        kind=channel.kind,
        target=channel.target if whole or channel.kind == "mail" else _host_of(channel.target),
        endpoints=channel.endpoints,
        reports=channel.reports,
        made_by=channel.made_by,
        secret=secret,
    )


def _host_of(target: str) -> str:
    """Scheme and host of an address."""
    parts = urlsplit(target)
    return f"{parts.scheme}://{parts.hostname or '…'}/…"


@router.post("/channels/{name}")
async def make_channel(name: str, body: ChannelRequest, node: TheNode, caller: TokenKeeper) -> ChannelAnswer:
    """Make a channel. Webhooks are CloudEvents, signed according to Standard Webhooks with the secret in this answer, which is shown
    once.
    """
    check_name(name, "channel")
    _check(body)
    for endpoint in body.endpoints or []:
        node.deployment.table.find_route(endpoint)
    secret = make_secret() if body.kind == "webhook" else None
    now = datetime.now(UTC)
    channel = Channel(name, body.kind, body.target, secret, body.endpoints, body.reports, None, caller.token, now)
    async with node.pool.connection() as connection, connection.transaction():
        await alerts.make_channel(connection, channel)
        await trail.add_entry(connection, caller.changed_by, "made channel", name, after={"kind": body.kind, "target": _kept_target(body)})
    return channel_answer(channel, secret)


def _kept_target(body: ChannelRequest) -> str:
    """The address as the trail keeps it, which viewers read."""
    return _host_of(body.target) if body.kind == "webhook" else body.target


def _check(body: ChannelRequest) -> None:
    if body.kind == "webhook":
        try:
            parts = urlsplit(body.target)
        except ValueError:
            parts = urlsplit("")
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise BadRequest(f"{body.target!r} is no address for a webhook; it looks like https://example.org/hook")
        if body.reports != "none":
            raise BadRequest("reports go out by mail; a webhook gets alerts only")
    elif "@" not in body.target.strip("@") or any(character.isspace() or ord(character) < 32 for character in body.target):
        raise BadRequest(f"{body.target!r} is no address of mail; it looks like lamps@example.org")


@router.delete("/channels/{name}")
async def remove_channel(name: str, node: TheNode, caller: TokenKeeper) -> list[ChannelAnswer]:
    """Remove a channel with its waiting notices. The answer lists the remaining channels."""
    async with node.pool.connection() as connection, connection.transaction():
        await alerts.remove_channel(connection, name)
        await trail.add_entry(connection, caller.changed_by, "removed channel", name)
    return [channel_answer(channel) for channel in await alerts.list_channels(node.pool)]


@router.get("/notices")
async def list_notices(node: TheNode, _: RequireView, limit: Annotated[int, Query(ge=1, le=500)] = 50) -> list[NoticeAnswer]:
    """The latest notices: sent, waiting, or given up."""
    return [NoticeAnswer(**notice) for notice in await alerts.list_notices(node.pool, limit)]


@router.get("/endpoints/{endpoint}/report", response_class=Response, responses={200: {"content": {"text/html": {}, "application/pdf": {}}}})
async def get_report(
    endpoint: str,
    node: TheNode,
    _: RequireView,
    form: Form = "html",
    period: Literal["day", "week", "month"] = "week",
    until: Annotated[Instant | None, Query(description="end of the period; now by default")] = None,
) -> Response:
    """A report for a day, a week or thirty days, as a page or as PDF."""
    end = until or datetime.now(UTC)
    if not 2000 < end.year < 3000:
        raise BadRequest("a report ends after the year 2000")
    async with in_turn():
        facts = await report_facts(node.pool, node.deployment, endpoint, end - PERIODS[period], end)
        document = await draw_page("report", facts, form)
    return Response(document, media_type=MEDIA_TYPES[form], headers={"content-disposition": f'inline; filename="{endpoint}.{form}"'})
