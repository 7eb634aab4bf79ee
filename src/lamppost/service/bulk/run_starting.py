"""Starts, stops and goes on with the bulk runs of a node, each in a process of its own."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import shutil
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import partial
from typing import Any

import orjson

from lamppost.core.bulk.order import BulkOrder, Question, write_order
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import Unavailable, from_problem
from lamppost.core.names import check_name
from lamppost.service.bulk.places import NamedPlaces
from lamppost.service.bulk.questions import setup_for_runs
from lamppost.service.bulk.run_places import ordered_target
from lamppost.service.bulk.run_setup import MODULE, check_message, look_message, node_facts, run_message, write_facts
from lamppost.service.bulk.uploads import upload_text
from lamppost.service.processes.child_process import ChildEnded, ChildProcess, ForkWarmServers
from lamppost.service.settings import Settings
from lamppost.store.bulk import bulk_runs, uploads
from lamppost.store.bulk.bulk_runs import RESUMABLE, BulkRun, NewRun
from lamppost.store.database import AWAY, Pool
from lamppost.store.trail import ChangedBy

log = logging.getLogger("lamppost.bulk")

_AT_ONCE = 2
"""Runs that go on at the same time; one more of a desk, where somebody waits for a short file."""
_CHECK_S = 120.0
_LOOK_S = 5.0
_MOST_ENDS = 3
"""Times that the process of a run may end by itself before the run counts as failed."""
_UPLOAD_KEPT_S = 24 * 3600.0
_SPARE_S = 60.0


@dataclass(frozen=True, slots=True)
class DeskPlace:
    """The desk that a run is started at. keep_until : when the run is forgotten by itself. rows : of its file, None while nobody knows."""

    endpoint: str
    keep_until: datetime
    rows: int | None


class BulkRuns:
    """The bulk runs of one node. find_setup : what an endpoint serves now; raises NotFound. fork_servers : for the processes of runs, so
    that they need not import what this node has imported.
    """

    def __init__(
        self, pool: Pool, settings: Settings, find_setup: Callable[[str], EndpointSetup], fork_servers: ForkWarmServers | None = None
    ) -> None:
        self._fork_servers = fork_servers
        self._pool = pool
        self._settings = settings
        self._find_setup = find_setup
        facts = node_facts(settings)
        self.places: NamedPlaces = facts.places
        self._first = write_facts(facts)
        self._spare: ChildProcess | None = None
        self._spare_since = 0.0
        self._spare_lock = asyncio.Lock()
        self._running: dict[str, asyncio.Task[None]] = {}
        self._ended_by_itself: dict[str, int] = {}
        self._looking: asyncio.Task[None] | None = None
        self._look_now = asyncio.Event()

    def start(self) -> None:
        """Begin to carry out runs: new ones, and those that were going on when the node ended."""
        self._looking = asyncio.create_task(self._look(), name="bulk runs")

    async def close(self) -> None:
        """End the processes; runs go on with the next start of the node."""
        tasks = [task for task in (self._looking, *self._running.values()) if task is not None]
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        if self._spare is not None:
            await self._spare.close()

    # -- what callers ask for -----------------------------------------------------------------------------------------

    async def check(self, order: BulkOrder, rows: int = 0, tried: int = 0) -> dict[str, Any]:
        """What a run would do; raise whatever it would be refused for. rows : first rows of the source that are wanted.

        tried : how many rows are read, to tell which would be rejected.
        """
        return await self._ask(order, check_message(order, self._setups(order), rows, tried))

    async def look(self, order: BulkOrder, rows: int) -> dict[str, Any]:
        """The columns and first rows of an order's files, and the delimiter of a CSV file; raise BadRequest for what cannot be read."""
        return await self._ask(order, look_message(order, rows))

    async def _ask(self, order: BulkOrder, message: bytes) -> dict[str, Any]:
        async with self._spare_lock:
            child = self._spare = self._spare or self._new_process()
            try:
                async with asyncio.timeout(_CHECK_S):
                    reply = orjson.loads(await child.ask(message))
                self._spare_since = time.monotonic()
            except TimeoutError:
                raise Unavailable(f"{order.source} could not be looked at within {_CHECK_S:g} s; try again, or name fewer files") from None
            except ChildEnded:
                raise Unavailable("the process that looks at files ended; it was started again, so try once more") from None
        if "problem" in reply:
            raise from_problem(reply["problem"], int(reply["problem"]["status"]))
        if "checked" not in reply:
            raise Unavailable(f"{order.source} could not be looked at: {reply.get('away') or reply.get('failed')}; see the log")
        checked: dict[str, Any] = reply["checked"]
        return checked

    async def begin(self, order: BulkOrder, name: str | None, by: ChangedBy, desk: DeskPlace | None = None) -> BulkRun:
        """Check an order, and keep it as a run that begins at once; raise whatever it is refused for.

        desk : where it was started, None for elsewhere.
        """
        if name is not None:
            check_name(name, "bulk run")
        setups = self._setups(order)
        checked = await self._ask(order, check_message(order, setups, 0, 0))
        new = NewRun(order, setups, self._settings.name, name, checked["rows"], checked["source"])
        if desk is not None:
            new = replace(new, desk=desk.endpoint, keep_until=desk.keep_until, row_total=checked["rows"] or desk.rows)
        run = await bulk_runs.add_run(self._pool, new, by)
        self._look_now.set()
        return run

    async def stop(self, name: str, by: ChangedBy) -> None:
        """Have a run stop after the blocks that it has in hand; raise NotFound or Conflict."""
        await bulk_runs.change_by(self._pool, name, "stopping", ("waiting", "running"), by, "bulk stop")
        self._look_now.set()

    async def resume(self, name: str, most_rejects: float | None, by: ChangedBy) -> None:
        """Have a run go on where it was; raise NotFound or Conflict. most_rejects : another bound than it had."""
        run = await bulk_runs.get_run(self._pool, name)
        changed: dict[str, Any] = {"ended_at": None}
        if most_rejects is not None:
            changed["written"] = write_order(replace(run.order, most_rejects=most_rejects))
        self._ended_by_itself.pop(name, None)
        await bulk_runs.change_by(self._pool, name, "waiting", tuple(sorted(RESUMABLE)), by, "bulk resume", **changed)  # type: ignore[arg-type]
        self._look_now.set()

    async def forget(self, name: str, by: ChangedBy) -> None:
        """Delete a run that has ended, with what the service keeps of its output."""
        run = await bulk_runs.get_run(self._pool, name)
        if run.state in RESUMABLE and (table := ordered_target(self.places, run.order, name).table) is not None:
            await asyncio.to_thread(table.clear)
        await bulk_runs.forget_run(self._pool, name, by)
        if run.node == self._settings.name:
            await asyncio.to_thread(shutil.rmtree, self.places.run_folder(name), ignore_errors=True)

    def check_questions(self, order: BulkOrder) -> None:
        """Raise NotFound for an endpoint that is not there."""
        self._setups(order)

    def _setups(self, order: BulkOrder) -> tuple[EndpointSetup, ...]:
        return tuple(self._setup_of(question) for question in order.questions)

    def _setup_of(self, question: Question) -> EndpointSetup:
        version = question.version
        return EndpointSetup(version=str(version)) if version is not None else setup_for_runs(self._find_setup(question.of))

    # -- carrying out -------------------------------------------------------------------------------------------------

    async def _look(self) -> None:
        """Start what waits, as far as there is room; looks again when something was asked for, and every five seconds."""
        cleaned = 0.0
        while True:
            try:
                for run in await bulk_runs.runs_to_go_on(self._pool, self._settings.name):
                    if run.name in self._running or len(self._running) >= _AT_ONCE + (run.desk is not None):
                        continue
                    task = asyncio.create_task(self._carry_out(run), name=f"bulk run {run.name}")
                    self._running[run.name] = task
                    task.add_done_callback(partial(self._ended, run.name))
                await self._end_idle_spare()
                if time.monotonic() - cleaned > 3600 or not cleaned:
                    cleaned = time.monotonic()
                    await self._delete_old_uploads()
                    await self._forget_old_runs()
            except AWAY as error:
                log.debug("bulk runs wait for the database: %s", error)
            except Exception:
                log.exception("bulk runs cannot be looked at; trying again")
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._look_now.wait(), _LOOK_S)
            self._look_now.clear()

    def _new_process(self) -> ChildProcess:
        return ChildProcess(MODULE, first=self._first, fork_servers=self._fork_servers)

    def _ended(self, name: str, _: asyncio.Task[None]) -> None:
        self._running.pop(name, None)
        self._look_now.set()

    async def _carry_out(self, run: BulkRun) -> None:
        async with self._spare_lock:  # the process that has checked the order has everything imported
            child, self._spare = self._spare or self._new_process(), None
        try:
            reply = orjson.loads(await child.ask(run_message(run.name)))
            if "ended" in reply:
                self._ended_by_itself.pop(run.name, None)
                if self._spare is None:
                    self._spare, self._spare_since = child, time.monotonic()
                    return
            else:
                log.error("the bulk run %s could not be carried out: %s", run.name, reply)
                await asyncio.sleep(_LOOK_S)
        except ChildEnded:
            ends = self._ended_by_itself[run.name] = self._ended_by_itself.get(run.name, 0) + 1
            log.warning("the process of the bulk run %s ended; it goes on in another one", run.name)
            if ends >= _MOST_ENDS:
                reason = f"its process ended {ends} times; the log has more. Resume it when the cause is mended"
                among: Sequence[bulk_runs.RunState] = ("waiting", "running", "publishing", "stopping")
                with contextlib.suppress(*AWAY):
                    await bulk_runs.change_state(self._pool, run.name, "failed", among, reason, ended_at=_now())
        finally:
            if child is not self._spare:
                await child.kill()

    async def _end_idle_spare(self) -> None:
        """End a process that waits for orders, when none has come for a while: it holds the libraries of models."""
        async with self._spare_lock:
            if self._spare is not None and time.monotonic() - self._spare_since > _SPARE_S:
                child, self._spare = self._spare, None
                await child.close()

    async def _delete_old_uploads(self) -> None:
        """Delete uploads that nobody has used for a day, and folders of uploads that nobody knows."""
        known = {upload.id: upload for upload in await uploads.uploads_of_node(self._pool, self._settings.name)}
        busy = {run.order.source for run in await bulk_runs.runs_to_go_on(self._pool, self._settings.name)}
        old = [
            upload.id
            for upload in known.values()
            if upload_text(upload.id) not in busy and (_now() - upload.made_at).total_seconds() > _UPLOAD_KEPT_S
        ]
        await uploads.delete_uploads(self._pool, old)
        kept = {str(upload_id) for upload_id in known if upload_id not in old}
        await asyncio.to_thread(_delete_others, self.places, kept)

    async def _forget_old_runs(self) -> None:
        """Forget the runs of desks whose time is over."""
        for name in await bulk_runs.runs_to_forget(self._pool, self._settings.name):
            await self.forget(name, ChangedBy("retention"))


def _delete_others(places: NamedPlaces, kept: set[str]) -> None:
    folder = places.data / "uploads"
    if folder.is_dir():
        for child in folder.iterdir():
            if child.name not in kept:
                shutil.rmtree(child, ignore_errors=True)


def _now() -> datetime:
    return datetime.now(UTC)
