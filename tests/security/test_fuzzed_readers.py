"""Readers of what comes in, fed with damaged input for some seconds each: an answer, or an error of ours, and never anything else.

``make fuzz`` gives each of them minutes.
"""

import io
import os
import random
import time
import unittest
from collections.abc import Callable, Iterator
from typing import Any

import orjson

from lamppost.core.artifact.manifest import read_manifest
from lamppost.core.artifact.proof import read_proof
from lamppost.core.artifact.reference import read_reference
from lamppost.core.errors import LampPostError
from lamppost.core.payload.arrow import read_arrow
from lamppost.core.payload.arrow_blocks import ArrowBlocks
from lamppost.core.payload.line_blocks import LineBlocks
from lamppost.core.payload.text_formats import read_csv, read_ndjson
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.fields import Field, Schema
from lamppost.package.read import read_lamp
from lamppost.runtime.lane_frames import LaneFrames
from lamppost.runtime.wire import WireError, frame_size, read_header, unpack_columns
from tests.support.freezing import arrow_of
from tests.support.lamps import outage_lamp

SECONDS = float(os.environ.get("LAMPPOST_FUZZ_SECONDS", "2"))
SCHEMA = Schema(
    (
        Field("x", "number", low=0, high=10),
        Field("n", "integer", missing=True),
        Field("f", "yes/no"),
        Field("c", "choice", choices=("a", "b"), unseen="accept"),
        Field("t", "text"),
        Field("at", "time", missing=True),
        Field("v", "tensor", shape=(2, 0)),
    )
)
ROW = {"x": 1.5, "n": 7, "f": True, "c": "a", "t": "é", "at": "2026-05-01T00:00:00Z", "v": [[1.0, 2.0], [3.0, 4.0]]}
PIECES = [
    b"\x00",
    b"\xff\xff\xff\xff",
    b'"',
    b"{",
    b"}",
    b"[",
    b"]",
    b":",
    b",",
    b"\n",
    b"\r",
    b"\\u0000",
    b"\\",
    b"1e999",
    b"NaN",
    b"-",
    b"null",
    b"\x80",
]


def damaged(random_: random.Random, data: bytes) -> bytes:
    """A copy with a few bytes changed, cut, doubled or replaced by what readers trip over."""
    changed = bytearray(data)
    for _ in range(random_.randrange(1, 6)):
        at = random_.randrange(len(changed) + 1)
        match random_.randrange(6):
            case 0:
                changed[at : at + 1] = bytes([random_.randrange(256)])
            case 1:
                del changed[at : at + random_.randrange(1, 40)]
            case 2:
                changed[at:at] = random_.choice(PIECES)
            case 3:
                changed[at:at] = changed[at : at + random_.randrange(1, 200)]
            case 4:
                changed[at : at + 4] = random_.choice((b"\xff\xff\xff\x7f", b"\x00\x00\x00\x00", b"\x00\x00\x00\x80"))
            case _:
                changed = changed[:at] or changed
    return bytes(changed)


def mixed_arrow() -> bytes:
    import pyarrow as pa

    columns = {
        "x": pa.array([1.5, 2.5]),
        "n": pa.array([7, None], pa.int32()),
        "f": pa.array([True, False]),
        "c": pa.array(["a", "z"]).dictionary_encode(),
        "t": pa.array(["é", ""]),
        "at": pa.array([0, 1], pa.timestamp("ms", "UTC")),
        "v": pa.array([[[1.0], [2.0]], [[3.0, 4.0], [5.0, 6.0]]]),
    }
    batch = pa.record_batch(list(columns.values()), names=list(columns))
    sink = io.BytesIO()
    with pa.ipc.new_stream(sink, batch.schema) as stream:
        stream.write_batch(batch)
    return sink.getvalue()


def in_blocks(data: bytes, random_: random.Random, blocks: Any) -> Iterator[bytes]:
    """The blocks of data that comes in pieces."""
    at = 0
    while at < len(data):
        size = random_.randrange(1, 200)
        yield from blocks.feed(data[at : at + size])
        at += size
    yield from blocks.finish()


class Fuzzed(unittest.TestCase):
    def fuzz(self, read: Callable[[bytes], object], seeds: list[bytes], allowed: tuple[type[Exception], ...] = (LampPostError,)) -> None:
        """Read damaged copies of the seeds until the time is over."""
        seed = random.randrange(2**32)
        random_ = random.Random(seed)
        end, cases, refused = time.monotonic() + SECONDS, 0, 0
        while time.monotonic() < end or cases < 50:
            data = damaged(random_, random_.choice(seeds))
            cases += 1
            begun = time.process_time()
            try:
                read(data)
            except allowed:
                refused += 1
            except Exception as error:
                raise AssertionError(f"seed {seed}, case {cases}: {type(error).__name__} for {data[:300]!r}") from error
            self.assertLess(time.process_time() - begun, 5.0, data[:300])
        self.assertGreater(refused, cases // 20)

    def test_json_bodies(self) -> None:
        plan = ValidationPlan(SCHEMA, options=Schema((Field("k", "integer", default=1),)))
        seeds = [
            orjson.dumps(body) for body in (ROW, {"rows": [ROW] * 3, "options": {"k": 2}}, {"columns": {n: [v] for n, v in ROW.items()}})
        ]
        self.fuzz(plan.read_body, seeds)
        self.fuzz(lambda data: plan.read_body(data, []), seeds)

    def test_ndjson_and_csv(self) -> None:
        plan = ValidationPlan(SCHEMA)
        line = orjson.dumps(ROW)
        self.fuzz(lambda data: read_ndjson(plan, data), [b"\n".join([line] * 4)])
        table = b'x,n,f,c,t,at,v\n1.5,7,true,a,"a ""quote"", and\nmore",2026-05-01T00:00:00Z,"[[1.0,2.0],[3.0,4.0]]"\n'
        table += b'2,,false,b,x,,"[[1],[2]]"\n'
        self.fuzz(lambda data: read_csv(plan, data), [table])
        random_ = random.Random(7)
        self.fuzz(
            lambda data: [read_csv(plan, block) for block in in_blocks(data, random_, LineBlocks(quoted=True, size=100))], [table * 5]
        )

    def test_arrow(self) -> None:
        random_ = random.Random(7)
        self.fuzz(lambda data: read_arrow(SCHEMA, data, 1_000), [mixed_arrow()])
        narrow = Schema((Field("x", "number"),))
        streams = [arrow_of(["x"], 50), mixed_arrow()]
        self.fuzz(lambda data: [read_arrow(narrow, block, 1_000) for block in in_blocks(data, random_, ArrowBlocks())], streams)

    def test_frames_of_workers(self) -> None:
        frames = LaneFrames("m@1", SCHEMA, Schema(tuple(SCHEMA.fields[:5])))
        rows = [ValidationPlan(SCHEMA).read_rows([ROW])[0]] * 3
        entries, body = frames.pack(rows)
        raw = orjson.dumps({"entries": entries, "rows": 3}) + b"|" + body

        def read(data: bytes) -> None:
            head, _, rest = data.partition(b"|")
            header = read_header(head)
            count = header.get("rows")
            unpack_columns(SCHEMA, count if isinstance(count, int) and 0 <= count < 10**6 else 3, header.get("entries"), rest)
            frame_size((data + bytes(8))[:8])

        self.fuzz(read, [raw], (WireError,))
        answer = {"op": "answers", "rows": 3, "columns": entries[:5]}
        self.fuzz(lambda data: frames.read_rows(answer, data, 3), [body])

    def test_documents_of_packages(self) -> None:
        import zipfile

        lamp = read_lamp(outage_lamp())
        with zipfile.ZipFile(lamp.path) as archive:
            manifest, proof, reference = (
                archive.read(name) for name in ("manifest.json", lamp.manifest.proof, str(lamp.manifest.reference))
            )
        self.fuzz(read_manifest, [manifest])
        self.fuzz(read_proof, [proof])
        self.fuzz(read_reference, [reference])
