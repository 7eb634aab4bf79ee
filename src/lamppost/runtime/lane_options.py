"""Settings of lanes, options of requests, answers, and the protocol of whoever receives an answer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any, NamedTuple, Protocol

from lamppost.core.endpoint.setup import LaneRules
from lamppost.core.engine.batch_queue import BatchPolicy
from lamppost.core.engine.scaling import CopyBounds
from lamppost.core.errors import LampPostError
from lamppost.core.schema.columns import Column


class SeatOpening(NamedTuple):
    """The settings that a worker is told when it opens a package; with others it has to be opened again."""

    original: bool
    threads: int


@dataclass(frozen=True, slots=True)
class LaneSettings:
    """formats : artifact formats that may be opened. original : serve the original even where there is a compiled form.

    threads : of a worker's computation on one batch.
    open_s, run_s : bounds on opening a package and on one batch, in seconds. tries : workers a request may end. target_ms : what the
    lane's p99 should stay under, None for no target. keep_warm : whether it is never let go for want of memory.
    """

    formats: frozenset[str] = frozenset({"skops"})
    original: bool = False
    threads: int = 1
    batch: BatchPolicy = field(default_factory=BatchPolicy)
    copies: CopyBounds = field(default_factory=CopyBounds)
    target_ms: float | None = None
    keep_warm: bool = False
    open_s: float = 120.0
    run_s: float = 30.0
    tries: int = 2

    @property
    def opening(self) -> SeatOpening:
        """What of it a worker is told when it opens a package."""
        return SeatOpening(self.original, self.threads)


def lane_settings(base: LaneSettings, rules: LaneRules, cores: int) -> LaneSettings:
    """A node's settings combined with an endpoint's lane rules."""
    batch = replace(
        base.batch,
        max_rows=rules.max_rows or base.batch.max_rows,
        queue_rows=rules.queue_rows or base.batch.queue_rows,
        queue_s=rules.queue_s or base.batch.queue_s,
        linger_s=base.batch.linger_s if rules.linger_ms is None else rules.linger_ms / 1e3,
    )
    least = rules.copies_least or 1
    copies = CopyBounds(least, max(least, rules.copies_most or cores), rules.sleep_after_s)
    return replace(
        base,
        original=base.original if rules.form is None else rules.form == "original",
        threads=rules.threads or base.threads,
        batch=batch,
        copies=copies,
        target_ms=rules.target_ms,
        run_s=rules.run_s or base.run_s,
        keep_warm=rules.keep_warm,
    )


@dataclass(frozen=True, slots=True)
class RequestOptions:
    """Options of a request. bulk : served after live calls. deadline : on the loop's clock. is_abandoned : tells whether the client is
    gone. request_id : the id under which the worker's output is logged.
    """

    bulk: bool = False
    deadline: float | None = None
    is_abandoned: Callable[[], bool] | None = None
    request_id: str = ""


LIVE_REQUEST = RequestOptions()


class LaneAnswer(NamedTuple):
    """Answer rows, and where the time went. queue_s, worker_s : seconds waiting, and there and back. batch_rows : rows run together.

    columns : the answers of a request that came as columns; ``rows`` is empty then.
    """

    rows: list[dict[str, Any]]
    queue_s: float
    worker_s: float
    batch_rows: int
    columns: list[Column] | None = None


class AnswerReceiver(Protocol):
    """The receiver of an answer: a future, or an object with the same methods."""

    def done(self) -> bool:
        """Whether a result was set, or the client is gone."""

    def set_result(self, result: LaneAnswer, /) -> None:
        """The answer."""

    def set_exception(self, exception: LampPostError, /) -> None:
        """The error instead of an answer."""
