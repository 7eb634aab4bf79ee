"""Gathers the facts of a report, has it drawn by a process of its own, and sends scheduled reports by mail."""

from __future__ import annotations

import asyncio
import logging
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any

from lamppost.core.errors import LampPostError
from lamppost.core.monitoring.alert_rules import error_budgets
from lamppost.core.monitoring.latency_histogram import quantiles
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.monitoring.outcomes import quality_page
from lamppost.service.pages.draw import draw_page
from lamppost.store import alerts, endpoints, outcomes, timeline, windows
from lamppost.store.database import Pool

if TYPE_CHECKING:
    from lamppost.service.monitoring.notices import NoticeSender

log = logging.getLogger("lamppost.reports")

PERIODS = {"day": timedelta(days=1), "week": timedelta(days=7), "month": timedelta(days=30)}
_STEPS = 84


async def report_facts(pool: Pool, deployment: Deployment, endpoint: str, since: datetime, until: datetime) -> dict[str, Any]:
    """The facts of a report as JSON values."""
    route = deployment.table.find_route(endpoint)
    step_s = max(60, int((until - since).total_seconds() / _STEPS))
    stretches = await timeline.load_steps(pool, endpoint, since, until, step_s)
    total = timeline.sum_steps(stretches, since)
    judged = await windows.judged_windows(pool, endpoint, None, since, until)
    fired = [
        alert for alert in await alerts.list_alerts(pool, endpoint, None, 100) if alert.alert.since < until and alert.alert.seen_at >= since
    ]
    objectives = route.setup.monitoring.objectives
    quality = await _latest_quality(pool, deployment, endpoint, since, until)
    slow = await timeline.service_level_totals(pool, endpoint, since, objectives.fast_ms if objectives else None)
    levels = error_budgets(objectives, slow, slow) if objectives else []
    drifted = [window for window in judged if window.state == "drifted"]
    return {
        "endpoint": endpoint,
        "serves": route.setup.summary(),
        "since": since,
        "until": until,
        "calls": total.calls,
        "refused": total.refused,
        "failed": total.failed,
        "latency": dict(zip(("p50", "p95", "p99"), (_ms(us) for us in quantiles(total.latency, (0.5, 0.95, 0.99))), strict=True)),
        "over_time": [
            {
                "at": stretch.at,
                "calls": stretch.calls,
                "failed": stretch.failed,
                "p50": _ms(quantiles(stretch.latency, (0.5,))[0]),
                "p99": _ms(quantiles(stretch.latency, (0.99,))[0]),
            }
            for stretch in stretches
        ],
        "windows": [
            {"at": window.at, "until": window.until, "state": window.state, "rows": window.rows, "odd": window.odd} for window in judged
        ],
        "drift": _drift(judged),
        "quality": quality,
        "budgets": [
            {"name": level.name, "objective": level.objective, "calls": level.calls, "bad": level.bad, "spent": level.spent}
            for level in levels
        ],
        "alerts": [
            {
                "rule": alert.alert.rule,
                "state": alert.alert.state,
                "since": alert.alert.since,
                "resolved_at": alert.alert.resolved_at,
                "summary": alert.alert.reading.summary,
                "probable_cause": alert.alert.reading.probable_cause,
            }
            for alert in fired
        ],
        "changes": [
            {"at": revision.since, "summary": revision.setup.summary(), "by": revision.changed_by}
            for revision in await endpoints.endpoint_history(pool, endpoint, 200)
            if since <= revision.since < until
        ],
        "summary": _report_summary(endpoint, total.calls, total.failed, _ms(quantiles(total.latency, (0.99,))[0]), drifted, quality),
        "made_at": datetime.now(UTC),
    }


async def _latest_quality(pool: Pool, deployment: Deployment, endpoint: str, since: datetime, until: datetime) -> dict[str, Any]:
    """The quality of answers in a span; where nothing is known of them, in the latest span of that length whose truths are known.

    The truth often comes weeks after the answer, so the last week alone would never be known. earlier : whether it is another span.
    """
    quality = await quality_page(pool, deployment, endpoint, since, until)
    if quality["versions"]:
        return quality | {"earlier": False}
    last = await outcomes.last_known_answer(pool, endpoint, since)
    if last is None:
        return quality | {"earlier": False}
    end = last + timedelta(seconds=1)
    earlier = await quality_page(pool, deployment, endpoint, end - (until - since), end)
    span = _span_text(earlier["since"], earlier["until"])
    summary = f"Of the answers of this period nothing is known yet. The latest that are known are of {span}: {earlier['summary']}"
    return earlier | {"earlier": True, "summary": summary}


def _span_text(since: datetime, until: datetime) -> str:
    return f"{since:%-d %b %Y} to {until:%-d %b %Y}"


def _ms(us: float | None) -> float | None:
    return None if us is None else round(us / 1e3, 3)


def _drift(judged: list[windows.JudgedWindow]) -> dict[str, Any] | None:
    """The worst window: the newest that drifted, else the newest at all."""
    drifted = [window for window in judged if window.state == "drifted"]
    worst = (drifted or judged)[-1:] or None
    if worst is None:
        return None
    worst_window = worst[0]
    cause = next((other.explanation.summary for other in reversed(drifted) if other.explanation), None)
    return {"at": worst_window.at, "version": worst_window.version, **asdict(worst_window.verdict), "probable_cause": cause}


def _report_summary(
    endpoint: str, calls: int, failed: int, p99: float | None, drifted: list[windows.JudgedWindow], quality: dict[str, Any]
) -> str:
    sentences = [f"{endpoint} answered {calls:,} calls" + (f", {failed:,} of them failed" if failed else ", none failed")]
    if p99 is not None:
        sentences.append(f"99 of 100 within {p99:,.0f} ms")
    sentences.append(
        f"its inputs or answers drifted in {len(drifted)} windows" if drifted else "its inputs and answers stayed as in training"
    )
    first = next(iter(quality["versions"]), None)
    if first is not None and first["kind"] == "labels" and first["accuracy"] is not None:
        of = f", of {_span_text(quality['since'], quality['until'])}," if quality["earlier"] else ""
        sentences.append(f"{100 * first['accuracy']['value']:.0f} % of the answers{of} whose truth is known were right")
    return "; ".join(sentences) + "."


async def send_due_reports(pool: Pool, deployment: Deployment, notices: NoticeSender, now: datetime) -> None:
    """Send the reports whose day or week is over by mail; a failed one is tried again with the next run."""
    for channel in await alerts.list_channels(pool):
        span = {"daily": PERIODS["day"], "weekly": PERIODS["week"]}.get(channel.reports)
        if span is None or channel.kind != "mail" or now - (channel.reported_at or channel.made_at) < span:
            continue
        try:
            for endpoint in sorted(channel.endpoints or deployment.table.by_endpoint):
                if endpoint in deployment.table.by_endpoint:
                    facts = await report_facts(pool, deployment, endpoint, now - span, now)
                    pages = [
                        (f"{endpoint}.html", "html", await draw_page("report", facts, "html")),
                        (f"{endpoint}.pdf", "pdf", await draw_page("report", facts, "pdf")),
                    ]
                    await asyncio.to_thread(
                        notices.send_mail, channel.target, f"{endpoint}, {channel.reports} report", facts["summary"], pages
                    )
        except (OSError, ValueError, LampPostError) as error:
            log.warning("the report to %s was not sent: %s", channel.name, error)
            continue
        await alerts.note_report_sent(pool, channel.name, now)
