"""Judges windows: compares whatever was counted since the last turn with the reference, window by window."""

from __future__ import annotations

import asyncio
import logging
import time
from collections import defaultdict
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from cachetools import LRUCache

from lamppost.core.drift.verdict_text import change_start, describe_verdict
from lamppost.core.drift.verdicts import LADDER, FieldSketch, WindowSketch, judge_windows
from lamppost.core.drift.window_verdict import WindowVerdict
from lamppost.core.drift.windows import WindowLayout, pool_windows, read_window, write_window
from lamppost.core.errors import LampPostError
from lamppost.core.monitoring.settings import MonitoringSettings
from lamppost.core.monitoring.watermark import Watermark
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.monitoring.drift_explanation import explain_window
from lamppost.service.records.window_counting import ReferenceScorer, WindowCounting
from lamppost.store import windows
from lamppost.store.database import Pool
from lamppost.store.windows import JudgedWindow, UnjudgedWindows, WindowDelta

log = logging.getLogger("lamppost.drift")

LEAST_ROWS = 50
"""A window of fewer rows is pooled with those before it."""
_BACK = 4 * LADDER[-1]
_TURN_S = 2.0
"""Longest time for judging before another job has its turn."""
_SETTLED_S = 60.0
"""Transactions may end in another order than their deltas were numbered in, but not so much later."""
_OVER_S = 1_200.0
"""A tick of a delta that was seen so long ago is over, and merged."""
_MERGED = 500
"""Ticks that are merged in one look at most."""
_EXPLAINED = 3
"""Most windows of one turn that are explained: the newest that are not steady, besides the first."""

_REMEMBERED = 10_000

Ticks = dict[datetime, tuple[WindowSketch, int, int]]


def window_start(at: datetime, span: timedelta) -> datetime:
    """The start of the window that a time lies in; windows are counted from 1970, so that all nodes have the same."""
    seconds = span.total_seconds()
    return datetime.fromtimestamp(at.timestamp() // seconds * seconds, UTC)


class DriftEvaluation:
    """Judges windows, on the leading node only. judged_endpoints : endpoints with verdicts that alerts have not read yet."""

    def __init__(self, pool: Pool, deployment: Deployment, window_counting: WindowCounting) -> None:
        self._pool = pool
        self._deployment = deployment
        self._counting = window_counting
        self.unread = 0
        self.judged_endpoints: set[str] = set()
        self._through = self._merged = 0
        self._watermark = Watermark(_OVER_S)
        self._explained: LRUCache[tuple[str, str, datetime], tuple[tuple[str, ...], int, bool]] = LRUCache(_REMEMBERED)

    def settings_of(self, endpoint: str) -> MonitoringSettings:
        """The monitoring settings of an endpoint; the defaults if the endpoint is gone."""
        route = self._deployment.table.by_endpoint.get(endpoint)
        return route.setup.monitoring if route is not None else MonitoringSettings()

    async def judge_new_windows(self) -> int:
        """Judge windows with new counts, those that wait for longest first, as long as there is time. Returns how many."""
        many, begun = 0, time.monotonic()
        new = await windows.unjudged_windows(self._pool, self._through)
        # up to where everything is judged: no look has to go through what was counted in a year
        self._watermark.note_row(begun, max((fresh.number for fresh in new), default=0))
        self._through = min([self._watermark.highest_by(begun - _SETTLED_S), *(fresh.first - 1 for fresh in new)])
        for fresh in new:
            if time.monotonic() - begun > _TURN_S:
                break
            scorer = await self._counting.scorer_of_version(fresh.version)
            if scorer is None or scorer.sketcher is None:
                await windows.store_verdicts(self._pool, [], fresh)
                continue
            judged = await self._judge(fresh, scorer)
            await windows.store_verdicts(self._pool, judged, fresh)
            many += len(judged)
            self.judged_endpoints.add(fresh.endpoint)
            await self._explain(judged, scorer)
        return many

    async def counted_ticks(self, endpoint: str, version: str, scorer: ReferenceScorer, start: datetime, end: datetime) -> Ticks:
        """What was counted in a span, by tick: sketch, rows, odd rows. Counts of other software versions are left out and logged."""
        assert scorer.layout is not None
        deltas = await windows.deltas_between(self._pool, endpoint, version, start, end)
        ticks, unread = await asyncio.to_thread(_ticks, scorer.layout, deltas)
        for delta in unread:
            self.unread += 1
            log.warning("%s at %s: a window of %s was counted by other software and is left out", version, endpoint, delta.at)
        return ticks

    async def _judge(self, fresh: UnjudgedWindows, scorer: ReferenceScorer) -> list[JudgedWindow]:
        span = timedelta(minutes=self.settings_of(fresh.endpoint).window_minutes)
        first, last = window_start(fresh.at[0], span), window_start(fresh.at[-1], span)
        ticks = await self.counted_ticks(fresh.endpoint, fresh.version, scorer, first - _BACK * span, last + LADDER[-1] * span)
        return await asyncio.to_thread(_judged, fresh, scorer, span, ticks, first)

    async def _explain(self, judged: list[JudgedWindow], scorer: ReferenceScorer) -> None:
        """Explain the newest windows that are not steady, and the one with which the change began."""
        wrong = [window for window in judged if window.state in ("shifting", "drifted")]
        for window in [*wrong[:1], *wrong[1:][-_EXPLAINED:]]:
            if (
                not self.needs_explaining(window) and judged[0].at == window.at
            ):  # with windows before it judged anew, since when may be another time
                continue
            try:
                begun = await self.change_started_at(window, scorer)
                await windows.store_explanation(self._pool, window, await explain_window(self._pool, self._deployment, window, begun))
            except LampPostError as error:
                log.info("no reason was found for %s at %s: %s", window.version, window.endpoint, error.detail)

    def needs_explaining(self, window: JudgedWindow) -> bool:
        """Whether reasons for a window are to be sought: at first, when other fields have changed, with twice the rows, once it is closed.

        A window that is open is judged every few seconds, and looking through its calls is what costs most of all this.
        """
        key = (window.endpoint, window.version, window.at)
        names = tuple(field.name for field in window.verdict.changed_fields)
        what = (names, window.rows.bit_length(), window.until <= datetime.now(UTC))
        if self._explained.get(key) == what:
            return False
        self._explained[key] = what
        return True

    async def change_started_at(self, window: JudgedWindow, scorer: ReferenceScorer) -> datetime:
        """When a change began: the tick at which the most changed feature changed, searched from its last steady windows on."""
        assert scorer.sketcher is not None
        span = window.until - window.at
        past = await windows.judged_windows(self._pool, window.endpoint, window.version, window.at - 64 * span, window.at)
        steady = [other.at for other in past if other.state == "steady"]
        start = max((window.at - 16 * span, *(steady[-4:-3] or steady[:1])))
        ticks = await self.counted_ticks(window.endpoint, window.version, scorer, start, window.until)
        name = next((field.name for field in window.verdict.changed_fields), None)
        known = next((known for known in scorer.sketcher.against.known if known.name == name), None)
        there: list[tuple[datetime, FieldSketch]] = [(at, tick[0].fields[name]) for at, tick in ticks.items() if name in tick[0].fields]
        if known is None or not there:
            return window.at
        at = await asyncio.to_thread(change_start, known, [sketch for _, sketch in there])
        return there[at][0] if at is not None else window.at

    async def merge_deltas(self) -> None:
        """Merge the counts of each tick that is over into one row."""
        now = time.monotonic()
        crowded, done = await windows.ticks_to_merge(self._pool, self._merged, _MERGED), 0
        for endpoint, version, at in crowded:
            scorer = await self._counting.scorer_of_version(version)
            if scorer is None or scorer.layout is None:
                continue
            deltas = await windows.deltas_between(self._pool, endpoint, version, at, at + timedelta(seconds=1))
            ticks, unread = await asyncio.to_thread(_ticks, scorer.layout, deltas)
            if not unread and at in ticks:
                window, rows, odd = ticks[at]
                await windows.replace_deltas(
                    self._pool, WindowDelta(endpoint, version, at, rows, odd, write_window(scorer.layout, window, rows)), len(deltas)
                )
                done += 1
        if len(crowded) < _MERGED or not done:  # what other software counted stays as it is, and does not hold up the rest
            self._merged = self._watermark.highest_by(now - _OVER_S)


def _ticks(layout: WindowLayout, deltas: Sequence[WindowDelta]) -> tuple[Ticks, list[WindowDelta]]:
    """Counts by tick, and those that another software version counted in another way."""
    by_tick: dict[datetime, list[tuple[WindowSketch, int]]] = defaultdict(list)
    odd: dict[datetime, int] = defaultdict(int)
    unread = []
    for delta in deltas:
        read = read_window(layout, delta.data)
        if read is None:
            unread.append(delta)
            continue
        by_tick[delta.at].append(read)
        odd[delta.at] += delta.odd
    return {at: (*pool_windows(parts), odd[at]) for at, parts in sorted(by_tick.items())}, unread


def _judged(fresh: UnjudgedWindows, scorer: ReferenceScorer, span: timedelta, ticks: Ticks, first: datetime) -> list[JudgedWindow]:
    """Verdicts on all windows from ``first`` on. Windows without rows are left out."""
    assert scorer.sketcher is not None
    by_window: dict[datetime, list[tuple[WindowSketch, int, int]]] = defaultdict(list)
    for at, tick in ticks.items():
        by_window[window_start(at, span)].append(tick)
    whole = [(at, *pool_windows([tick[:2] for tick in parts]), sum(tick[2] for tick in parts)) for at, parts in sorted(by_window.items())]
    judged = []
    for place, (at, _, rows, odd) in enumerate(whole):
        if at < first:
            continue
        past = [tick for tick in whole[: place + 1] if tick[0] > at - _BACK * span][-LADDER[-1] :]
        verdict = _verdict_on(scorer, [(earlier[1], earlier[2]) for earlier in past], rows)
        judged.append(JudgedWindow(fresh.endpoint, fresh.version, at, at + span, rows, odd, verdict))
    return judged


def _verdict_on(scorer: ReferenceScorer, past: list[tuple[WindowSketch, int]], rows: int) -> WindowVerdict:
    assert scorer.sketcher is not None
    used: list[WindowSketch] = []
    held: list[tuple[WindowSketch, int]] = []
    for earlier in reversed(past):
        held.insert(0, earlier)
        if sum(many for _, many in held) >= LEAST_ROWS:
            used.insert(0, pool_windows(held)[0])
            held = []
    if not used:
        return WindowVerdict("too few", f"Too few: {rows:,} rows, at least {LEAST_ROWS} are needed.", windows=len(past), rows=rows)
    return describe_verdict(judge_windows(scorer.sketcher.against, used))
