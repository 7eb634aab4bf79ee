"""Compares the rows and answers of a run with training, and with those of the run before."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from lamppost.core.drift.baseline import DriftBaseline, WindowSketch
from lamppost.core.drift.verdict_text import bin_shares, describe_verdict, quantiles_of_bins, window_as_reference
from lamppost.core.drift.verdicts import judge_windows
from lamppost.core.drift.watched_features import ANSWERS
from lamppost.core.drift.window_verdict import WindowVerdict
from lamppost.core.drift.windows import WindowLayout, pool_windows, read_window
from lamppost.service.records.window_counting import WindowCounting
from lamppost.store.bulk import bulk_runs
from lamppost.store.bulk.bulk_runs import BulkRun, DoneBlock
from lamppost.store.database import Pool

_QUANTILES = (5, 25, 50, 75, 95)
_MOST_SPREADS = 24
LEAST_ROWS = 50
"""Rows below which a run is not compared."""


@dataclass(frozen=True, slots=True)
class QuestionDrift:
    """How the rows of a run differ for one question. training, before : None where nothing can be said. before_run : the other run."""

    version: str
    training: WindowVerdict | None
    before: WindowVerdict | None
    before_run: str | None


@dataclass(frozen=True, slots=True)
class AnswerSpread:
    """How an answer that is a number is spread. name : of its column. shares : see `bin_shares`. quantiles : by their percentage."""

    name: str
    version: str
    shares: dict[str, Any]
    quantiles: dict[str, float]


@dataclass(frozen=True, slots=True)
class RunComparison:
    """answers : how often each label was given, by column; answers_before : in the run before. drift : of each question.

    spreads : of the answers that are numbers.
    """

    answers: dict[str, dict[str, int]]
    answers_before: dict[str, dict[str, int]] | None
    before: str | None
    drift: list[QuestionDrift]
    spreads: list[AnswerSpread]


def sum_answers(blocks: Sequence[DoneBlock]) -> dict[str, dict[str, int]]:
    """How often each label was given, the most frequent first."""
    totals: dict[str, Counter[str]] = {}
    for block in blocks:
        for name, counts in block.answers.items():
            totals.setdefault(name, Counter()).update(counts)
    return {name: dict(total.most_common()) for name, total in totals.items()}


async def compare_run(pool: Pool, counting: WindowCounting, run: BulkRun, other: BulkRun | None = None) -> RunComparison:
    """A run beside training and beside another run. other : None for the last finished run before that asked the same."""
    blocks = await bulk_runs.done_blocks(pool, run.name)
    before = other or await bulk_runs.latest_run_before(pool, run)
    earlier = [] if before is None else await bulk_runs.done_blocks(pool, before.name)
    drift = []
    spreads: list[AnswerSpread] = []
    for at, setup in enumerate(run.setups):
        version = str(setup.versions[0])
        scorer = await counting.scorer_of_version(version)
        if scorer is None or scorer.sketcher is None or scorer.layout is None:
            drift.append(QuestionDrift(version, None, None, None))
            continue
        against, layout = scorer.sketcher.against, scorer.layout
        mine, theirs = _pooled(layout, blocks, at), _pooled(layout, earlier, at)
        training = since = None
        if mine is not None:
            spreads += _spreads(against, mine, version, run.order.questions[at].prefix)
        if mine is not None:
            training = await asyncio.to_thread(_verdict, against, mine, "training")
        if mine is not None and theirs is not None and before is not None:
            since = await asyncio.to_thread(_verdict, _as_baseline(against, theirs), mine, before.name)
        drift.append(QuestionDrift(version, training, since, None if since is None or before is None else before.name))
    return RunComparison(
        sum_answers(blocks), sum_answers(earlier) if earlier else None, None if before is None else before.name, drift, spreads
    )


def _spreads(against: DriftBaseline, window: WindowSketch, version: str, prefix: str) -> list[AnswerSpread]:
    spreads = []
    for known in against.known:
        sketch = window.fields.get(known.name)
        if known.name.startswith(ANSWERS) and known.numbers and sketch is not None:
            found = quantiles_of_bins(known, sketch, [part / 100 for part in _QUANTILES])
            if found is not None:
                named = {str(part): value for part, value in zip(_QUANTILES, found, strict=True)}
                spreads.append(AnswerSpread(prefix + known.name.removeprefix(ANSWERS), version, bin_shares(known, sketch), named))
    return spreads[:_MOST_SPREADS]


def _pooled(layout: WindowLayout, blocks: Sequence[DoneBlock], at: int) -> WindowSketch | None:
    """The counts of all blocks for one question; None where too few rows were counted, or another software version counted them."""
    windows = [
        window
        for block in blocks
        if at < len(block.sketches) and block.sketches[at] and (window := read_window(layout, block.sketches[at])) is not None
    ]
    if sum(rows for _, rows in windows) < LEAST_ROWS:
        return None
    return pool_windows(windows)[0]


def _as_baseline(against: DriftBaseline, window: WindowSketch) -> DriftBaseline:
    return DriftBaseline(window_as_reference(against.known, window.fields), window.rows)


def _verdict(against: DriftBaseline, window: WindowSketch, baseline: str) -> WindowVerdict:
    return describe_verdict(judge_windows(against, [window]), baseline)
