"""Every kind of field in every type of body: the same rows come out; and what is malformed in each type's own way is named."""

import base64
import io
import json
import unittest
from datetime import UTC, datetime
from typing import Any

import numpy as np
import orjson
import pyarrow as pa
from hypothesis import given, settings
from hypothesis import strategies as st

from lamppost.core.errors import BadBody, BadJson, BadRequest, InvalidRows, TooManyRows
from lamppost.core.payload.arrow import read_arrow, write_arrow
from lamppost.core.payload.text_formats import csv_header, read_csv, read_ndjson, write_columns, write_csv, write_ndjson
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import Column, columns_from_rows, json_values
from lamppost.core.schema.fields import Field, Schema
from tests.core.schema.test_value_kinds import png, text

SCHEMA = Schema(
    (
        Field("height", "number", low=0, high=20, missing=True),
        Field("visits", "integer"),
        Field("trees", "yes/no"),
        Field("district", "choice", choices=("mill", "harbour, old"), missing=True),
        Field("maker", "choice", choices=("Duskworks",), unseen="accept"),
        Field("note", "text"),
        Field("at", "time"),
        Field("photo", "image", size=(4, 3)),
        Field("grid", "tensor", shape=(2, 2)),
        Field("track", "tensor", shape=(0,), elements="integer"),
        Field("wind", "number", default=3.5),
    )
)
PLAN = ValidationPlan(SCHEMA)
ROWS: list[dict[str, Any]] = [
    {
        "height": 4.5,
        "visits": 3,
        "trees": True,
        "district": "harbour, old",
        "maker": "Duskworks",
        "note": 'says "dark",\nthen quiet',
        "at": "2026-11-23T18:30:00+01:00",
        "photo": text(png()),
        "grid": [[1.0, 2.0], [3.0, 4.5]],
        "track": [1, 2, 3],
    },
    {
        "height": None,
        "visits": -(2**63),
        "trees": False,
        "district": None,
        "maker": "Somebody",
        "note": "ü",
        "at": "2026-01-01T00:00:00Z",
        "photo": text(png()),
        "grid": [[0.0, 0.0], [0.0, -1e300]],
        "track": [7],
    },
]
WANTED = [
    json_values(field, column)
    for field, column in zip(SCHEMA, columns_from_rows(SCHEMA, PLAN.read_body(orjson.dumps({"rows": ROWS})).rows), strict=True)
]


def plain(rows: list[dict[str, Any]]) -> list[Any]:
    return [json_values(field, column) for field, column in zip(SCHEMA, columns_from_rows(SCHEMA, rows), strict=True)]


def as_csv(rows: list[dict[str, Any]]) -> bytes:
    import csv

    buffer = io.StringIO()
    writer = csv.writer(buffer)
    writer.writerow(rows[0])
    for row in rows:
        writer.writerow(["" if v is None else v if isinstance(v, str) else json.dumps(v) for v in row.values()])
    return buffer.getvalue().encode()


def as_arrow(rows: list[dict[str, Any]], **types: Any) -> bytes:
    kinds = {
        "height": pa.float32(),
        "visits": pa.int64(),
        "trees": pa.bool_(),
        "district": pa.dictionary(pa.int8(), pa.string()),
        "maker": pa.large_string(),
        "note": pa.string(),
        "at": pa.timestamp("ms", "Europe/Berlin"),
        "photo": pa.binary(),
        "grid": pa.list_(pa.list_(pa.float64(), 2)),
        "track": pa.list_(pa.int16()),
        "wind": pa.float64(),
        **types,
    }
    columns = {}
    for name in rows[0]:
        values = [row[name] for row in rows]
        if name == "photo":
            values = [base64.b64decode(value) for value in values]
        if name == "at" and "at" not in types:
            values = [datetime.fromisoformat(value).astimezone(UTC) for value in values]
        columns[name] = pa.array(values, kinds[name])
    return stream(pa.table(columns))


def stream(table: Any) -> bytes:
    sink = io.BytesIO()
    with pa.ipc.new_stream(sink, table.schema) as writer:
        writer.write_table(table, max_chunksize=1)
    return sink.getvalue()


class Same(unittest.TestCase):
    def test_every_kind_in_every_type(self) -> None:
        columns = {name: [row[name] for row in ROWS] for name in ROWS[0]}
        self.assertEqual(plain(PLAN.read_body(orjson.dumps({"columns": columns})).rows), WANTED)
        self.assertEqual(plain(read_ndjson(PLAN, b"\n".join(map(orjson.dumps, ROWS)) + b"\r\n\n")), WANTED)
        self.assertEqual(plain(read_csv(PLAN, b"\xef\xbb\xbf" + as_csv(ROWS))), WANTED)
        read, count = read_arrow(SCHEMA, as_arrow(ROWS), 10)
        self.assertEqual([json_values(field, column) for field, column in zip(SCHEMA, read, strict=True)], WANTED)
        self.assertEqual(count, 2)

    def test_true_and_false_as_python_writes_them(self) -> None:
        plan = ValidationPlan(Schema((Field("lit", "yes/no"), Field("note", "text"))))
        self.assertEqual(
            read_csv(plan, b"lit,note\nTrue,True\nFalse,False\ntrue,x\n"),
            [{"lit": True, "note": "True"}, {"lit": False, "note": "False"}, {"lit": True, "note": "x"}],
        )

    def test_views_as_polars_sends_them(self) -> None:
        views = as_arrow(ROWS, maker=pa.string_view(), note=pa.string_view(), photo=pa.binary_view())
        table = pa.ipc.open_stream(views).read_all()
        words = pa.array([row["district"] for row in ROWS]).dictionary_encode()
        coded = pa.DictionaryArray.from_arrays(words.indices, words.dictionary.cast(pa.string_view()))
        read, _ = read_arrow(SCHEMA, stream(table.set_column(table.schema.names.index("district"), "district", coded)), 10)
        self.assertEqual([json_values(field, column) for field, column in zip(SCHEMA, read, strict=True)], WANTED)

    def test_views_of_the_same_bytes_are_not_written_out_without_end(self) -> None:
        """A column of 16 bytes a row that says it is a megabyte in each."""
        rows, text_bytes = 500, 2**20
        view = np.array([text_bytes, int.from_bytes(b"lamp", "little"), 0, 0], dtype=np.int32)
        buffers = [None, pa.py_buffer(np.tile(view, rows).tobytes()), pa.py_buffer(b"lamp" * (text_bytes // 4))]
        views = pa.Array.from_buffers(pa.string_view(), rows, buffers)
        sink = io.BytesIO()
        batch = pa.record_batch({"note": views})
        with pa.ipc.new_stream(sink, batch.schema) as writer:
            writer.write_batch(batch)
        with self.assertRaisesRegex(BadBody, "written out for each row, a column of views has over"):
            read_arrow(Schema((Field("note", "text"),)), sink.getvalue(), 1_000)

    def test_tensors_may_come_as_bytes(self) -> None:
        for dtype in ("float32", "float64", "int16"):
            data = {"base64": text(np.array([[1, 2], [3, 4]], dtype=dtype).tobytes()), "dtype": dtype, "shape": [2, 2]}
            row = PLAN.read_body(orjson.dumps({**ROWS[0], "grid": data})).rows[0]
            self.assertEqual(row["grid"].tolist(), [[1, 2], [3, 4]])
        for change, said in (
            ({"shape": [4]}, "a shape of [4]"),
            ({"shape": [2, 2.0]}, "no list of lengths"),
            ({"dtype": "complex64"}, '"complex64", which is none of'),
            ({"base64": "AAAA AAAA"}, "not base64"),
            ({"base64": "AAAA"}, "3 bytes, where [2, 2] of float64 is 32"),
            ({"base64": text(np.full(4, np.nan).tobytes())}, "NaN or infinite"),
            ({"colour": 1}, "no base64, dtype and shape"),
        ):
            with self.subTest(said=said), self.assertRaises(InvalidRows) as caught:
                whole = {"base64": text(np.zeros(4).tobytes()), "shape": [2, 2], **change}
                PLAN.read_body(orjson.dumps({**ROWS[0], "grid": whole}))
            self.assertIn(said.replace("no base64", "not base64"), caught.exception.extra["faults"][0]["given"])


class Malformed(unittest.TestCase):
    def refused(self, wanted: str, read: Any, body: bytes, kind: type[BadRequest] = BadBody) -> BadRequest:
        with self.assertRaises(kind) as caught:
            read(PLAN, body)
        self.assertIn(wanted, caught.exception.detail + json.dumps(caught.exception.extra.get("faults", [])))
        return caught.exception

    def test_ndjson(self) -> None:
        good = orjson.dumps(ROWS[0])
        many = [good] * 10_000
        many[7_341] = good[:-1]
        self.refused("line 7342 is not JSON", read_ndjson, b"\n".join(many))
        self.refused("line 2 is a list of 1, and each line is one row", read_ndjson, good + b"\n[1]\n")
        self.refused("line 1 is not JSON", read_ndjson, good + b"," + good)
        self.refused("the body has no lines", read_ndjson, b"\n \n")
        self.refused('"field": "visits"', read_ndjson, good + b"\n" + good.replace(b'"visits":3', b'"visits":"3"'), InvalidRows)
        self.refused("10000 rows", read_ndjson, b"\n".join([good] * 10_001), TooManyRows)
        self.refused("line 1 is not JSON", read_ndjson, b"[" * 100_000)

    def test_csv(self) -> None:
        good = as_csv(ROWS[:1])
        header, _, rest = good.partition(b"\r\n")
        self.refused("line 4 has 1 cells, the header has 10", read_csv, good + b"4.5\r\n")
        self.refused("separate cells with commas", read_csv, good.replace(b",", b";"))
        self.refused("more than once", read_csv, header.replace(b"visits", b"height") + b"\r\n" + rest)
        self.refused("did you mean height?", read_csv, header.replace(b"height", b"heigth") + b"\r\n" + rest)
        self.refused("lacks visits, trees", read_csv, b"height\r\n1\r\n")
        self.refused("has a header and no rows", read_csv, header + b"\r\n")
        self.refused("the CSV is empty", read_csv, b"")
        self.refused("not UTF-8: byte 3 is 0xff", read_csv, b"a,b\xff")
        self.refused("is no CSV", read_csv, header + b'\r\n"open')
        for cell, said in (("04", '"given": "\\"04\\""'), ("4,5", "has 11 cells"), ("four", "four"), ("1e400", "1e400"), ("NaN", "NaN")):
            with self.subTest(cell=cell):
                body = header + b"\r\n" + rest.replace(b"4.5,3", cell.encode() + b",3", 1)
                self.refused(said, read_csv, body, BadRequest)
        self.refused("true or false", read_csv, header + b"\r\n" + rest.replace(b",true,", b",TRUE,"), InvalidRows)

    def test_columns(self) -> None:
        columns = {name: [row[name] for row in ROWS] for name in ROWS[0]}
        read = lambda plan, body: plan.read_body(body)  # noqa: E731
        self.refused("different lengths", read, orjson.dumps({"columns": {**columns, "visits": [1]}}), BadJson)
        self.refused('"row": 1, "field": "trees"', read, orjson.dumps({"columns": {**columns, "trees": [True, 1]}}), InvalidRows)
        self.refused("a list of values", read, orjson.dumps({"columns": {**columns, "trees": True}}), InvalidRows)
        self.refused("add this field", read, orjson.dumps({"columns": {"height": [1]}}), InvalidRows)
        self.refused("did you mean visits?", read, orjson.dumps({"columns": {**columns, "visit": [1, 2]}}), InvalidRows)
        self.refused("an object of lists", read, orjson.dumps({"columns": [1]}), BadJson)

    def test_arrow(self) -> None:
        read = lambda plan, body: read_arrow(plan.schema, body, 10)  # noqa: E731
        good = as_arrow(ROWS)
        for cut in (0, 3, 40, len(good) // 2, len(good) - 30):
            with self.subTest(cut=cut):
                self.refused("no Arrow stream", read, good[:cut])
        self.refused("no rows", read, stream(pa.table({"visits": pa.array([], pa.int64())} | self.others()).slice(0, 0)))
        self.refused("did you mean visits?", read, stream(pa.table({"visit": [1]})))
        self.refused("lacks", read, stream(pa.table({"visits": [1]})))
        self.refused("10 rows", read, as_arrow([ROWS[0]] * 11), TooManyRows)
        for name, kind, values, said in (
            ("visits", pa.string(), ["3", "4"], "a column of string"),
            ("visits", pa.float64(), [3.0, 4.0], "send int64"),
            ("visits", pa.int64(), [None, 4], "may not be missing"),
            ("visits", pa.uint64(), [2**63, 1], "whole numbers go from"),
            ("height", pa.float64(), [float("nan"), 1.0], "NaN and infinity"),
            ("height", pa.float64(), [21.0, 1.0], "21.0"),
            ("at", pa.timestamp("us"), [0, 0], "timestamp with a zone"),
            ("district", pa.string(), ["mil", "mill"], "mil"),
            ("photo", pa.string(), [text(png())] * 2, "send binary"),
            ("grid", pa.list_(pa.float64()), [[1.0], [2.0]], "lists of float64"),
            ("track", pa.list_(pa.int64()), [[], [1]], "a shape of (0,)"),
        ):
            with self.subTest(name=name, kind=str(kind)):
                table = pa.ipc.open_stream(good).read_all()
                bent = table.set_column(table.schema.get_field_index(name), name, pa.array(values, kind))
                self.refused(said, read, stream(bent), InvalidRows)

    def others(self) -> dict[str, Any]:
        table = pa.ipc.open_stream(as_arrow(ROWS)).read_all().slice(0, 0)
        return {name: table.column(name) for name in table.schema.names if name != "visits"}

    @settings(max_examples=150, deadline=None)
    @given(st.integers(0, 2_000), st.integers(0, 255), st.integers(0, 2_000), st.integers(0, 255))
    def test_a_bent_arrow_stream_is_read_or_refused(self, one: int, value: int, two: int, other: int) -> None:
        data = bytearray(as_arrow(ROWS))
        data[one % len(data)], data[two % len(data)] = value, other
        try:
            columns, count = read_arrow(SCHEMA, bytes(data), 10)
        except BadRequest:
            return
        self.assertTrue(all(len(column.values) == count for column in columns))


ONE = {"label": "fails", "scores": {"holds": 0.25, "fails": 0.75}, "kwh": None, "visit": True, "curve": [1.0, 2.0]}
SAID = [{**ONE, "due": "2026-11-23T18:30:00Z", "said": 'a "b", c'}, {**ONE, "kwh": 1.5, "due": "2026-11-23T18:30:00.000001Z", "said": ""}]


class Answers(unittest.TestCase):
    SCHEMA = Schema(
        (
            Field("label", "choice", choices=("holds", "fails")),
            Field("scores", "vector", choices=("holds", "fails")),
            Field("kwh", "number", missing=True),
            Field("visit", "yes/no"),
            Field("curve", "tensor", shape=(2,)),
            Field("due", "time"),
            Field("said", "text"),
        )
    )

    def test_csv_and_ndjson_and_columns(self) -> None:
        self.assertEqual(csv_header(self.SCHEMA)[:3], ["label", "scores.holds", "scores.fails"])
        lines = write_csv(self.SCHEMA, SAID).decode().split("\r\n")
        self.assertEqual(lines[1], 'fails,0.25,0.75,,true,"[1.0,2.0]",2026-11-23T18:30:00Z,"a ""b"", c"')
        self.assertEqual([orjson.loads(line) for line in write_ndjson(SAID).splitlines()], SAID)
        columns = write_columns(self.SCHEMA, SAID)
        self.assertEqual((columns["scores"], columns["kwh"]), ({"holds": [0.25, 0.25], "fails": [0.75, 0.75]}, [None, 1.5]))

    def test_arrow(self) -> None:
        columns = [
            Column(np.array([1, 1], dtype=np.int32)),
            Column(np.array([[0.25, 0.75], [0.25, 0.75]])),
            Column(np.array([np.nan, 1.5])),
            Column(np.array([1, 1], dtype=np.uint8)),
            Column(np.array([[1.0, 2.0], [1.0, 2.0]])),
            Column(np.array([1_795_458_600_000_000, 1_795_458_600_000_001])),
            Column(['a "b", c', ""]),
        ]
        table = pa.ipc.open_stream(write_arrow(self.SCHEMA, columns)).read_all()
        self.assertEqual(table.schema.field("label").type, pa.dictionary(pa.int32(), pa.string()))
        rows = table.to_pylist()
        self.assertEqual([{**row, "due": None} for row in rows], [{**row, "due": None} for row in SAID])
        self.assertEqual(rows[0]["due"], datetime(2026, 11, 23, 18, 30, tzinfo=UTC))
