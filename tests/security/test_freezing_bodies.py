"""A caller who sends bodies that ask for much work holds up nobody else."""

import asyncio
import gc
import sys
import threading
import time
import unittest
from collections.abc import Callable
from functools import partial
from typing import TypeVar

import orjson

from lamppost.core.errors import BadBody, LampPostError
from lamppost.core.names import parse_version
from lamppost.core.payload.arrow import read_arrow
from lamppost.core.payload.arrow_blocks import ArrowBlocks
from lamppost.core.payload.line_blocks import LineBlocks
from lamppost.core.payload.text_formats import MULTIPART
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.fields import Field, Schema
from lamppost.package.read import read_lamp
from lamppost.service.prediction import bodies
from lamppost.service.prediction.side_thread import is_small_body, run_beside
from tests.end_to_end.test_service import ROW
from tests.support.freezing import arrow_of, freezing_bodies
from tests.support.lamps import outage_lamp
from tests.support.service import WithService

MOST_HELD_S = 0.05
"""A call waits for no more than this while the interpreter is at a hostile body: seconds of this process, not of the machine."""
T = TypeVar("T")
TRIES = 3
"""A body that holds up the event loop does so each time; a machine that gives the loop's thread no core does not."""
WIDE = Schema(tuple(Field(f"f{number}", "number", missing=True) for number in range(400)))


async def longest_wait(begin: Callable[[], asyncio.Future[T]]) -> tuple[float, asyncio.Future[T]]:
    """The longest time, in CPU seconds of this process, that the event loop could not run while some work was done; and the work."""
    waits = []
    for _ in range(TRIES):
        work = begin()
        longest, last = 0.0, time.process_time()
        while not work.done():
            await asyncio.sleep(0.001)
            now = time.process_time()
            longest, last = max(longest, now - last), now
        waits.append(longest)
        work.exception()  # is looked at, also where it is tried again
        if longest < MOST_HELD_S:
            break
    return min(waits), work


class Reading(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        gc.collect()
        gc.freeze()  # as a service does: what the tests hold is not looked through again and again
        self.addCleanup(gc.unfreeze)
        self.addCleanup(sys.setswitchinterval, sys.getswitchinterval())
        sys.setswitchinterval(0.0005)

    async def test_no_body_holds_the_event_loop(self) -> None:
        manifest = read_lamp(outage_lamp()).manifest
        plan = ValidationPlan(manifest.inputs)
        waits: dict[str, float] = {}
        for name, (content_type, body) in freezing_bodies().items():
            if content_type.startswith(MULTIPART):
                continue
            self.assertFalse(is_small_body(content_type, len(body)), name)
            read = partial(bodies.read_body, plan, manifest.inputs, content_type, body, [], b"", None)
            waits[name], reading = await longest_wait(lambda read=read: asyncio.ensure_future(run_beside(read)))  # type: ignore[misc]
            self.assertIsInstance(reading.exception(), LampPostError, name)
        self.assertLess(max(waits.values()), MOST_HELD_S, waits)

    async def test_a_large_good_body_is_read_in_blocks(self) -> None:
        """Rows, their order and their places in messages are the same as when it is read at once."""
        plan = ValidationPlan(WIDE)
        rows = [{f"f{number}": at + number / 2 for number in range(0, 400, 2)} for at in range(700)]
        body = orjson.dumps({"rows": rows})
        self.assertGreater(body.count(b'":'), 100_000)
        held_s, reading = await longest_wait(lambda: asyncio.ensure_future(run_beside(partial(plan.read_body, body))))
        self.assertLess(held_s, MOST_HELD_S)
        read = reading.result().rows
        self.assertEqual([row["f398"] for row in read], [at + 199 for at in range(700)])
        self.assertIsNone(read[699]["f399"])
        rows[650]["f2"] = "x"  # type: ignore[assignment]
        for change, said in (
            (orjson.dumps({"rows": rows}), 'row 650, f2: given "x"'),
            (body.replace(b'{"f0":699.0,', b'{"f0":699.0,"f0":1,'), '"f0" stands twice'),
            (body[:-2] + b',{"f0":1}', "not JSON"),
            (body.replace(b'{"f0":650.0,', b';{"f0":650.0,'), "not JSON"),
            (body[:-1] + b',"else":1}', "the key 'else' stands beside rows"),
        ):
            with self.subTest(said), self.assertRaises(LampPostError) as caught:
                plan.read_body(change)
            self.assertIn(said, caught.exception.detail)

    def test_a_compressed_stream_is_refused_before_it_is_unpacked(self) -> None:
        schema = Schema((Field("x", "number"),))
        packed = arrow_of(["x"], 9_000, compression="zstd")
        self.assertLess(len(packed), 2_000)
        with self.assertRaises(BadBody) as caught:
            read_arrow(schema, packed, 10_000)
        self.assertIn("compressed", caught.exception.detail)
        with self.assertRaises(BadBody):
            ArrowBlocks().feed(packed)
        self.assertEqual(read_arrow(schema, arrow_of(["x"], 9_000), 10_000)[1], 9_000)

    def test_a_dictionary_is_not_written_out_for_every_row(self) -> None:
        import io

        import pyarrow as pa

        words = pa.array(["x" * 9_999])
        column = pa.DictionaryArray.from_arrays(pa.array([0] * 9_999, pa.int8()), words)
        batch = pa.record_batch([column], names=["note"])
        sink = io.BytesIO()
        with pa.ipc.new_stream(sink, batch.schema) as stream:
            stream.write_batch(batch)
        with self.assertRaises(BadBody) as caught:
            read_arrow(Schema((Field("note", "text"),)), sink.getvalue(), 10_000)
        self.assertIn("written out for each row", caught.exception.detail)

    def test_pieces_of_one_byte_cost_no_more_than_large_ones(self) -> None:
        blocks = LineBlocks(quoted=True)
        blocks.feed(b'a\n"' + b"x" * 2**20)
        start = time.process_time()
        for _ in range(20_000):
            blocks.feed(b"\n")
        self.assertLess(time.process_time() - start, 2.0)
        arrow = ArrowBlocks()
        arrow.feed(arrow_of(["x"], 100_000)[:-1_000])
        start = time.process_time()
        for _ in range(20_000):
            arrow.feed(b"")
        self.assertLess(time.process_time() - start, 2.0)

    def test_a_version_with_a_number_of_a_thousand_digits_is_none(self) -> None:
        with self.assertRaises(LampPostError):
            parse_version("outage-risk@" + "1" * 5_000)


class Together(WithService):
    def test_others_are_answered_meanwhile(self) -> None:
        """Callers with such bodies, several at a time; a caller with good rows gets all answers, and each hostile call its 4xx."""
        self.service.serve(outage_lamp())
        hostile = list(freezing_bodies().items())
        statuses: dict[str, int] = {}
        stop = threading.Event()

        def attack(share: int) -> None:
            for name, (content_type, body) in hostile[share::4]:
                statuses[name] = self.service.post("/predict/outage-risk", body, content_type=content_type).status_code

        attackers = [threading.Thread(target=attack, args=(share,)) for share in range(4)]
        answered = 0
        with self.service.client() as client:
            for attacker in attackers:
                attacker.start()
            while any(attacker.is_alive() for attacker in attackers):
                client.predict("outage-risk", ROW)
                answered += 1
            stop.set()
        self.assertGreater(answered, 20)
        self.assertEqual({name: status for name, status in statuses.items() if not 400 <= status < 500}, {})
        self.assertEqual(len(statuses), len(hostile))
