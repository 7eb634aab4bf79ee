"""Judges windows: compares whatever was counted since the last turn with the reference, window by window."""

from __future__ import annotations

import asyncio
import logging
import time
from collections import defaultdict
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from cachetools import LRUCache

from lamppost.core.drift.baseline import FieldSketch, WindowSketch
from lamppost.core.drift.live_history import LEAST_ROWS, MOST_CYCLES, LiveBaseline, LiveHistory
from lamppost.core.drift.verdict_text import change_start, describe_verdict
from lamppost.core.drift.verdicts import LADDER, judge_windows
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

_BACK = 4 * LADDER[-1]
_LONG_BACK = 64 * LADDER[-1]
"""So many windows are looked back on where the last `_BACK` hold too few rows to be judged together."""
_LEAST_JOINED = LADDER[-1] * LEAST_ROWS
_HISTORIES = 8
"""Streams whose earlier windows are kept in memory; those of forty numbers take 10 MB each."""
_CYCLES_READ = 21
"""Days of earlier windows that are read for a stream: fourteen for the baseline of each of the last seven."""
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


class BroughtRows(NamedTuple):
    """Rows that were brought in, those of them that are odd, and whether they look like the reference."""

    rows: int
    odd: int
    verdict: WindowVerdict


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
        self._histories: LRUCache[tuple[str, str, timedelta], LiveHistory] = LRUCache(_HISTORIES)
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

    async def judge_brought(self, endpoint: str, version: str, brought_by: str, since: datetime, until: datetime) -> BroughtRows | None:
        """What somebody brought in within a span, held against the reference as one window; None for a version without a reference."""
        scorer = await self._counting.scorer_of_version(version)
        if scorer is None or scorer.sketcher is None:
            return None
        ticks = await self.counted_ticks(endpoint, version, scorer, since, until, brought_by)
        parts = [tick[:2] for tick in ticks.values()]
        rows = sum(many for _, many in parts)
        pooled = [pool_windows(parts)] if parts else []
        verdict = await asyncio.to_thread(_verdict_on, scorer, pooled, rows, None)
        return BroughtRows(rows, sum(odd for _, _, odd in ticks.values()), verdict)

    async def counted_ticks(
        self, endpoint: str, version: str, scorer: ReferenceScorer, start: datetime, end: datetime, brought_by: str | None = None
    ) -> Ticks:
        """What was counted in a span, by tick: sketch, rows, odd rows. Counts of other software versions are left out and logged.

        brought_by : counts what this one brought in, and nothing else.
        """
        assert scorer.layout is not None
        deltas = await windows.deltas_between(self._pool, endpoint, version, start, end, brought_by)
        ticks, unread = await asyncio.to_thread(_ticks, scorer.layout, deltas)
        for delta in unread:
            self.unread += 1
            log.warning("%s at %s: a window of %s was counted by other software and is left out", version, endpoint, delta.at)
        return ticks

    async def _judge(self, fresh: UnjudgedWindows, scorer: ReferenceScorer) -> list[JudgedWindow]:
        span = timedelta(minutes=self.settings_of(fresh.endpoint).window_minutes)
        first, last = window_start(fresh.at[0], span), window_start(fresh.at[-1], span)
        end = last + LADDER[-1] * span
        ticks = await self.counted_ticks(fresh.endpoint, fresh.version, scorer, first - _BACK * span, end)
        if sum(rows for at, (_, rows, _) in ticks.items() if at < first + span) < _LEAST_JOINED:
            ticks = await self.counted_ticks(fresh.endpoint, fresh.version, scorer, first - _LONG_BACK * span, end)
        judged = await asyncio.to_thread(judge_ticks, fresh, scorer, span, ticks, first)
        if all(window.state in ("steady", "too few") for window in judged):
            return judged
        history = await self._live_history(fresh, scorer, span, judged[-1].at)
        return judged if not len(history) else await asyncio.to_thread(judge_ticks, fresh, scorer, span, ticks, first, history)

    async def _live_history(self, fresh: UnjudgedWindows, scorer: ReferenceScorer, span: timedelta, until: datetime) -> LiveHistory:
        """The windows of a stream that were closed before a time. They are read a day at a time, and kept for the next look."""
        assert scorer.sketcher is not None
        key = (fresh.endpoint, fresh.version, span)
        history = self._histories.get(key)
        if history is None:
            history = self._histories[key] = LiveHistory(scorer.sketcher.against, windows_of_a_day(span))
        start = until - max(_CYCLES_READ * history.cycle, 2 * MOST_CYCLES) * span
        if history.last >= 0:
            start = max(start, datetime.fromtimestamp((history.last + 1) * span.total_seconds(), UTC))
        while start < until:
            end = min(until, start + max(span, timedelta(days=1) // span * span))
            ticks = await self.counted_ticks(fresh.endpoint, fresh.version, scorer, start, end)
            await asyncio.to_thread(_add_windows, history, ticks, span)
            start = end
        return history

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
        for tick in crowded:
            scorer = await self._counting.scorer_of_version(tick.version)
            if scorer is None or scorer.layout is None:
                continue
            found = await windows.deltas_between(self._pool, tick.endpoint, tick.version, tick.at, tick.at + timedelta(seconds=1))
            deltas = [delta for delta in found if delta.brought_by == tick.brought_by]
            ticks, unread = await asyncio.to_thread(_ticks, scorer.layout, deltas)
            if not unread and tick.at in ticks:
                window, rows, odd = ticks[tick.at]
                data = write_window(scorer.layout, window, rows)
                merged = WindowDelta(tick.endpoint, tick.version, tick.at, rows, odd, data, tick.brought_by)
                await windows.replace_deltas(self._pool, merged, len(deltas))
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


def windows_of_a_day(span: timedelta) -> int:
    """How many windows make up a day; of windows of a day, a week. 1 for longer ones."""
    day = timedelta(days=1)
    return max(1, round(day / span)) if span < day else 7 if span == day else 1


def _add_windows(history: LiveHistory, ticks: Ticks, span: timedelta) -> None:
    for at, window, _, _ in _whole_windows(ticks, span):
        history.add(_number_of(at, span), window)


def _number_of(at: datetime, span: timedelta) -> int:
    return int(at.timestamp() // span.total_seconds())


def _whole_windows(ticks: Ticks, span: timedelta) -> list[tuple[datetime, WindowSketch, int, int]]:
    """Start, counts, rows and odd rows of each window that has rows."""
    by_window: dict[datetime, list[tuple[WindowSketch, int, int]]] = defaultdict(list)
    for at, tick in ticks.items():
        by_window[window_start(at, span)].append(tick)
    return [(at, *pool_windows([tick[:2] for tick in parts]), sum(tick[2] for tick in parts)) for at, parts in sorted(by_window.items())]


def judge_ticks(
    fresh: UnjudgedWindows, scorer: ReferenceScorer, span: timedelta, ticks: Ticks, first: datetime, history: LiveHistory | None = None
) -> list[JudgedWindow]:
    """Verdicts on all windows from ``first`` on. Windows without rows are left out. history : earlier windows of the stream."""
    whole = _whole_windows(ticks, span)
    counted = [(window, rows) for _, window, rows, _ in whole]
    judged = []
    for place, (at, _, rows, odd) in enumerate(whole):
        if at < first:
            continue
        live = history.baseline(_number_of(at, span)) if history is not None else None
        verdict = _verdict_on(scorer, counted[: place + 1], rows, live)
        judged.append(JudgedWindow(fresh.endpoint, fresh.version, at, at + span, rows, odd, verdict))
    return judged


def _verdict_on(scorer: ReferenceScorer, past: list[tuple[WindowSketch, int]], rows: int, live: LiveBaseline | None) -> WindowVerdict:
    """The verdict on the last of some windows, oldest first. Windows of few rows are joined with those before them."""
    assert scorer.sketcher is not None
    used: list[WindowSketch] = []
    held: list[tuple[WindowSketch, int]] = []
    joined, most = 0, max(LADDER[-1], live.cycle if live is not None else 0)
    for earlier in reversed(past):
        held.insert(0, earlier)
        joined = max(joined, len(held))
        if sum(many for _, many in held) >= LEAST_ROWS:
            used.insert(0, pool_windows(held)[0])
            held = []
            if len(used) == most:
                break
    if not used:
        return WindowVerdict("too few", f"Too few: {rows:,} rows, at least {LEAST_ROWS} are needed.", windows=len(past), rows=rows)
    # what was joined lies at no time of day
    return describe_verdict(judge_windows(scorer.sketcher.against, used, live if joined == 1 else None))
