"""Counts the rows of records into windows and scores how odd each row is, before the records are stored.

It happens in a thread, after the answers have long gone, and ends up in the transaction that stores the calls: so windows are as exact as
the records, however often a frame is delivered.
"""

from __future__ import annotations

import asyncio
import logging
from collections import defaultdict
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any

import numpy as np
import orjson
import psycopg
from cachetools import LRUCache
from numpy.typing import NDArray

from lamppost.core.artifact.reference import drift_baseline
from lamppost.core.drift.outlier_score import JOINT, OutlierScorer
from lamppost.core.drift.sketches import Sketcher
from lamppost.core.drift.verdicts import judge_windows
from lamppost.core.drift.watched_features import Columns, FeatureExtractor
from lamppost.core.drift.windows import WindowLayout, write_window
from lamppost.core.endpoint.endpoint_schema import WHICH
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import DatabaseAway, LampPostError, PackageRefused
from lamppost.core.monitoring.settings import TICK_S
from lamppost.core.names import VersionName, parse_version
from lamppost.core.payload.recorded_bodies import answer_rows, request_rows
from lamppost.core.schema.columns import Column
from lamppost.core.schema.fields import Schema
from lamppost.package.read import Lamp
from lamppost.service.packages.package_cache import PackageCache
from lamppost.store import packages
from lamppost.store.call_records import CallRecord, load_tokens
from lamppost.store.database import Pool
from lamppost.store.records import CountedFrames
from lamppost.store.spool import SpoolFrame
from lamppost.store.windows import WindowDelta

log = logging.getLogger("lamppost.counting")

LEAST_ODD = 3.0
"""Outlier score below which no row counts as odd."""
_REMEMBERED = 4_096
_MOST_ROWS = 20_000
_MOST_HEAVY = 200
"""Rows with pictures or tensors that are counted in one go; extracting their features takes milliseconds a row."""


class ReferenceScorer:
    """Counts and scores rows against the reference of one version. Its parts are None for a package without a reference."""

    def __init__(self, lamp: Lamp) -> None:
        manifest, reference = lamp.manifest, lamp.reference
        self.sketcher = Sketcher(drift_baseline(reference)) if reference is not None else None
        self.outlier_scorer = OutlierScorer(self.sketcher) if self.sketcher is not None else None
        self.layout = WindowLayout(self.sketcher.against) if self.sketcher is not None else None
        self.limit = reference.odd[2] if reference is not None and reference.odd else None
        self._figures = FeatureExtractor(manifest.inputs, manifest.answers, reference.words if reference is not None else {})
        self.heavy = any(input_field.kind in ("image", "tensor") for input_field in manifest.inputs)

    @property
    def has_reference(self) -> bool:
        """Whether the package has a reference with bins."""
        return self.sketcher is not None and bool(self.sketcher.against.known)

    def columns_of_features(
        self, inputs: Schema, asked: Sequence[Column], answers: Schema, text: Sequence[Column]
    ) -> Mapping[str, Sequence[Any] | NDArray[np.float64]]:
        """Watched features of typed columns, numbers as arrays."""
        assert self.sketcher is not None
        return self.sketcher.as_arrays(self._figures.extract_from_columns(inputs, asked, answers, text))

    def feature_columns(self, rows: Sequence[Any], answers: Sequence[Any], names: frozenset[str] | None) -> Columns:
        """Watched features of rows and answers; of inputs only those that callers send, if that is known."""
        return self._figures.extract_columns(rows, answers, names)


def try_reference(lamp: Lamp) -> None:
    """Count, score and judge the rows of a package's own proof against its reference. Raise PackageRefused where that fails."""
    try:
        scorer = ReferenceScorer(lamp)
        if scorer.sketcher is None or scorer.outlier_scorer is None or scorer.layout is None:
            return
        rows, answers = lamp.proof.rows, lamp.proof.answers
        columns = scorer.sketcher.as_arrays(scorer.feature_columns(rows, answers, None))
        window = scorer.sketcher.sketch_window(columns, len(rows))
        write_window(scorer.layout, window, len(rows))
        judge_windows(scorer.sketcher.against, [window])
        scorer.outlier_scorer.score_rows(columns, len(rows))
    except Exception as error:
        raise PackageRefused(
            f"the reference cannot be used on the rows of the proof ({type(error).__name__}: {str(error)[:200]}); pack the model again"
        ) from error


@dataclass(slots=True)
class _Group:
    """Rows of one version within one tick. places : for each row, its call and its place in the call."""

    rows: list[Any] = field(default_factory=list)
    answers: list[Any] = field(default_factory=list)
    places: list[tuple[int, int]] = field(default_factory=list)


class WindowCounting:
    """The scorers of one node, by version. find_digest : of the package of a version; the database knows it, unless somebody else does."""

    def __init__(self, pool: Pool, package_cache: PackageCache) -> None:
        self._pool = pool
        self.package_cache = package_cache
        self._scorers: LRUCache[str, ReferenceScorer | None] = LRUCache(_REMEMBERED)
        self.sent: dict[str, frozenset[str]] = {}
        self.failed = 0
        self.find_digest: Callable[[VersionName], Awaitable[str]] = self._stored_digest

    async def _stored_digest(self, version: VersionName) -> str:
        return (await packages.get_version(self._pool, version)).digest

    def configure_endpoint(self, endpoint: str, setup: EndpointSetup | None, sent: Schema | None) -> None:
        """Note the fields that callers of an endpoint send, if they differ from those of its version (look-ups, several versions)."""
        if setup is None or sent is None or not (setup.lookups or setup.together):
            self.sent.pop(endpoint, None)
        else:
            self.sent[endpoint] = frozenset(sent.names)

    async def count_frames(self, frames: Sequence[SpoolFrame], brought_by: str | None = None) -> CountedFrames:
        """What is to be noted beside the calls of frames, counted together: a look at many rows of a version costs little more than one at
        a single row. brought_by : who brought in calls that were answered elsewhere.
        """
        versions = await asyncio.to_thread(_versions, frames)
        scorers = {version: await self.scorer_of_version(version) for version in versions}
        return await asyncio.to_thread(self._count_calls, frames, scorers, brought_by)

    async def scorer_of_version(self, version: str) -> ReferenceScorer | None:
        """The scorer of a version; None for an unknown version, or one without a reference."""
        if version in self._scorers:
            return self._scorers[version]
        scorer: ReferenceScorer | None = None
        try:
            lamp = await self.package_cache.lamp_of(await self.find_digest(parse_version(version)))
            scorer = await asyncio.to_thread(ReferenceScorer, lamp)
            scorer = scorer if scorer.has_reference else None
        except (psycopg.Error, DatabaseAway):
            raise
        except LampPostError as error:
            log.info("rows of %s are not counted: %s", version, error.detail)
        except Exception:  # of its reference; the records of all others go on
            log.exception("rows of %s are not counted, its reference cannot be read", version)
        self._scorers[version] = scorer
        return scorer

    def _count_calls(
        self, frames: Sequence[SpoolFrame], scorers: dict[str, ReferenceScorer | None], brought_by: str | None
    ) -> CountedFrames:
        odd: dict[int, tuple[float, str]] = {}
        deltas: list[WindowDelta] = []
        calls = [call for frame in frames for call in frame.calls]
        try:
            deltas = self._count(calls, scorers, odd)
        except Exception:  # a fault of ours must not keep records from being stored
            self.failed += 1
            log.exception("%d calls were stored without being counted", len(calls))
        return CountedFrames(frames, deltas, odd, brought_by)

    def _count(
        self, calls: Sequence[CallRecord], scorers: dict[str, ReferenceScorer | None], odd: dict[int, tuple[float, str]]
    ) -> list[WindowDelta]:
        groups: dict[tuple[str, str, int, bool], _Group] = defaultdict(_Group)
        loads = load_tokens(calls)
        for at, call in enumerate(calls):
            if (
                call.status != 200
                or call.shadow
                or call.version is None
                or call.input is None
                or call.answer is None
                or call.token in loads
            ):
                continue
            rows, answers = request_rows(orjson.loads(call.input)), answer_rows(orjson.loads(call.answer))
            if not rows or len(rows) != len(answers):
                answers = [{}] * len(rows)  # the answer is columns, or was too large to keep
            tick = int(call.at // TICK_S * TICK_S)
            named = call.version.split(", ")
            for place, (row, answer) in enumerate(zip(rows, answers, strict=True)):
                by = answer.get(WHICH) if len(named) > 1 else None
                for version in [by] if by in named else named:
                    answer_of_version = (
                        answer if version == by or version == named[0] else {}
                    )  # parts of an ensemble answered something else
                    group = groups[call.endpoint, version, tick, bool(answer_of_version)]
                    group.rows.append(row)
                    group.answers.append(answer_of_version)
                    group.places.append((at, place))
        deltas = []
        for (endpoint, version, tick, _), group in groups.items():
            scorer = scorers.get(version)
            if scorer is not None and scorer.sketcher is not None:
                try:
                    deltas.append(self._of_group(scorer, endpoint, version, tick, group, odd))
                except Exception:  # of this version; all others are counted
                    self.failed += 1
                    log.exception("%d rows of %s were stored without being counted", len(group.rows), version)
        return deltas

    def _of_group(
        self, scorer: ReferenceScorer, endpoint: str, version: str, tick: int, group: _Group, odd: dict[int, tuple[float, str]]
    ) -> WindowDelta:
        most = _MOST_HEAVY if scorer.heavy else _MOST_ROWS
        step = -(-len(group.rows) // most)
        rows, answers, places = group.rows[::step], group.answers[::step], group.places[::step]
        assert scorer.sketcher is not None
        columns = scorer.sketcher.as_arrays(scorer.feature_columns(rows, answers, self.sent.get(endpoint)))
        assert scorer.outlier_scorer is not None
        assert scorer.layout is not None
        window = scorer.sketcher.sketch_window(columns, len(rows))
        scores, features = scorer.outlier_scorer.score_rows(columns, len(rows))
        several = {call for call, place in places if place}
        limit, many = scorer.limit, 0
        for score, name, row, (call, place) in zip(scores.tolist(), features, rows, places, strict=True):
            if limit is not None and score > limit and score >= LEAST_ODD:
                many += 1
                reason = describe_outlier(name, row, place if call in several else None)
            else:
                reason = ""
            if call not in odd or score > odd[call][0]:
                odd[call] = (score, reason or odd.get(call, (0, ""))[1])
        data = write_window(scorer.layout, window, len(rows))
        return WindowDelta(endpoint, version, datetime.fromtimestamp(tick, UTC), len(rows), many, data)


def describe_outlier(name: str, row: dict[str, Any], place: int | None) -> str:
    """What makes a row odd, in a few words for people."""
    at = "" if place is None else f"row {place}: "
    if name == JOINT:
        return f"{at}its numbers do not go together as in training"
    value = row.get(name)
    return f"{at}{name} is {value}"[:200] if name in row else f"{at}{name} is unlike training"


def _versions(frames: Sequence[SpoolFrame]) -> set[str]:
    versions: set[str] = set()
    for frame in frames:
        if frame.kind == "calls":
            for version in {call.version for call in frame.calls if call.version is not None}:
                versions.update(version.split(", "))
    return versions
