"""API of drift, traffic, outcomes, and calls that were answered elsewhere."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import Annotated
from uuid import UUID

import orjson
from fastapi import APIRouter, Query

from lamppost.core.drift.baseline import DriftBaseline
from lamppost.core.drift.live_history import live_pairs
from lamppost.core.drift.verdict_text import bin_shares, describe_verdict, window_as_reference
from lamppost.core.drift.verdicts import judge_windows
from lamppost.core.drift.window_verdict import WindowVerdict
from lamppost.core.drift.windows import pool_windows
from lamppost.core.endpoint.outposts import brought_by_outpost
from lamppost.core.errors import BadRequest, NotFound
from lamppost.core.monitoring.latency_histogram import quantiles
from lamppost.core.names import closest_name, parse_version
from lamppost.core.payload.recorded_bodies import request_rows
from lamppost.core.roles import Principal
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.service.api.access import PROBLEMS, Pointer, RequireCaller, RequireView, TheNode
from lamppost.service.api.schemas.base import Instant
from lamppost.service.api.schemas.calls import ImportCallsAnswer, ImportCallsRequest
from lamppost.service.api.schemas.drift import (
    DriftAnswer,
    DriftExplanationAnswer,
    FeatureBinsAnswer,
    FeatureDriftAnswer,
    FeatureStep,
    PairDriftAnswer,
    WindowAnswer,
)
from lamppost.service.api.schemas.outcomes import OutcomesAnswer, OutcomesRequest, QualityAnswer, check_identified
from lamppost.service.api.schemas.traffic import (
    ChangeMark,
    ErrorBudgetAnswer,
    LanesStep,
    Percentiles,
    PhasePercentiles,
    TrafficAnswer,
    TrafficStep,
)
from lamppost.service.monitoring import outcomes
from lamppost.service.monitoring.alert_evaluation import endpoint_budgets
from lamppost.service.monitoring.drift_evaluation import window_start
from lamppost.service.node import Node
from lamppost.service.prediction.request_ids import new_request_id
from lamppost.service.records.record_writer import InProcessSink
from lamppost.store import endpoints, packages, timeline, windows
from lamppost.store.bulk import bulk_runs
from lamppost.store.call_records import CallRecord, pack_calls
from lamppost.store.hub import outposts
from lamppost.store.spool import SpoolFrame
from lamppost.store.timeline import Histogram
from lamppost.store.windows import JudgedWindow

router = APIRouter(prefix="/api", tags=["watching"], responses=PROBLEMS)

_STEPS = (10, 30, 60, 300, 600, 1_800, 3_600, 10_800, 21_600, 86_400)
_MOST_MOMENTS = 240
_PHASES = ("token", "read", "validate", "queue", "worker", "answer", "total")
_WINDOWS = 400
Since = Annotated[Instant | None, Query(description="start of the span")]
Until = Annotated[Instant | None, Query(description="end of the span; now by default")]


def _span(since: datetime | None, until: datetime | None, usual: timedelta) -> tuple[datetime, datetime]:
    end = until or datetime.now(UTC)
    start = since or end - usual
    if not start < end or end - start > timedelta(days=3_700) or start.year < 2000:
        raise BadRequest("a span begins before it ends, after the year 2000, and is at most ten years long")
    return start, end


# -- drift --------------------------------------------------------------------------------------------------------------


@router.get("/endpoints/{endpoint}/drift")
async def get_drift(
    endpoint: str,
    node: TheNode,
    _: RequireView,
    version: Annotated[str | None, Query(max_length=200)] = None,
    at: Annotated[Instant | None, Query(description="a time in the window to look at; the newest by default")] = None,
    against: Annotated[Instant | None, Query(description="a time in an earlier window to hold it against; training by default")] = None,
) -> DriftAnswer:
    """Whether an endpoint's rows and answers still look like training, figure by figure, and why not."""
    route = node.deployment.table.find_route(endpoint)
    name = version or str(route.in_force.version)
    now = datetime.now(UTC)
    past, window = await _windows(node, endpoint, name, at)
    scorer = await node.window_counting.scorer_of_version(name)
    if at is not None and window is None:
        raise NotFound(f"{endpoint} has no window of {name} at {at:%Y-%m-%d %H:%M} UTC; leave the time out for the newest")
    verdict = window.verdict if window is not None else None
    if window is not None and against is not None:
        verdict = await _against(node, window, against)
    brought = await bulk_runs.rows_counted_as_traffic(node.pool, endpoint, name, past[0].at, now) if past else []
    nothing = "Nothing was counted yet; ask it something." if scorer else f"{name} was packed without a reference; pack it again."
    shown = verdict or WindowVerdict("too few", nothing, windows=1, rows=0)
    return DriftAnswer(
        endpoint=endpoint,
        version=name,
        summary=shown.summary,
        state=verdict.state if verdict else None,
        against="training" if against is None else window_start(against, window.until - window.at).isoformat() if window else "training",
        window=_window(window, now, brought) if window is not None else None,
        pooled=shown.windows,
        figures=[FeatureDriftAnswer.model_validate(field, from_attributes=True) for field in shown.fields],
        pairs=[PairDriftAnswer.model_validate(pair, from_attributes=True) for pair in shown.pairs],
        explanation=DriftExplanationAnswer.model_validate(window.explanation, from_attributes=True)
        if window is not None and window.explanation is not None and against is None
        else None,
        windows=[_window(other, now, brought) for other in past],
        watched=scorer is not None,
    )


async def _windows(node: Node, endpoint: str, version: str, at: datetime | None) -> tuple[list[JudgedWindow], JudgedWindow | None]:
    """The last windows of a version, and the window that contains a time, or the newest."""
    now = datetime.now(UTC)
    past = (await windows.judged_windows(node.pool, endpoint, version, now - timedelta(days=400), now))[-_WINDOWS:]
    return past, next((judged for judged in reversed(past) if at is None or judged.at <= at < judged.until), None)


def _window(judged: JudgedWindow, now: datetime, brought: Sequence[tuple[datetime, int]]) -> WindowAnswer:
    return WindowAnswer(
        version=judged.version,
        at=judged.at,
        until=judged.until,
        over=judged.until <= now,
        rows=judged.rows,
        bulk_rows=min(judged.rows, sum(rows for at, rows in brought if judged.at <= at < judged.until)),
        odd=judged.odd,
        state=judged.state,
        summary=judged.verdict.summary,
    )


async def _against(node: Node, judged: JudgedWindow, earlier: datetime) -> WindowVerdict:
    """The verdict on a window compared with an earlier one instead of the reference."""
    scorer = await node.window_counting.scorer_of_version(judged.version)
    if scorer is None or scorer.sketcher is None:
        raise NotFound(f"{judged.version} has no reference, so its windows cannot be held against each other")
    span = judged.until - judged.at
    start = window_start(earlier, span)
    pair = [
        await node.drift_evaluation.counted_ticks(judged.endpoint, judged.version, scorer, begin, begin + span)
        for begin in (start, judged.at)
    ]
    if not pair[0] or not pair[1]:
        raise NotFound(f"nothing was counted in the window that begins at {start:%Y-%m-%d %H:%M} UTC")
    base = scorer.sketcher.against
    (before, rows), (after, _) = (pool_windows([tick[:2] for tick in ticks.values()]) for ticks in pair)
    held = DriftBaseline(window_as_reference(base.known, before.fields), rows, base.paired, live_pairs(base.pairs, before))
    verdict = await asyncio.to_thread(judge_windows, held, [after])
    return describe_verdict(verdict, f"the window of {start:%Y-%m-%d %H:%M}")


@router.get("/endpoints/{endpoint}/drift/{figure}")
async def get_figure(
    endpoint: str,
    figure: str,
    node: TheNode,
    _: RequireView,
    version: Annotated[str | None, Query(max_length=200)] = None,
    at: Annotated[Instant | None, Query(description="a time in the window to look at; the newest by default")] = None,
) -> FeatureBinsAnswer:
    """One watched feature: the bins of reference and window, and its history."""
    name = version or str(node.deployment.table.find_route(endpoint).in_force.version)
    scorer = await node.window_counting.scorer_of_version(name)
    known = (
        {feature.name: feature for feature in scorer.sketcher.against.known} if scorer is not None and scorer.sketcher is not None else {}
    )
    if figure not in known:
        like = closest_name(figure, list(known))
        raise NotFound(f"{name} has no figure {figure!r}" + (f"; did you mean {like}?" if like else ""))
    past, window = await _windows(node, endpoint, name, at)
    sketch = None
    if window is not None and scorer is not None:
        span = (window.until - window.at) * window.verdict.windows
        ticks = await node.drift_evaluation.counted_ticks(endpoint, name, scorer, window.until - span, window.until)
        if ticks:
            sketch = pool_windows([tick[:2] for tick in ticks.values()])[0].fields.get(figure)
    shares = bin_shares(known[figure], sketch)
    return FeatureBinsAnswer(name=figure, numbers=known[figure].numbers, history=[_then(other, figure) for other in past], **shares)


def _then(judged: JudgedWindow, figure: str) -> FeatureStep:
    changed = next((field for field in judged.verdict.fields if field.name == figure), None)
    if changed is None:
        return FeatureStep(at=judged.at, state="too few", size=0.0, summary=judged.verdict.summary)
    size = changed.findings[0].size if changed.findings else 0.0
    return FeatureStep(at=judged.at, state=changed.state, size=size, summary=changed.summary)


# -- load ---------------------------------------------------------------------------------------------------------------


@router.get("/endpoints/{endpoint}/traffic")
async def get_traffic(
    endpoint: str,
    node: TheNode,
    _: RequireView,
    since: Since = None,
    until: Until = None,
    step_s: Annotated[int | None, Query(ge=10, le=86_400, description="seconds of a step; as many as fit by default")] = None,
) -> TrafficAnswer:
    """Calls, errors, percentiles by phase, batches and lanes over time, with the changes of what is served."""
    route = node.deployment.table.find_route(endpoint)
    start, end = _span(since, until, timedelta(hours=1))
    length = (end - start).total_seconds()
    step = step_s or next((one for one in _STEPS if length / one <= _MOST_MOMENTS), _STEPS[-1])
    if length / step > 10_000:
        raise BadRequest(f"a span of {length / 86_400:.0f} days has too many steps of {step} s; leave step_s out")
    loads = await timeline.load_steps(node.pool, endpoint, start, end, step)
    phases = await timeline.phase_histograms(node.pool, endpoint, start, end)
    versions = [str(version) for version in route.setup.versions]
    monitoring = route.setup.monitoring
    levels = (
        (await endpoint_budgets(node.pool, endpoint, monitoring.objectives, datetime.now(UTC)))[0]
        if monitoring.objectives is not None
        else []
    )
    total = timeline.sum_steps(loads, start)
    return TrafficAnswer(
        endpoint=endpoint,
        since=start,
        until=end,
        step_s=step,
        summary=_load_summary(total, length),
        moments=[_moment(load, step) for load in loads],
        phases=[_phase(name, phases[name]) for name in _PHASES if name in phases],
        batch_rows=_percentiles(phases.get("batch", {}), 1.0, whole=True),
        statuses={str(status): calls for status, calls in total.statuses.items()},
        lanes=[LanesStep(**lane) for lane in await timeline.lane_samples(node.pool, versions, start, end, max(30, step))],
        changes=[
            ChangeMark(at=revision.since, summary=revision.setup.summary(), by=revision.changed_by)
            for revision in await endpoints.endpoint_history(node.pool, endpoint, 200)
            if start <= revision.since < end
        ],
        budgets=[ErrorBudgetAnswer(**asdict(level)) for level in levels],
    )


def _moment(load: timeline.LoadStep, step: int) -> TrafficStep:
    speed = _percentiles(load.latency, 1e-3)
    return TrafficStep(
        at=load.at,
        calls=load.calls,
        refused=load.refused,
        failed=load.failed,
        rows=round(load.rows),
        rate=round(load.calls / step, 3),
        versions=load.versions,
        **speed.model_dump(),
    )


def _phase(name: str, counts: Histogram) -> PhasePercentiles:
    return PhasePercentiles(phase=name, calls=sum(counts.values()), ms=_percentiles(counts, 1e-3))


def _percentiles(counts: Histogram, scale: float, whole: bool = False) -> Percentiles:
    values = quantiles(counts, (0.5, 0.9, 0.95, 0.99))
    percentiles = [None if value is None else max(1.0, round(value)) if whole else round(value * scale, 3) for value in values]
    return Percentiles(p50=percentiles[0], p90=percentiles[1], p95=percentiles[2], p99=percentiles[3])


_UNITS = (("a second", 1), ("a minute", 60), ("an hour", 3_600), ("a day", 86_400))


def _load_summary(total: timeline.LoadStep, length_s: float) -> str:
    calls, failed = total.calls, total.failed
    if not calls:
        return "No calls in this span."
    p99 = quantiles(total.latency, (0.99,))[0]
    fast = f", p99 {p99 / 1e3:,.1f} ms" if p99 is not None else ""
    wrong = f"{failed:,} failed" if failed else "none failed"
    rate, unit = next((each, unit) for each, unit in ((calls / length_s * s, unit) for unit, s in _UNITS) if each >= 1 or unit == "a day")
    return f"{calls:,} calls, {rate:,.0f} {unit}{fast}, {wrong}."


# -- outcomes -----------------------------------------------------------------------------------------------------------


@router.post("/endpoints/{endpoint}/outcomes")
async def tell_outcomes(endpoint: str, body: OutcomesRequest, node: TheNode, caller: RequireCaller) -> OutcomesAnswer:
    """Report the truth about earlier answers, by request id and row or by a key. A second report replaces the first."""
    caller.require_permission("predict", endpoint)
    node.deployment.table.find_route(endpoint)
    return await store_outcomes(node, endpoint, body, caller.principal)


async def store_outcomes(node: Node, endpoint: str, body: OutcomesRequest, by: Principal) -> OutcomesAnswer:
    """Store what was reported of an endpoint; see `outcomes.store_reported_outcomes`."""
    check_identified(body)
    told_outcomes = [
        outcomes.ReportedOutcome(outcome.truth, outcome.request_id, outcome.row, None if outcome.key is None else str(outcome.key))
        for outcome in body.outcomes
    ]
    span = _span(body.since, body.until, outcomes.SINCE)
    taken = await outcomes.store_reported_outcomes(node.pool, node.deployment, endpoint, told_outcomes, body.key, span, by)
    summary = f"{taken.new:,} outcomes of {endpoint} are new, {taken.known - taken.new:,} were known"
    if taken.unknown:
        summary += f"; {len(taken.unknown):,} belong to no recorded answer (the first is number {taken.unknown[0]})"
    return OutcomesAnswer(new=taken.new, known=taken.known, unknown=taken.unknown[:1_000], summary=summary + ".")


@router.get("/endpoints/{endpoint}/quality")
async def get_quality(
    endpoint: str,
    node: TheNode,
    _: RequireView,
    since: Since = None,
    until: Until = None,
    at: Annotated[str | None, Query(max_length=200, description="an outpost: only of what it answered")] = None,
) -> QualityAnswer:
    """How good answers were: accuracy, precision and recall, calibration or error, by version and slice and over time, with intervals."""
    node.deployment.table.find_route(endpoint)
    start, end = _span(since, until, outcomes.SINCE)
    brought_by = None if at is None else brought_by_outpost((await outposts.get_outpost(node.pool, at)).name)
    found = await outcomes.quality_page(node.pool, node.deployment, endpoint, start, end, brought_by=brought_by)
    return QualityAnswer.model_validate(found)


# -- calls from elsewhere -----------------------------------------------------------------------------------------------


@router.post("/endpoints/{endpoint}/calls")
async def bring_calls(endpoint: str, request: ImportCallsRequest, node: TheNode, caller: Pointer) -> ImportCallsAnswer:
    """Import calls that were answered elsewhere. They are counted and judged at their own times, and marked with their source."""
    node.deployment.table.find_route(endpoint)
    for name in {call.version for call in request.calls}:
        await packages.get_version(node.pool, parse_version(name))
    now, schema = datetime.now(UTC), await node.changes.schema_of_setup(node.deployment.table.find_route(endpoint).setup)
    policy = RedactionPolicy(schema.inputs, schema.options, schema.answers)
    calls, ids = [], []
    for at, sent_call in enumerate(request.calls):
        when = sent_call.at
        if not now - timedelta(days=3_650) < when <= now + timedelta(minutes=5):
            raise BadRequest(f"call {at} is of {when:%Y-%m-%d}; it is of the last ten years and not of the future")
        request_id = new_request_id(int(when.timestamp() * 1e3))
        ids.append(UUID(request_id))
        body, answer = orjson.dumps(sent_call.input), orjson.dumps(sent_call.answer)
        if not policy.keeps_everything:
            answered = sent_call.status == 200 and isinstance(sent_call.input, dict)
            body = policy.redact_request(body) if answered else policy.redact_refused(body) or b"null"
            answer = policy.redact_answer(answer) if answered and isinstance(sent_call.answer, dict) else b"null"
        rows = max(1, len(request_rows(sent_call.input)))
        token, took = sent_call.token or caller.token, sent_call.total_us
        calls.append(
            CallRecord(
                when.timestamp(),
                request_id,
                endpoint,
                sent_call.version,
                token,
                sent_call.status,
                rows,
                None,
                took,
                sent_call.phases_us,
                body,
                answer,
            )
        )
    frame = SpoolFrame(f"brought {request.batch.hex}", 1, "calls", pack_calls(calls))
    await InProcessSink(node.pool, node.window_counting).bring([frame], request.source)
    return ImportCallsAnswer(request_ids=ids)
