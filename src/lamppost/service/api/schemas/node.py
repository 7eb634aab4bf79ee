"""API schemas of this node and its lanes."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from pydantic import Field as Described

from lamppost.core.endpoint.states import LaneState
from lamppost.service.api.schemas.base import ApiModel


class BatchSizeCount(ApiModel):
    """How often a batch had more than half of so many rows, and at most so many."""

    rows: int
    batches: int


class CopiesSince(ApiModel):
    """How many copies there were, from so many seconds ago on."""

    seconds_ago: float
    copies: int


class LaneStateAnswer(ApiModel):
    """An open lane of this node. pids : of its workers. shared : whether its worker runs other lanes too."""

    version: str
    endpoints: list[str]
    state: LaneState
    reason: str | None
    copies: int
    copies_most: int
    pids: list[int]
    shared: bool
    waiting: int = Described(description="requests in its queue")
    waiting_rows: int
    max_rows: int = Described(description="rows that a batch may have now")
    target_ms: float | None
    rows_s: float = Described(description="rows a second while it worked, of late; 0 where it was idle")
    memory_bytes: int = Described(description="what it adds to a shared worker, or all that its own worker holds")
    keep_warm: bool
    requests: int = Described(description="since it was opened")
    used_s_ago: float
    batches: list[BatchSizeCount]
    copies_past: list[CopiesSince]


class LanesAnswer(ApiModel):
    """The open lanes of this node, and its memory bound. asleep : endpoints that open with their next request."""

    memory_bytes: int
    budget_bytes: int
    workers: int
    asleep: int
    open: int = Described(description="how many lanes are open, of which those in ``lanes`` are the busiest")
    lanes: list[LaneStateAnswer]


class ConfinementAnswer(ApiModel):
    """What the kernel was measured to hold worker processes to.

    files : they open libraries, their packages and their scratch only. network : no sockets. processes : they start none and look into
    none. signals : none to others. memory : bounded by the kernel. own_user : each is a user of its own.
    groups : all of them together are bounded by control groups. summary : all of it in a sentence.
    """

    files: bool
    network: bool
    processes: bool
    signals: bool
    memory: bool
    own_user: bool
    groups: bool
    summary: str


class SetAsideFrameAnswer(ApiModel):
    """Records that could not be stored and were set aside. calls : how many. at : when. error : why."""

    name: str
    calls: int
    at: datetime
    error: str


class RetriedAnswer(ApiModel):
    """Calls that are on their way to the database again."""

    calls: int


class FrontAnswer(ApiModel):
    """A front process of a node. connections : that it reads now. calls : predictions that it has asked the node about."""

    pid: int
    connections: int
    calls: int


class NodeAnswer(ApiModel):
    """This node. records_waiting : calls not in the database yet. records_dropped : lost, because neither disk nor database took them.

    spool_bytes, spool_most_bytes : what waiting records take on disk, and may take. payloads_given_up, calls_given_up : calls that
    the spool's bound has cost their inputs and answers, and all but their counts. records_set_aside : calls whose records could not be
    stored and were set aside. formats : of models that this node opens.
    confinement : what its workers are confined to.
    """

    version: str
    records_waiting: int
    records_dropped: int
    records_set_aside: int
    spool_bytes: int
    spool_most_bytes: int
    payloads_given_up: int
    calls_given_up: int
    formats: list[str]
    fronts: list[FrontAnswer] = Described(description="processes that read requests; none where the node does so itself")
    confinement: ConfinementAnswer


class ReadyAnswer(ApiModel):
    """A node that takes calls. down : endpoints that are down on it, 20 at most."""

    status: Literal["ready"]
    database: Literal["there", "away", "none"]
    down: list[str]
