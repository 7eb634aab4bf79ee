"""Columns and fields of bulk runs, good rows and rejects, of text and of tables."""

import json
import unittest
from typing import Any

import numpy as np
import pyarrow as pa

from lamppost.core.bulk.column_match import ColumnMatch, match_columns
from lamppost.core.bulk.order import BulkOrder, Place, Question, format_of_path, read_order, read_place, require_format, write_order
from lamppost.core.bulk.rejects import Reject, too_many_rejects
from lamppost.core.bulk.table_rows import check_types, flat_answers, read_table_rows
from lamppost.core.bulk.text_rows import BlockPlace, check_csv_header, read_csv_block, read_good_rows, read_ndjson_block
from lamppost.core.errors import BadBody, BadRequest
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import Column
from lamppost.core.schema.fields import Field, Schema

SCHEMA = Schema(
    (
        Field("age", "number", low=0, missing=True),
        Field("count", "integer"),
        Field("kind", "choice", choices=("a", "b")),
        Field("lit", "yes/no", default=True),
        Field("name", "text", private=True, default=""),
    )
)
PLAN = ValidationPlan(SCHEMA)
MATCH = ColumnMatch({"age": "age", "count": "n", "kind": "kind", "name": "name"}, keep=("id",))


class Orders(unittest.TestCase):
    def test_places_are_read_as_they_are_written(self) -> None:
        self.assertEqual(read_place("town:lamps/*.parquet"), Place("town", "lamps/*.parquet"))
        self.assertTrue(read_place("s3://bucket/lamps.csv").is_url)
        queries = {
            "city:lamps": False,
            "city:SELECT * FROM lamps": True,
            "city:with x as (select 1) select * from x": True,
            "c:selected": False,
        }
        self.assertEqual({text: read_place(text).is_query for text in queries}, queries)
        for wrong in ("lamps.csv", "/etc/passwd", "Town:lamps", "town:", ""):
            with self.subTest(wrong), self.assertRaises(BadRequest):
                read_place(wrong)

    def test_formats_are_known_by_suffixes(self) -> None:
        self.assertEqual(format_of_path("a/lamps.CSV.gz"), ("csv", "gzip"))
        self.assertEqual(format_of_path("lamps.parquet"), ("parquet", None))
        self.assertEqual(require_format("lamps.dat", "ndjson"), ("ndjson", None))
        with self.assertRaisesRegex(BadRequest, "did you mean .parquet"):
            require_format("lamps.parqet", None)

    def test_an_order_is_the_same_after_it_was_kept(self) -> None:
        order = BulkOrder(
            (Question("risk", "now", {"limit": 3}), Question("risk@1", "before")), "town:a.csv", keep=("id",), most_rejects=0.5
        )
        self.assertEqual(read_order(json.loads(json.dumps(write_order(order)))), order)
        for wrong in (
            {"questions": [], "source": "town:a"},
            {"questions": [{"of": "a"}, {"of": "b"}], "source": "town:a"},
            {"questions": [{"of": "a"}], "source": "town:a", "most_rejects": 2},
            {"questions": [{"of": "a"}], "source": "town:a", "delimiter": '"'},
            {"questions": [{"of": "a"}], "source": "town:a", "rows_per_second": 0},
            {"questions": [{"of": "a"}], "source": "town:a", "surprise": 1},
        ):
            with self.subTest(wrong), self.assertRaises(BadRequest):
                read_order(wrong)


class Matching(unittest.TestCase):
    def fails(self, columns: list[str], stated: dict[str, str] | None = None, keep: tuple[str, ...] = ()) -> str:
        with self.assertRaises(BadBody) as caught:
            match_columns(SCHEMA, columns, stated or {}, keep, "lamps.csv")
        return caught.exception.detail

    def test_columns_become_fields_by_name_or_as_stated(self) -> None:
        match = match_columns(SCHEMA, ["id", "age", "n", "kind", "spare"], {"count": "n"}, ["id"], "lamps.csv")
        self.assertEqual(match.columns, {"age": "age", "count": "n", "kind": "kind"})
        self.assertEqual((match.defaults, match.keep, match.unused), (("lit", "name"), ("id",), ("spare",)))
        every = match_columns(SCHEMA, ["count", "kind"], {}, ["*"], "lamps.csv")
        self.assertEqual(every.keep, ("count", "kind"))

    def test_what_does_not_fit_is_told_with_the_closest_names(self) -> None:
        self.assertIn("State it: count=counts", self.fails(["counts", "kind"]))
        self.assertIn("'kind' stands there more than once", self.fails(["count", "kind", "kind"]))
        self.assertIn("did you mean 'id'", self.fails(["count", "kind", "id"], keep=("idd",)))
        self.assertIn("'agee', which a column was stated for, is no field", self.fails(["count", "kind"], {"agee": "count"}))
        # a field that may be missing would go without its column for want of a capital letter
        self.assertIn("State it: age=Age", self.fails(["Age", "count", "kind"]))


class Text(unittest.TestCase):
    def csv(self, text: str, **more: Any) -> Any:
        return read_csv_block(PLAN, MATCH, ["id", "age", "n", "kind", "name"], text.encode(), BlockPlace(100, 2, **more))

    def test_every_broken_record_is_a_reject_of_its_own(self) -> None:
        found = self.csv('1,2.5,3,a,x\n2,,3\n3,"x"y,3,a,x\n4,1,3,zz,secret\n5,,4,b,\n')
        self.assertEqual((found.count, found.numbers, found.kept), (5, [100, 104], {"id": ["1", "5"]}))
        self.assertEqual([row["count"] for row in found.rows], [3, 4])
        self.assertEqual([(one.row, one.line, one.field) for one in found.rejects], [(101, 3, None), (102, 4, None), (103, 5, "kind")])
        self.assertEqual(found.rejects[2].values["name"], "a private value")

    def test_a_lenient_endpoint_reads_leniently_here_too(self) -> None:
        line = b'{"id": 1, "n": "3", "kind": "a"}\n'
        strict = read_ndjson_block(PLAN, MATCH, line, BlockPlace(0))
        lenient = read_ndjson_block(PLAN, MATCH, line, BlockPlace(0, lenient=True))
        self.assertEqual((len(strict.rows), lenient.rows[0]["count"]), (0, 3))

    def test_lines_that_are_no_rows_are_rejected(self) -> None:
        found = read_ndjson_block(PLAN, MATCH, b'[1]\n\n{"n": 1, "kind": "a", "id": 7}\n{"n": 1\n', BlockPlace(0))
        self.assertEqual((found.count, found.numbers, found.kept), (3, [1], {"id": [7]}))
        self.assertEqual([one.row for one in found.rejects], [0, 2])

    def test_any_pattern_of_bad_rows_leaves_just_the_good_ones(self) -> None:
        random = np.random.default_rng(3)
        for share in (0.0, 0.003, 0.1, 0.6, 1.0):
            bad = random.random(3_000) < share
            bodies = [b'{"count":%d,"kind":"%s"}' % (at, b"zz" if wrong else b"a") for at, wrong in enumerate(bad)]
            rows, faults = read_good_rows(PLAN, bodies)
            with self.subTest(share):
                self.assertEqual([row["count"] for row in rows], np.flatnonzero(~bad).tolist())
                self.assertEqual(sorted(faults), np.flatnonzero(bad).tolist())

    def test_a_header_that_was_cut_at_another_delimiter_is_told(self) -> None:
        self.assertEqual(check_csv_header("\ufeffage,n\r\n".encode(), ","), ["age", "n"])
        with self.assertRaisesRegex(BadBody, "--delimiter ';'"):
            check_csv_header(b"age;n;kind\n", ",")


class Tables(unittest.TestCase):
    def read(self, **columns: Any) -> Any:
        table = pa.table({"n": [1, 2], "kind": ["a", "b"], "id": [7, 8]} | columns)
        match = match_columns(SCHEMA, table.column_names, {"count": "n"}, ["id"], "lamps.parquet")
        check_types(SCHEMA, match, table.schema, "lamps.parquet")
        return read_table_rows(SCHEMA, match, table, 10)

    def test_types_that_lose_nothing_are_taken(self) -> None:
        for name, column, wanted in (
            ("n", pa.array([1.0, 2.0]), [1, 2]),
            ("n", pa.array([1, 2], pa.uint8()), [1, 2]),
            ("n", pa.array([1, 2], pa.int32()).cast(pa.decimal128(12, 2)), [1, 2]),
            ("age", pa.array([1, None], pa.int8()), [1.0, None]),
            ("age", pa.array([1.5, float("nan")]), [1.5, None]),
            ("age", pa.nulls(2), [None, None]),
            ("kind", pa.array(["b", "a"]).dictionary_encode(), [1, 0]),
            ("kind", pa.array(["b", "a"], pa.string_view()), [1, 0]),
        ):
            with self.subTest(name, type=str(column.type)):
                found = self.read(**{name: column})
                field = {"n": 1, "age": 0, "kind": 2}[name]
                values = [None if value != value else value for value in np.asarray(found.columns[field].values).tolist()]
                self.assertEqual((values, found.rejects), (wanted, []))

    def test_types_that_hold_something_else_are_refused_before_any_row(self) -> None:
        for name, column, expected in (
            ("n", pa.array(["1", "2"]), "stored as text"),
            ("lit", pa.array([1, 0]), "true or false"),
            ("kind", pa.array([1.0, 2.0]), "one of a, b"),
        ):
            with self.subTest(name), self.assertRaisesRegex(BadBody, expected):
                self.read(**{name: column})

    def test_wrong_rows_are_left_out_with_their_faults(self) -> None:
        found = self.read(n=[1.5, 2.0], age=[1.0, 2.0])
        self.assertEqual((found.numbers.tolist(), found.kept.to_pydict()), ([11], {"id": [8]}))
        self.assertEqual([(one.row, one.field) for one in found.rejects], [(10, "count")])
        nothing = self.read(kind=["x", "y"])
        self.assertEqual(
            (len(nothing.numbers), [one.fault for one in nothing.rejects]),
            (0, ["given x, expected one of a, b", "given y, expected one of a, b"]),
        )

    def test_answers_have_a_column_for_each_score(self) -> None:
        answers = Schema((Field("label", "choice", choices=("x", "y")), Field("scores", "vector", choices=("x", "y"))))
        flat = flat_answers(answers, [Column(np.array([1, 0], dtype=np.int32)), Column(np.array([[0.1, 0.9], [0.8, 0.2]]))], "now.")
        self.assertEqual(
            {name: array.to_pylist() for name, array in flat.items()},
            {"now.label": ["y", "x"], "now.scores.x": [0.1, 0.8], "now.scores.y": [0.9, 0.2]},
        )
        self.assertEqual(
            {name: len(array) for name, array in flat_answers(answers, [], "").items()}, {"label": 0, "scores.x": 0, "scores.y": 0}
        )


class Rejects(unittest.TestCase):
    def test_a_run_stops_as_soon_as_its_bound_is_certain(self) -> None:
        self.assertIsNone(too_many_rejects(500, 10, 0.01, 1_000))
        self.assertIsNotNone(too_many_rejects(500, 11, 0.01, 1_000))
        self.assertIsNone(too_many_rejects(500, 400, 0.01, None), "too early to say")
        self.assertIsNotNone(too_many_rejects(500, 400, 0.01, None, ended=True))
        self.assertIsNotNone(too_many_rejects(5_000, 51, 0.01, None))
        self.assertIsNone(too_many_rejects(10**6, 10**6, 1.0, 10**6))

    def test_a_reject_is_one_line_of_json(self) -> None:
        line = Reject(3, "given 1,\n expected 2", "age", 5, {"a": "x\ny"}).to_line()
        self.assertEqual(line.count(b"\n"), 1)
        self.assertEqual(json.loads(line)["row"], 3)
