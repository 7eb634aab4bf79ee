"""Gathers the facts of a report about a finished bulk run, and sends it by mail to whom its order names."""

from __future__ import annotations

import asyncio
import logging
import re
import smtplib
from collections.abc import Sequence
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any

from lamppost.core.bulk.order import source_name
from lamppost.core.bulk.run_report import USUAL_TEXT, RunReport, change_sentence, count_changes
from lamppost.core.drift.window_verdict import WindowVerdict
from lamppost.core.errors import BadRequest, LampPostError
from lamppost.core.names import closest_name
from lamppost.service.bulk.run_comparison import RunComparison, compare_run
from lamppost.service.pages.draw import draw_page
from lamppost.service.records.window_counting import WindowCounting
from lamppost.store import alerts
from lamppost.store.bulk import bulk_runs
from lamppost.store.bulk.bulk_runs import BulkRun
from lamppost.store.database import Pool

if TYPE_CHECKING:
    from lamppost.service.monitoring.notices import NoticeSender

log = logging.getLogger("lamppost.reports")

_CERTAINTY = re.compile(r" \(p [^)]*\)")
_PAUSES = tuple(timedelta(seconds=wait) for wait in (20, 60, 300, 900, 3_600))


async def check_receivers(pool: Pool, report: RunReport | None) -> None:
    """Raise BadRequest unless every receiver of a report is a mail channel."""
    if report is None or not report.to:
        return
    known = {channel.name: channel for channel in await alerts.list_channels(pool)}
    mails = [name for name, channel in known.items() if channel.kind == "mail"]
    for name in report.to:
        if name not in known:
            like = closest_name(name, mails)
            there = f"did you mean {like}?" if like else f"there are: {', '.join(mails) or 'none'}"
            raise BadRequest(f"there is no mail channel {name!r} to send the report to; {there} Make one: lamppost channel add")
        if name not in mails:
            raise BadRequest(f"{name} is a webhook, and reports go out by mail; name a mail channel")


async def run_report_facts(pool: Pool, counting: WindowCounting, run: BulkRun, address: str) -> dict[str, Any]:
    """The facts of a report about a run, as JSON values. address : of the service, for links."""
    counts = await bulk_runs.count_blocks(pool, run.name)
    compared = await compare_run(pool, counting, run)
    report = run.order.report or RunReport()
    result = run.result or {}
    source = source_name(run.order, run.source)
    answers = []
    for column, found in compared.answers.items():
        changes = count_changes(found, (compared.answers_before or {}).get(column) if compared.before else None)
        answers.append({"column": column, "changes": changes, "sentence": change_sentence(column, changes, compared.before)})
    of = run.order.questions[0].of
    first = next(iter(compared.answers.values()), {})
    return {
        "run": run.name,
        "endpoint": of,
        "versions": list(run.versions),
        "source": source,
        "made_by": run.made_by,
        "started_at": run.started_at,
        "ended_at": run.ended_at,
        "rows": counts.rows,
        "answered": counts.rows - counts.rejects,
        "rejects": counts.rejects,
        "first_rejects": (result.get("first_rejects") or [])[:10],
        "rejects_file": result.get("rejects"),
        "answers": answers,
        "spreads": [asdict(spread) for spread in compared.spreads] if not compared.answers else [],
        "before": compared.before,
        "drift": _drift_sentences(compared),
        "chosen": result.get("chosen"),
        "where": list(report.where),
        "sort": list(report.sort),
        "output": run.order.target or result.get("path"),
        "link": f"{address}/bulk/{run.name}",
        "download": f"{address}/api/bulk/{run.name}/output" if run.order.target is None else None,
        "text": report.text or USUAL_TEXT,
        "words": {
            "endpoint": of,
            "run": run.name,
            "source": source,
            "rows": counts.rows,
            "answered": counts.rows - counts.rejects,
            "rejects": counts.rejects,
            "answers": first,
            "answers_before": next(iter((compared.answers_before or {}).values()), {}),
            "run_before": compared.before,
            "chosen": (result.get("chosen") or {}).get("matching", 0),
            "date": f"{run.ended_at or datetime.now(UTC):%Y-%m-%d}",
        },
    }


def _drift_sentences(compared: RunComparison) -> list[str]:
    sentences = []
    for one in compared.drift:
        if one.training is not None:
            steady = one.training.state == "steady"
            sentences.append("Rows and answers are like those of training." if steady else f"Against training: {_plain(one.training)}")
        if one.before is not None and one.before.state != "steady" and one.before_run is not None:
            sentences.append(f"Against {one.before_run}: {_plain(one.before)}")
    return sentences or ["Too few rows, or no reference, to say whether they are like those of training."]


def _plain(verdict: WindowVerdict) -> str:
    """A verdict without its figures of certainty, which its readers need no more than the state."""
    return _CERTAINTY.sub("", verdict.summary)


def report_subject(facts: dict[str, Any]) -> str:
    """The subject of its mail."""
    text = f"{facts['endpoint']}: {facts['answered']:,} rows of {facts['run']}"
    return text + (f", {facts['rejects']:,} rejected" if facts["rejects"] else "")


class RunReports:
    """Sends the reports of finished runs. A report that cannot be sent is tried again for a day."""

    def __init__(self, pool: Pool, counting: WindowCounting, notices: NoticeSender, address: str) -> None:
        self._pool = pool
        self._counting = counting
        self._notices = notices
        self._address = address
        self._tries: dict[str, tuple[int, datetime]] = {}

    async def send_due(self, now: datetime) -> None:
        """Send what is due."""
        due = await bulk_runs.runs_to_report(self._pool)
        self._tries = {name: tried for name, tried in self._tries.items() if name in {run.name for run in due}}
        for run in due:
            tries, again_at = self._tries.get(run.name, (0, now))
            if again_at > now:
                continue
            try:
                await self._send(run)
            except (OSError, ValueError, smtplib.SMTPException, LampPostError) as error:
                message = str(error) or type(error).__name__
                log.warning("the report of the bulk run %s was not sent: %s", run.name, message)
                self._tries[run.name] = (tries + 1, now + _PAUSES[min(tries, len(_PAUSES) - 1)])
                await bulk_runs.note_report(self._pool, run.name, message[:500])
            else:
                await bulk_runs.note_report(self._pool, run.name, None)

    async def _send(self, run: BulkRun) -> None:
        assert run.order.report is not None
        channels = {channel.name: channel for channel in await alerts.list_channels(self._pool)}
        if gone := [name for name in run.order.report.to if name not in channels]:
            raise ValueError(f"there is no channel {gone[0]} any more")
        facts = await run_report_facts(self._pool, self._counting, run, self._address)
        page = (await draw_page("run_report", facts, "html")).decode()
        paper = await draw_page("run_report", facts, "pdf")
        targets: Sequence[str] = [channels[name].target for name in run.order.report.to]
        text = f"{report_subject(facts)}\n\n{' '.join(facts['drift'])}\n\n{facts['link']}\n"
        for target in targets:
            attached = [(f"{run.name}.pdf", "pdf", paper)]
            await asyncio.to_thread(self._notices.send_mail, target, report_subject(facts), text, attached, page)
