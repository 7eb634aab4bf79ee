"""The process of bulk runs: checks orders and carries out runs, one message after the other. It ends with the service.

A run goes block by block: one thread reads, the lanes answer, another thread writes the output to disk, and one transaction then marks the
block as done and counts it into windows. What is marked is never done again; what is written but not marked is written again, as the same
bytes. At the end the parts become one file, which gets its final name, or one transaction brings the staged rows into the target's table.
"""

from __future__ import annotations

import asyncio
import gc
import logging
import os
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import AsyncExitStack
from datetime import UTC, datetime
from typing import Any

import orjson
import uvloop

from lamppost.core.bulk.order import BulkOrder, read_order, source_name
from lamppost.core.bulk.rejects import too_many_rejects
from lamppost.core.engine.backoff import Backoff
from lamppost.core.errors import Conflict, LampPostError
from lamppost.service.bulk.block_scoring import OpenQuestion, ReadBlock, read_block, score_block
from lamppost.service.bulk.cluster_lanes import connected_cluster
from lamppost.service.bulk.file_reading import SourceBlock
from lamppost.service.bulk.questions import RunLanes, asked_schemas, match_questions
from lamppost.service.bulk.row_reasons import RowReasons
from lamppost.service.bulk.run_places import RunPlaces, check_order, look_at_source
from lamppost.service.bulk.run_setup import NodeFacts, read_check, read_facts
from lamppost.service.bulk.run_watching import RunWatching
from lamppost.service.processes.child_process import forked_servers, leave_with_service, read_message, run_beside_service, write_message
from lamppost.store.bulk import bulk_runs
from lamppost.store.bulk.bulk_runs import BulkRun, DoneBlock
from lamppost.store.database import AWAY, Pool, make_pool

log = logging.getLogger("lamppost.bulk")

_IN_HAND = 2 + (os.cpu_count() or 1)
"""Blocks that are between reading and writing at the same time: one in each worker, one that waits for them, one that is written."""
_LONGEST_WAIT_S = 5.0
_MOST_PASSES = 3


class RunStopped(Exception):
    """Somebody wants the run to stop."""


class RunWork:
    """Carries out one run. state of the run in the database says how it ended."""

    def __init__(self, pool: Pool, facts: NodeFacts, lanes: RunLanes, run: BulkRun) -> None:
        self._pool = pool
        self._lanes = lanes
        self._run = run
        self._order = run.order
        self._places = RunPlaces(facts.places, run)
        self._facts = facts
        self._in_hand = _IN_HAND
        terms = run.order.reasons
        self._reasons = None if terms is None else RowReasons(pool, lanes.package_cache, terms)
        self._watching = RunWatching(lanes.window_counting)
        self._rows = self._rejects = self._blocks = 0
        self._began = time.monotonic()
        self._busy_before = run.busy_s
        self._paced = 0.0

    async def carry_out(self) -> None:
        """From where it is to its end."""
        name = self._run.name
        try:
            if self._run.state != "publishing":
                started = self._run.started_at or datetime.now(UTC)
                if not await self._change("running", ("waiting", "running"), started_at=started):
                    raise RunStopped
                for _ in range(_MOST_PASSES):
                    await self._score()
                    if (done := await self._complete_blocks()) is not None:
                        break
                else:
                    raise Conflict("the database forgets which blocks are done; look after it, then resume the run")
                await self._publish(done)
            else:
                await self._finish()
        except RunStopped:
            await self._end("stopped", ("stopping", "stopped"), "it was stopped")
        except LampPostError as error:
            await self._end("failed", ("waiting", "running", "publishing", "stopping"), error.detail)
        except Exception as error:
            log.exception("the bulk run %s failed on a fault of our own", name)
            reason = f"it failed on a fault of the service ({type(error).__name__}); its log has more"
            await self._end("failed", ("waiting", "running", "publishing", "stopping"), reason)

    async def _end(self, state: bulk_runs.RunState, among: tuple[bulk_runs.RunState, ...], reason: str | None) -> None:
        await self._change(state, among, reason, ended_at=datetime.now(UTC))

    async def _change(
        self, state: bulk_runs.RunState, among: tuple[bulk_runs.RunState, ...], reason: str | None = None, **columns: Any
    ) -> bool:
        """Bring the run into a state, however long the database is away."""

        def change() -> Any:
            busy = self._busy_before + time.monotonic() - self._began
            return bulk_runs.change_state(self._pool, self._run.name, state, among, reason, busy_s=busy, **columns)

        return bool(await self._patient(change))

    # -- scoring ------------------------------------------------------------------------------------------------------

    async def _score(self) -> None:
        asked = await self._patient(lambda: asked_schemas(self._pool, self._lanes.package_cache, self._order, self._run.setups))
        self._lanes.expect(asked)
        source = await asyncio.to_thread(self._places.open_source, [one.schema.inputs for one in asked])
        look = await asyncio.to_thread(source.look)
        matches = match_questions(asked, self._order, look.columns, source_name(self._order, self._run.source))
        done = {block.block: block for block in await self._patient(lambda: bulk_runs.done_blocks(self._pool, self._run.name))}
        self._rows, self._rejects = sum(block.rows for block in done.values()), sum(block.rejects for block in done.values())
        if look.rows is not None:
            await self._change("running", ("running",), row_total=look.rows)
        digest = asyncio.create_task(asyncio.to_thread(source.digest))
        try:
            async with AsyncExitStack() as stack:
                cluster = None
                if self._order.on is not None:
                    cluster = await stack.enter_async_context(connected_cluster(self._facts.places.cluster_address(self._order.on)))
                    self._in_hand = max(_IN_HAND, 2 * cluster.threads)
                questions = await stack.enter_async_context(self._lanes.opened(self._run.setups, matches, asked, cluster))
                await asyncio.to_thread(self._places.begin_output, questions, look)
                await self._all_blocks(source.blocks(), questions, done, look.rows)
            await self._change("running", ("running",), digest=await digest)
        finally:
            digest.cancel()
        if (reason := too_many_rejects(self._rows, self._rejects, self._order.most_rejects, self._rows, ended=True)) is not None:
            raise Conflict(reason)

    async def _all_blocks(
        self, blocks: Iterator[SourceBlock], questions: list[OpenQuestion], done: dict[int, DoneBlock], total: int | None
    ) -> None:
        """Read in order, score some at the same time, mark each as it is done."""
        in_hand: set[asyncio.Task[None]] = set()
        readers = [question.reader for question in questions]
        first_row = self._blocks = 0
        try:
            while (block := await asyncio.to_thread(next, blocks, None)) is not None:
                self._blocks += 1
                if (known := done.get(block.number)) is not None:
                    first_row += known.rows
                    continue
                read = await asyncio.to_thread(read_block, readers, block, first_row, self._order.delimiter)
                first_row += read.count
                while len(in_hand) >= self._in_hand:
                    ended, in_hand = await asyncio.wait(in_hand, return_when=asyncio.FIRST_COMPLETED)
                    for task in ended:
                        task.result()
                await self._pace(read.count)
                in_hand.add(asyncio.create_task(self._one_block(questions, read, total)))
            for task in list(in_hand):
                await task
        finally:
            for task in in_hand:
                task.cancel()
            await asyncio.gather(*in_hand, return_exceptions=True)

    async def _pace(self, rows: int) -> None:
        """Wait until the block may begin at the rate that was asked for."""
        rate = self._order.rows_per_second
        if rate is None:
            return
        now = time.monotonic()
        start = max(now, self._paced)
        self._paced = start + rows / rate
        while (wait := start - time.monotonic()) > 0:
            await asyncio.sleep(min(wait, 1.0))
            await self._require_running()

    async def _require_running(self) -> None:
        run = await self._patient(lambda: bulk_runs.get_run(self._pool, self._run.name))
        if run.state != "running":
            raise RunStopped

    async def _one_block(self, questions: list[OpenQuestion], read: ReadBlock, total: int | None) -> None:
        scored = await score_block(questions, read)
        if self._reasons is not None:
            await self._reasons.add(scored)
        del read
        await asyncio.to_thread(self._places.write_block, scored)
        sketches, deltas = await self._patient(lambda: self._watching.count_block(scored))
        marked = DoneBlock(scored.number, scored.count, len(scored.rejects), scored.answers, sketches)
        state = await self._patient(lambda: bulk_runs.add_block(self._pool, self._run.name, marked, deltas))
        self._rows += scored.count
        self._rejects += len(scored.rejects)
        if state != "running":
            raise RunStopped
        if (reason := too_many_rejects(self._rows, self._rejects, self._order.most_rejects, total)) is not None:
            raise Conflict(reason)

    async def _patient(self, ask: Any) -> Any:
        """What the database answers, however long it is away."""
        backoff = Backoff()
        while True:
            try:
                return await ask()
            except AWAY as error:
                backoff = await _wait_for_database(backoff, error)

    # -- the end ------------------------------------------------------------------------------------------------------

    async def _complete_blocks(self) -> list[int] | None:
        """The numbers of all blocks; None where some are missing, because the database crashed and forgot what it had stored last."""
        done: list[int] = await self._patient(lambda: bulk_runs.done_block_numbers(self._pool, self._run.name))
        return done if done == list(range(self._blocks)) else None

    async def _publish(self, done: list[int]) -> None:
        """Put the output together, and note where it is before it gets its final name."""
        result = await asyncio.to_thread(self._places.assemble, done)
        if not await self._change("publishing", ("running",), result=result):
            raise RunStopped
        await self._finish(result)

    async def _finish(self, result: dict[str, Any] | None = None) -> None:
        await asyncio.to_thread(self._places.publish, result or self._run.result or {})
        await self._change("finished", ("publishing",), ended_at=datetime.now(UTC))
        await asyncio.to_thread(self._places.clean)


async def _wait_for_database(backoff: Backoff, error: Exception) -> Backoff:
    loop = asyncio.get_running_loop()
    backoff = backoff.failed(loop.time())
    if backoff.failures == 1:
        log.warning("a bulk run waits for the database: %s", str(error).strip())
    await asyncio.sleep(min(_LONGEST_WAIT_S, max(0.1, backoff.wait(loop.time()))))
    return backoff


# -- messages -----------------------------------------------------------------------------------------------------------


async def _serve(facts: NodeFacts) -> None:
    pool = make_pool(facts.database)
    await pool.open()
    lanes = RunLanes(pool, facts, forked_servers())
    try:
        while (message := await asyncio.to_thread(read_message, sys.stdin.buffer)) is not None:
            try:
                reply = await _reply(pool, facts, lanes, orjson.loads(message))
            except LampPostError as error:
                reply = {"problem": error.to_problem()}
            except AWAY as error:
                reply = {"away": str(error).strip()}
            except Exception as error:
                log.exception("an order could not be carried out")
                reply = {"failed": type(error).__name__}
            write_message(sys.stdout.buffer, orjson.dumps(reply, default=str))
    finally:
        await lanes.close()
        await pool.close()


async def _reply(pool: Pool, facts: NodeFacts, lanes: RunLanes, message: dict[str, Any]) -> dict[str, Any]:
    if "check" in message:
        order, setups, rows, tried = read_check(message)
        return {"checked": await _check(pool, facts, lanes, order, setups, rows, tried)}
    if "look" in message:
        return {"checked": await asyncio.to_thread(look_at_source, facts.places, read_order(message["look"]), int(message["rows"]))}
    run = await bulk_runs.get_run(pool, message["run"])
    await RunWork(pool, facts, lanes, run).carry_out()
    return {"ended": run.name}


async def _check(pool: Pool, facts: NodeFacts, lanes: RunLanes, order: BulkOrder, setups: Any, rows: int, tried: int) -> dict[str, Any]:
    try:
        asked = await asked_schemas(pool, lanes.package_cache, order, setups)
    except AWAY:  # perhaps only the connections are old ones, to a database that was started again since
        await pool.drain()
        asked = await asked_schemas(pool, lanes.package_cache, order, setups)
    lanes.expect(asked)
    return await asyncio.to_thread(check_order, facts.places, order, asked, rows, tried)


def main() -> int:
    """Carry out messages until the pipe ends. The first message holds the facts of the node."""
    run_beside_service()
    threading.Thread(target=leave_with_service, daemon=True).start()
    gc.set_threshold(50_000)
    first = read_message(sys.stdin.buffer)
    if first is not None:
        with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
            runner.run(_serve(read_facts(first)))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
