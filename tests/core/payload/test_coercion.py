import unittest
from typing import Any

import orjson

from lamppost.core.errors import BadJson, InvalidRows
from lamppost.core.payload.coercion import Coercion
from lamppost.core.payload.text_formats import read_csv, read_ndjson
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.fields import Field, Schema

SCHEMA = Schema(
    (
        Field("age", "number", low=0, high=80, missing=True),
        Field("nights", "integer", default=1),
        Field("trees", "yes/no", default=False),
        Field("lamp", "choice", choices=("LED", "sodium"), default="LED"),
        Field("note", "text", default=""),
        Field("at", "time", missing=True),
        Field("secret", "integer", private=True, default=0),
    )
)
PLAN = ValidationPlan(SCHEMA, options=Schema((Field("limit", "number", default=0.5),)))


def lenient(body: Any) -> tuple[dict[str, Any], list[Coercion]]:
    told: list[Coercion] = []
    row = PLAN.read_body(body if isinstance(body, bytes) else orjson.dumps(body), told).rows[0]
    return row, told


class Coercing(unittest.TestCase):
    def test_what_is_taken_and_how_it_is_told(self) -> None:
        for field, given, taken in (
            ("age", " 3.5 ", 3.5), ("age", "1e1", 10.0), ("age", "", None), ("age", "12345678901234567890e-19", 1.2345678901234568),
            ("nights", "7", 7), ("nights", 7.0, 7), ("nights", "7.0", 7), ("nights", "-9223372036854775808", -(2**63)),
            ("trees", 1, True), ("trees", "No", False), ("lamp", " led ", "LED"), ("note", 12.5, "12.5"), ("note", True, "true"),
        ):  # fmt: skip
            with self.subTest(field=field, given=given):
                row, told = lenient({field: given})
                self.assertEqual((row[field], type(row[field])), (taken, type(taken)))
                self.assertEqual([(change.row, change.field) for change in told], [(0, field)])
        self.assertEqual(lenient({"nights": "7"})[1][0].to_dict(), {"row": 0, "field": "nights", "given": '"7"', "taken": "7"})
        self.assertEqual(lenient({"shoe": 44})[1][0].to_dict(), {"row": 0, "field": "shoe", "given": "44", "left_out": True})
        self.assertEqual(lenient({"secret": "5"})[1][0].given, "a private value")

    def test_times_without_an_offset_are_utc(self) -> None:
        for given, taken in (("2026-11-23T18:30", "2026-11-23T18:30:00+00:00"), ("2026-11-23", "2026-11-23T00:00:00+00:00")):
            self.assertEqual(lenient({"at": given})[0]["at"].isoformat(), taken)

    def test_what_leaves_doubt_stays_a_fault(self) -> None:
        for row in (
            {"age": "three"}, {"age": "81"}, {"age": "3,5"}, {"nights": "7.5"}, {"nights": 7.5}, {"nights": "9223372036854775808"},
            {"trees": 2}, {"trees": "maybe"}, {"lamp": "gas"}, {"nights": None}, {"at": "23.11.2026"}, {"age": [3]}, {"note": {}},
        ):  # fmt: skip
            with self.subTest(row=row):
                self.assertRaises(InvalidRows, lenient, row)
        for body in (b'{"nights": NaN}', b'{"age": Infinity}', b'{"nights": 1e400}'):
            self.assertRaises(InvalidRows, lenient, body)
        self.assertEqual(lenient(b'{"age": NaN}')[0]["age"], None)

    def test_a_good_body_is_told_nothing_and_a_strict_plan_eases_nothing(self) -> None:
        self.assertEqual(lenient({"age": 3})[1], [])
        self.assertRaises(InvalidRows, PLAN.read_body, b'{"age": "3"}')

    def test_rows_columns_lines_cells_and_options(self) -> None:
        rows = [{"age": 1}, {"age": "2"}]
        bodies = (
            lambda told: PLAN.read_body(orjson.dumps({"rows": rows, "options": {"limit": "0.7"}}), told).rows,
            lambda told: PLAN.read_body(orjson.dumps({"columns": {"age": [1, "2"]}, "options": {"limit": "0.7"}}), told).rows,
        )
        for read in bodies:
            told: list[Coercion] = []
            self.assertEqual([(row["age"], row["limit"]) for row in read(told)], [(1.0, 0.7), (2.0, 0.7)])
            self.assertEqual([(change.row, change.field) for change in told], [(1, "age"), (0, "limit")])
        for made in (
            read_ndjson(PLAN, b'{"age":1}\n{"age":"2"}\n', coercions=(lines := [])),
            read_csv(PLAN, b"trees\ntrue\nYES\n", coercions=(cells := [])),
        ):
            self.assertEqual(len(made), 2)
        self.assertEqual([change.row for change in (*lines, *cells)], [1, 1])


class KeysThatStandTwice(unittest.TestCase):
    def test_are_refused_wherever_they_stand(self) -> None:
        plan = ValidationPlan(SCHEMA, options=PLAN.options)
        for body in (
            b'{"age": 1, "age": 2}', b'{"age" : 1, "age" : 2}', b'{"rows": [{"age": 1}, {"age": 1, "nights": 2, "age": 2}]}',
            b'{"rows": [{"age": 1}], "rows": [{"age": 2}]}', b'{"columns": {"age": [1], "age": [2]}}',
            b'{"age": 1, "options": {"limit": 1, "limit": 2}}', b'{"age": 1, "\\u0061ge": 2}',
        ):  # fmt: skip
            with self.subTest(body=body), self.assertRaisesRegex(BadJson, "stands twice in one object"):
                plan.read_body(body)

    def test_what_only_looks_so_is_read(self) -> None:
        for note in ('","age":1,"', 'x":', "::", '"'):
            self.assertEqual(PLAN.read_body(orjson.dumps({"age": 1, "note": note})).rows[0]["note"], note)
        self.assertEqual(PLAN.read_body(b'{"age"\n:\t1}').rows[0]["age"], 1.0)
