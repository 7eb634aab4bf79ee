import unittest

import orjson
from hypothesis import given, settings
from hypothesis import strategies as st

from lamppost.core.errors import BadJson, InvalidRows, LampPostError, TooManyRows
from lamppost.core.payload.validation_plan import ParsedRows, ValidationPlan, shortened_json
from lamppost.core.schema.fields import Field, Schema

SCHEMA = Schema(
    (
        Field("age_years", "number", unit="years", low=0, high=80, example=12.5),
        Field("nights", "integer", example=3),
        Field("lamp_type", "choice", choices=("led", "sodium"), example="led"),
        Field("maker", "choice", choices=("Duskworks",), unseen="accept", missing=True, example="Duskworks"),
        Field("under_trees", "yes/no", example=False),
        Field("note", "text", missing=True),
    )
)
GOOD = {"age_years": 12.5, "nights": 3, "lamp_type": "led", "maker": "Duskworks", "under_trees": False, "note": None}
PLAN = ValidationPlan(SCHEMA, max_rows=3)


def faults_of(**changes: object) -> list[dict[str, object]]:
    with unittest.TestCase().assertRaises(InvalidRows) as caught:
        PLAN.read_body(orjson.dumps(GOOD | changes))
    return list(caught.exception.extra["faults"])


_KEPT = st.characters(exclude_characters="\0", codec="utf-8")


class Reading(unittest.TestCase):
    def test_one_object_is_one_row(self) -> None:
        self.assertEqual(PLAN.read_body(orjson.dumps(GOOD)), ParsedRows([GOOD], single_row=True))

    def test_rows_may_stand_anywhere_in_the_body(self) -> None:
        for body in (b' {"rows":[%s]}', b'{\n "rows" : [%s]}'):
            self.assertEqual(PLAN.read_body(body % orjson.dumps(GOOD)), ParsedRows([GOOD], single_row=False))

    def test_a_missing_field_that_may_be_missing_becomes_none(self) -> None:
        sent = {key: value for key, value in GOOD.items() if key not in ("maker", "note")}
        self.assertEqual(PLAN.read_body(orjson.dumps(sent)).rows, [GOOD | {"maker": None, "note": None}])

    def test_whole_numbers_are_numbers_and_unlisted_choices_pass_where_accepted(self) -> None:
        row = PLAN.read_body(orjson.dumps(GOOD | {"age_years": 7, "maker": "Somebody New"})).rows[0]
        self.assertEqual((row["age_years"], type(row["age_years"]), row["maker"]), (7.0, float, "Somebody New"))

    def test_the_word_rows_inside_a_value_does_not_make_rows(self) -> None:
        self.assertTrue(PLAN.read_body(orjson.dumps(GOOD | {"note": '"rows"'})).single_row)

    @given(
        st.lists(
            st.fixed_dictionaries(
                {
                    "age_years": st.floats(0, 80),
                    "nights": st.integers(-(2**63), 2**63 - 1),
                    "lamp_type": st.sampled_from(["led", "sodium"]),
                    "maker": st.none() | st.text(_KEPT, max_size=30),
                    "under_trees": st.booleans(),
                    "note": st.none() | st.text(_KEPT, max_size=30),
                }
            ),
            min_size=1,
            max_size=3,
        )
    )
    @settings(max_examples=60, deadline=None)
    def test_what_fits_the_schema_comes_back_unchanged(self, rows: list[dict[str, object]]) -> None:
        self.assertEqual(PLAN.read_body(orjson.dumps({"rows": rows})).rows, rows)

    @given(
        st.binary(max_size=60)
        | st.recursive(st.none() | st.booleans() | st.floats() | st.text(), st.lists, max_leaves=5).map(repr).map(str.encode)
    )
    @settings(max_examples=200, deadline=None)
    def test_any_bytes_are_read_or_refused(self, body: bytes) -> None:
        try:
            PLAN.read_body(body)
        except LampPostError as error:
            self.assertIn(error.status, (400, 413, 422))


class Refusing(unittest.TestCase):
    def test_each_fault_names_row_field_given_expected_and_what_to_do(self) -> None:
        self.assertEqual(
            faults_of(age_years="12"),
            [
                {
                    "row": 0,
                    "field": "age_years",
                    "given": '"12"',
                    "expected": "a number from 0 to 80 (years)",
                    "hint": "send the number without quotes",
                }
            ],
        )
        self.assertEqual(faults_of(lamp_type="Sodium")[0]["hint"], "did you mean sodium?")

    def test_an_integer_past_the_limit(self) -> None:
        with self.assertRaises(InvalidRows) as caught:
            PLAN.read_body(orjson.dumps(GOOD).replace(b'"nights":3', b'"nights":9223372036854775808'))
        self.assertEqual(
            caught.exception.extra["faults"],
            [
                {
                    "row": 0,
                    "field": "nights",
                    "given": "9223372036854775808",
                    "expected": "a whole number",
                    "hint": "whole numbers go from -2^63 to 2^63-1",
                }
            ],
        )

    def test_not_a_number_and_infinity(self) -> None:
        for given_text, shown in ((b"NaN", "NaN"), (b"Infinity", "Infinity"), (b"-Infinity", "-Infinity"), (b"1e400", "Infinity")):
            with self.assertRaises(InvalidRows) as caught:
                PLAN.read_body(orjson.dumps(GOOD).replace(b"12.5", given_text))
            fault = caught.exception.extra["faults"][0]
            self.assertEqual((fault["given"], fault["hint"]), (shown, "NaN and infinity are no values"))

    def test_an_unknown_field_suggests_the_closest(self) -> None:
        fault = faults_of(age_year=3)[0]
        self.assertEqual((fault["field"], fault["hint"]), ("age_year", "did you mean age_years?"))

    def test_a_missing_field_and_a_null_where_none_may_be(self) -> None:
        with self.assertRaises(InvalidRows) as caught:
            PLAN.read_body(orjson.dumps({"rows": [GOOD, {key: GOOD[key] for key in GOOD if key != "nights"}]}))
        self.assertEqual(caught.exception.detail, "row 1, nights: given nothing, expected a whole number (add this field)")
        self.assertEqual(faults_of(under_trees=None)[0]["hint"], "this field may not be missing")

    def test_all_faults_are_told_and_a_valid_example_with_them(self) -> None:
        with self.assertRaises(InvalidRows) as caught:
            PLAN.read_body(b'{"rows": [{"age_years": true, "nights": 1.5, "lamp_type": 3, "under_trees": "yes"}]}')
        error = caught.exception
        self.assertEqual([fault["field"] for fault in error.extra["faults"]], ["age_years", "nights", "lamp_type", "under_trees"])
        self.assertEqual(PLAN.read_body(orjson.dumps(error.extra["example"])).single_row, False)

    def test_faults_are_counted_but_their_list_is_bounded(self) -> None:
        wide = ValidationPlan(Schema(tuple(Field(f"f{i}", "number") for i in range(80))))
        with self.assertRaises(InvalidRows) as caught:
            wide.read_body(b"{}")
        self.assertEqual((len(caught.exception.extra["faults"]), caught.exception.extra["fault_count"]), (50, 80))

    def test_bodies_that_are_no_rows(self) -> None:
        for body, summary in (
            (b"", "the body is not JSON"),
            (b'{"age_years": 1,}', "the body is not JSON"),
            (b"[1]", "expected one row as an object"),
            (b'{"rows": 3}', "expected a list of rows"),
            (b'{"rows": [], "x": 1}', "send at least one row"),
            (b"\xff\xfe", "the body is not JSON"),
            (b'{"rows": [%s], "more": 1}' % orjson.dumps(GOOD), "stands beside rows"),
        ):
            with self.assertRaises(LampPostError) as caught:
                PLAN.read_body(body)
            self.assertIn(summary, caught.exception.detail, body)
            self.assertIn(caught.exception.status, (400, 422))
        self.assertRaises(BadJson, PLAN.read_body, b"[1]")

    def test_too_many_rows_are_refused_with_the_limit(self) -> None:
        with self.assertRaises(TooManyRows) as caught:
            PLAN.read_body(orjson.dumps({"rows": [GOOD] * 4}))
        self.assertEqual((caught.exception.status, caught.exception.extra["max_rows"]), (413, 3))


class Shortening(unittest.TestCase):
    def test_values_are_shown_as_json_and_cut(self) -> None:
        self.assertEqual(
            [shortened_json(v) for v in (None, True, 'a"b', 1.5, {}, [1, 2])],
            ["null", "true", '"a\\"b"', "1.5", "an empty object", "a list of 2"],
        )
        self.assertEqual(len(shortened_json("x" * 500)), 80)
        self.assertEqual(shortened_json(10**5000), "a whole number of about 5000 digits")


if __name__ == "__main__":
    unittest.main()
