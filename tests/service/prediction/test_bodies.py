"""Which content types are read and written for whom, and that the same rows come of each; without a server."""

import asyncio
import unittest
from typing import Any

import numpy as np
import orjson

from lamppost.core.errors import BadBody, BadJson, InvalidRows, NotAcceptable, WrongContentType
from lamppost.core.payload.arrow import write_arrow
from lamppost.core.payload.text_formats import ARROW, CSV, JSON, MULTIPART, NDJSON
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import Column, columns_from_rows
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.prediction import bodies
from lamppost.service.prediction.predictors import PredictionInput

INPUTS = Schema((Field("burning_h", "number", low=0), Field("district", "choice", choices=("mill", "old-town")), Field("note", "text")))
OPTIONS = Schema((Field("threshold", "number", default=0.5, example=0.5),))
ANSWERS = Schema((Field("kwh", "number"), Field("band", "choice", choices=("low", "high"))))
PLAN = ValidationPlan(INPUTS)
CHOOSING = ValidationPlan(INPUTS, options=OPTIONS)
ROWS: list[dict[str, Any]] = [
    {"burning_h": 1.5, "district": "mill", "note": "by the weir, left"},
    {"burning_h": 2.0, "district": "old-town", "note": 'said "dim"'},
]
LINES = b"\n".join(map(orjson.dumps, ROWS))
TABLE = b'district,burning_h,note\r\nmill,1.5,"by the weir, left"\r\nold-town,2,"said ""dim"""\r\n'


def headers(**given: str) -> list[tuple[bytes, bytes]]:
    return [(name.replace("_", "-").encode(), value.encode()) for name, value in given.items()]


def form(*parts: tuple[str, str], boundary: str = "edge") -> tuple[str, bytes]:
    body = "".join(f'--{boundary}\r\nContent-Disposition: form-data; name="{name}"\r\n\r\n{value}\r\n' for name, value in parts)
    return f"multipart/form-data; boundary={boundary}", f"{body}--{boundary}--\r\n".encode()


class Types(unittest.TestCase):
    def test_the_type_of_a_body(self) -> None:
        for given, plain in (
            ("application/json; charset=utf-8", JSON),
            ("Application/JSON", JSON),
            ("application/jsonl", NDJSON),
            ("application/x-ndjson", NDJSON),
            ("text/csv; header=present", CSV),
            ("multipart/form-data; boundary=x", MULTIPART),
        ):
            self.assertEqual(bodies.request_content_type(headers(content_type=given)), (plain, given))
        self.assertEqual(bodies.request_content_type([]), (JSON, JSON))
        with self.assertRaises(WrongContentType) as caught:
            bodies.request_content_type(headers(content_type="text/xml"))
        self.assertIn("text/xml", caught.exception.detail)
        self.assertIn("Content-Type: application/json", caught.exception.detail)

    def test_the_type_that_the_caller_likes_best(self) -> None:
        for accept, given, wanted in (
            (None, JSON, JSON),
            (None, ARROW, ARROW),
            ("*/*", CSV, JSON),
            ("text/csv", JSON, CSV),
            ("text/html, text/csv;q=0.5", JSON, CSV),
            ("application/json;q=0.2, text/csv;q=0.9", JSON, CSV),
            ("text/*", JSON, CSV),
            ("application/*", JSON, JSON),
            ("application/jsonl", JSON, NDJSON),
            ("text/csv;q=0, */*;q=0.1", JSON, JSON),
            ("text/csv;q=loud, application/json;q=0.1", JSON, JSON),
        ):
            with self.subTest(accept=accept, given=given):
                self.assertEqual(bodies.answer_content_type(headers(accept=accept) if accept else [], given), wanted)
        for accept in ("text/html", "image/*", "application/json;q=0"):
            with self.subTest(accept=accept), self.assertRaises(NotAcceptable):
                bodies.answer_content_type(headers(accept=accept), JSON)

    def test_lines_that_are_large_or_of_unknown_size_are_read_in_blocks(self) -> None:
        lines = {"content_type": "application/x-ndjson"}
        for given, whether in (
            (lines, True),
            (lines | {"content_length": "99"}, False),
            (lines | {"content_length": "101"}, True),
            (lines | {"accept": "application/json"}, False),
            ({"content_type": "application/json"}, False),
        ):
            with self.subTest(given=given):
                self.assertEqual(bodies.is_streamed(headers(**given), 100), whether)
        self.assertEqual(bodies.stream_content_types(headers(content_type="text/csv")), (CSV, CSV))
        self.assertEqual(bodies.stream_content_types(headers(content_type="text/csv", accept="application/x-ndjson")), (CSV, NDJSON))


class Reading(unittest.TestCase):
    def read(self, kind: str, body: bytes, plan: ValidationPlan = PLAN, query: bytes = b"") -> PredictionInput:
        return bodies.read_body(plan, INPUTS if plan is PLAN else Schema((*INPUTS, *OPTIONS)), kind, body, [], query)

    def test_the_same_rows_come_of_every_type(self) -> None:
        wrapped = {"rows": ROWS}
        turned = {"columns": {name: [row[name] for row in ROWS] for name in INPUTS.names}}
        for kind, body, form_ in (
            (JSON, orjson.dumps(wrapped), "rows"),
            (JSON, orjson.dumps(turned), "columns"),
            (NDJSON, LINES, "rows"),
            (NDJSON, LINES + b"\n\n", "rows"),
            (CSV, TABLE, "rows"),
        ):
            with self.subTest(kind=kind, form=form_):
                asked = self.read(kind, body)
                self.assertEqual((asked.form, asked.row_count, asked.rows), (form_, 2, ROWS))
        asked = self.read(ARROW, write_arrow(INPUTS, columns_from_rows(INPUTS, ROWS)))
        self.assertEqual((asked.form, asked.row_count, asked.rows), ("rows", 2, None))
        assert asked.columns is not None
        np.testing.assert_array_equal(np.asarray(asked.columns[0].values), [1.5, 2.0])

    def test_a_form_is_one_row(self) -> None:
        kind, body = form(("burning_h", "1.5"), ("district", "mill"), ("note", "12"))
        parts = asyncio.run(bodies.read_form_parts(kind, body))
        asked = bodies.read_body(PLAN, INPUTS, MULTIPART, body, parts, b"")
        self.assertEqual((asked.form, asked.rows), ("row", [{"burning_h": 1.5, "district": "mill", "note": "12"}]))
        kind, body = form(("note", "a"), ("note", "b"))
        with self.assertRaisesRegex(BadBody, "'note' more than once"):
            bodies.read_body(PLAN, INPUTS, MULTIPART, body, asyncio.run(bodies.read_form_parts(kind, body)), b"")
        kind, body = form(("burning_h", "much"), ("district", "mill"), ("note", ""))
        with self.assertRaises(InvalidRows) as caught:
            bodies.read_body(PLAN, INPUTS, MULTIPART, body, asyncio.run(bodies.read_form_parts(kind, body)), b"")
        self.assertIn("burning_h", caught.exception.detail)
        for kind, body in (("multipart/form-data", b"x"), ("multipart/form-data; boundary=edge", b"--other\r\n")):
            with self.subTest(kind=kind), self.assertRaises(BadBody):
                parts = asyncio.run(bodies.read_form_parts(kind, body))
                bodies.read_body(PLAN, INPUTS, MULTIPART, body, parts or [("x", b"", False)] * 2, b"")

    def test_options_stand_in_the_query_of_all_but_json(self) -> None:
        for kind, body in ((NDJSON, LINES), (CSV, TABLE)):
            asked = self.read(kind, body, CHOOSING, b"options=%7B%22threshold%22%3A0.25%7D")
            assert asked.rows is not None
            self.assertEqual([row["threshold"] for row in asked.rows], [0.25, 0.25])
        columns = self.read(
            ARROW, write_arrow(INPUTS, columns_from_rows(INPUTS, ROWS)), CHOOSING, b"options=%7B%22threshold%22%3A0.25%7D"
        ).columns
        assert columns is not None
        np.testing.assert_array_equal(np.asarray(columns[3].values), [0.25, 0.25])
        with self.assertRaisesRegex(BadJson, "stand in the body"):
            self.read(JSON, orjson.dumps({"rows": ROWS}), CHOOSING, b"options=%7B%7D")
        with self.assertRaises(InvalidRows):
            self.read(NDJSON, LINES, CHOOSING, b"options=%7B%22loud%22%3A1%7D")


class Writing(unittest.TestCase):
    SAID = ({"kwh": 1.25, "band": "low"}, {"kwh": 2.5, "band": "high"})

    def write(self, asked: str, wanted: str, rows: int = 2) -> bytes:
        answer = LaneAnswer(list(self.SAID[:rows]), 0.0, 0.0, rows)
        return bodies.write_answer(ANSWERS, PredictionInput(asked, rows, []), answer, wanted, {"version": "m@1"})

    def test_answers_in_the_form_of_the_question_and_the_type_that_is_wanted(self) -> None:
        self.assertEqual(orjson.loads(self.write("row", JSON, 1)), {"answer": self.SAID[0], "version": "m@1"})
        self.assertEqual(orjson.loads(self.write("rows", JSON)), {"answers": list(self.SAID), "version": "m@1"})
        columns = {"kwh": [1.25, 2.5], "band": ["low", "high"]}
        self.assertEqual(orjson.loads(self.write("columns", JSON)), {"columns": columns, "version": "m@1"})
        self.assertEqual(self.write("rows", CSV).decode().split(), ["kwh,band", "1.25,low", "2.5,high"])
        self.assertEqual([orjson.loads(line) for line in self.write("rows", NDJSON).splitlines()], list(self.SAID))

    def test_answers_that_are_columns_are_written_as_rows_are(self) -> None:
        columns = [Column(np.array([1.25, 2.5])), Column(np.array([0, 1], np.int32))]
        answer = LaneAnswer([], 0.0, 0.0, 2, columns)
        for wanted in (JSON, CSV, NDJSON, ARROW):
            with self.subTest(wanted=wanted):
                self.assertEqual(
                    bodies.write_answer(ANSWERS, PredictionInput("rows", 2), answer, wanted, {"version": "m@1"}), self.write("rows", wanted)
                )

    def test_other_types_are_recorded_as_rows_up_to_a_thousand(self) -> None:
        many = [ROWS[0]] * 1_003
        for asked in (PredictionInput("rows", 1_003, many), PredictionInput("rows", 1_003, columns=columns_from_rows(INPUTS, many))):
            kept = orjson.loads(bodies.request_as_json(PLAN, INPUTS, CSV, asked))
            self.assertEqual((len(kept["rows"]), kept["left_out"], kept["content_type"]), (1_000, 3, CSV))
            self.assertEqual(kept["rows"][0], ROWS[0])


if __name__ == "__main__":
    unittest.main()
