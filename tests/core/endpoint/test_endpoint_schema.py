import unittest
from datetime import UTC, datetime
from types import SimpleNamespace
from typing import Any

import orjson
from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.endpoint.endpoint_schema import EndpointSchema, endpoint_schema, fit_rows, merge_schemas, part_answers
from lamppost.core.endpoint.setup import EndpointSetup, EnsembleSetup, LookupSetup, VersionChoice, read_setup, write_setup
from lamppost.core.endpoint.shares import Shares, StickyKey
from lamppost.core.errors import BadRequest, Conflict, InvalidRows
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import columns_from_rows, rows_from_columns
from lamppost.core.schema.fields import Field, Schema, find_field

SCORES = Field("scores", "vector", choices=("holds", "fails"))
LABEL = Field("label", "choice", choices=("holds", "fails"))


def manifest(name: str, *inputs: Field, answers: tuple[Field, ...] = (LABEL, SCORES), options: tuple[Field, ...] = ()) -> Any:
    return SimpleNamespace(name=name, inputs=Schema(inputs), answers=Schema(answers), options=Schema(options) if options else None)


AGE = Field("age", "number", low=0, high=80)
NORTH = manifest("north", Field("age", "number", low=0, high=80), Field("lamp", "choice", choices=("led",)), Field("snow_m", "number"))
SOUTH = manifest("south", Field("age", "number", low=0, high=50), Field("lamp", "choice", choices=("led", "gas"), missing=True))


class Setups(unittest.TestCase):
    def test_a_setup_survives_being_written(self) -> None:
        lookup = LookupSetup("town", "lamps", "lamp", "id", {"age": "age_years"}, "integer", 7, 5.0, 0.25, "missing")
        for setup in (
            EndpointSetup(version="a@1"),
            EndpointSetup(choose=VersionChoice("field", "district", {"north": "a@1"}, "b@2"), lookups=(lookup,), lenient=True),
            EndpointSetup(together=EnsembleSetup({"one": "a@1", "two": "b@2"}, "c@3")),
        ):
            self.assertEqual(read_setup(orjson.loads(orjson.dumps(write_setup(setup)))), setup)
        self.assertEqual(write_setup(EndpointSetup(version="a@1")), {"version": "a@1"})

    def test_what_contradicts_itself_is_refused_by_its_place(self) -> None:
        lookup = {"source": "s", "table": "t", "key": "k", "column": "c", "fields": {"a": "a"}}
        for data, said in (
            ({}, "exactly one"),
            ({"version": "a@1", "together": {"parts": {"x": "a@1"}, "combine": "c@1"}}, "exactly one"),
            ({"version": "a"}, "'a' is not a version"),
            ({"choose": {"by": "moon", "name": "x", "cases": {}}}, "choose.by"),
            ({"choose": {"by": "field", "name": "rows", "cases": {"x": "a@1"}}}, "'rows' is a key of request bodies"),
            ({"choose": {"by": "field", "name": "x", "cases": {}}}, "at least one version"),
            ({"version": "a@1", "lookups": [lookup, lookup]}, "two look-ups give the field 'a'"),
            ({"version": "a@1", "lookups": [lookup | {"timeout_s": 90}]}, "at most 30"),
            ({"version": "a@1", "lenent": True}, "lenent"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(BadRequest, said):
                read_setup(data)

    def test_it_says_what_it_serves(self) -> None:
        self.assertEqual(
            EndpointSetup(choose=VersionChoice("header", "Area", {"n": "a@1", "s": "b@2"}, "a@1")).summary(), "a@1 or b@2 by header Area"
        )
        self.assertEqual(EndpointSetup(together=EnsembleSetup({"x": "a@1", "y": "b@2"}, "c@3")).summary(), "c@3 over a@1, b@2")


class Choosing(unittest.TestCase):
    setup = EndpointSetup(choose=VersionChoice("field", "area", {"n": "north@1", "s": "south@1"}))
    promise = endpoint_schema(setup, {"north@1": NORTH, "south@1": SOUTH})

    def test_the_promise_is_the_widest_and_says_which_version_answered(self) -> None:
        self.assertEqual(self.promise.inputs.names, ("area", "age", "lamp", "snow_m"))
        area, age, lamp, snow = self.promise.inputs
        self.assertEqual((area.choices, area.missing), (("n", "s"), False))
        self.assertEqual((age.low, age.high), (0, 80))
        self.assertEqual((lamp.choices, lamp.missing), (("led", "gas"), True))
        self.assertTrue(snow.missing, "only one version has it")
        self.assertEqual(self.promise.answers.names, ("label", "scores", "version"))

    def test_each_row_is_held_against_its_own_version(self) -> None:
        plan = ValidationPlan(self.promise.inputs)
        good = {"area": "n", "age": 70, "lamp": "led", "snow_m": 0.2}
        rows = plan.read_body(orjson.dumps({"rows": [good, good | {"lamp": "gas"}, good | {"snow_m": None}]})).rows
        self.assertEqual(fit_rows(rows[:1], NORTH.inputs, plan.schema, "north@1", "area"), [{"age": 70.0, "lamp": "led", "snow_m": 0.2}])
        with self.assertRaises(InvalidRows) as caught:
            fit_rows(rows, NORTH.inputs, plan.schema, "north@1", "area")
        self.assertEqual([(f["row"], f["field"]) for f in caught.exception.extra["faults"]], [(1, "lamp"), (2, "snow_m")])
        with self.assertRaises(InvalidRows) as caught:
            fit_rows(rows[:1], SOUTH.inputs, plan.schema, "south@1", "area")
        said = [(f["field"], f["expected"]) for f in caught.exception.extra["faults"]]
        self.assertEqual(said, [("snow_m", "nothing, because south@1 has no such field"), ("age", "a number from 0 to 50, for south@1")])

    def test_a_default_of_one_version_is_its_own(self) -> None:
        with_default = manifest("a", Field("wind", "number", default=3.5))
        without = manifest("b", Field("wind", "number"))
        promise = endpoint_schema(
            EndpointSetup(choose=VersionChoice("header", "X", {"a": "a@1", "b": "b@1"})), {"a@1": with_default, "b@1": without}
        )
        self.assertEqual(promise.header, "X")
        rows = ValidationPlan(promise.inputs).read_body(b"{}").rows
        self.assertEqual(fit_rows(rows, with_default.inputs, promise.inputs, "a@1"), [{"wind": 3.5}])
        self.assertRaises(InvalidRows, fit_rows, rows, without.inputs, promise.inputs, "b@1")

    def test_an_option_that_only_one_version_has(self) -> None:
        limit = Field("limit", "number", default=0.5)
        parts = {"a@1": manifest("a", LABEL, options=(limit,)), "b@1": manifest("b", LABEL)}
        promise = endpoint_schema(EndpointSetup(choose=VersionChoice("option", "way", {"a": "a@1", "b": "b@1"}, "b@1")), parts)
        assert promise.options is not None
        self.assertEqual(promise.options.names, ("way", "limit"))
        rows = ValidationPlan(promise.inputs, options=promise.options).read_body(b'{"label": "holds"}').rows
        known = Schema((*promise.inputs, *promise.options))
        self.assertEqual(fit_rows(rows, Schema((LABEL, limit)), known, "a@1", "way"), [{"label": "holds", "limit": 0.5}])
        self.assertEqual(fit_rows(rows, Schema((LABEL,)), known, "b@1", "way"), [{"label": "holds"}])

    def test_versions_that_do_not_go_together_are_refused(self) -> None:
        text_age = manifest("south", Field("age", "text"))
        other = manifest("south", Field("age", "number"), answers=(Field("kwh", "number"),))
        for south, said in ((text_age, "'age' is a number from 0 to 80 for one version and text"), (other, "answers kwh")):
            with self.subTest(said=said), self.assertRaisesRegex(Conflict, said):
                endpoint_schema(self.setup, {"north@1": NORTH, "south@1": south})
        by_lamp = EndpointSetup(choose=VersionChoice("field", "lamp", {"ledd": "north@1", "gas": "south@1"}))
        strict = manifest("south", Field("lamp", "choice", choices=("led", "gas")))
        with self.assertRaisesRegex(Conflict, "lamp is never 'ledd'; did you mean led?"):
            endpoint_schema(by_lamp, {"north@1": NORTH, "south@1": strict})


class Sharing(unittest.TestCase):
    """Any version may get a row, so a row must be right for all of them."""

    def promise(self, sticky: StickyKey | None = None, **manifests: Any) -> Any:
        there = {f"{name}@1": one for name, one in (manifests or {"north": NORTH, "south": SOUTH}).items()}
        names = list(there)
        return endpoint_schema(EndpointSetup(shares=Shares({names[0]: 90, names[1]: 10}, sticky)), there)

    def test_the_promise_is_the_tightest(self) -> None:
        inputs = self.promise().inputs
        age, lamp = find_field(inputs, "age"), find_field(inputs, "lamp")
        assert age is not None
        assert lamp is not None
        self.assertEqual((inputs.names, age.high, lamp.choices, lamp.missing), (("age", "lamp", "snow_m"), 50, ("led",), False))

    def test_a_key_is_a_field_an_option_or_a_header_and_may_be_left_out(self) -> None:
        by_field = self.promise(StickyKey("field", "customer"))
        self.assertEqual((by_field.inputs.names[0], by_field.answers.names[-1]), ("customer", "version"))
        key = by_field.inputs.fields[0]
        self.assertEqual((key.kind, key.missing), ("text", True))
        by_option = self.promise(StickyKey("option", "customer"))
        self.assertEqual((by_option.options.names, by_option.answers.names), (("customer",), ("label", "scores")))
        by_header = self.promise(StickyKey("header", "Customer"))
        self.assertEqual((by_header.header, by_header.options), ("Customer", None))
        known = self.promise(StickyKey("field", "lamp"))
        self.assertEqual(known.inputs.names, ("age", "lamp", "snow_m"), "a field that the versions have is the key itself")

    def test_what_cannot_be_shared_is_refused(self) -> None:
        with self.assertRaisesRegex(Conflict, "'age' is a number .*; callers are told apart by a choice, text"):
            self.promise(StickyKey("field", "age"))
        with self.assertRaisesRegex(Conflict, "behind one endpoint all give the same answers"):
            self.promise(north=NORTH, other=manifest("other", AGE, answers=(LABEL,)))
        with self.assertRaisesRegex(Conflict, "has the elements holds, fails in one version and holds, flickers"):
            other = Field("scores", "vector", choices=("holds", "flickers"))
            self.promise(north=NORTH, other=manifest("other", AGE, answers=(LABEL, other)))
        turned = Field("scores", "vector", choices=("fails", "holds"))
        self.promise(north=NORTH, other=manifest("other", AGE, answers=(LABEL, turned)))  # the order does not matter: answers are by name


class Combining(unittest.TestCase):
    def test_a_row_must_be_right_for_all(self) -> None:
        combine = manifest(
            "c", Field("a.scores.fails", "number"), Field("b.label", "choice", choices=("holds", "fails")), Field("age", "number")
        )
        promise = endpoint_schema(
            EndpointSetup(together=EnsembleSetup({"a": "north@1", "b": "south@1"}, "c@1")),
            {"north@1": NORTH, "south@1": SOUTH, "c@1": combine},
        )
        self.assertEqual(promise.inputs.names, ("age", "lamp", "snow_m"))
        age, lamp, snow = promise.inputs
        self.assertEqual((age.high, lamp.choices, lamp.missing, snow.missing), (50, ("led",), False, False))
        self.assertEqual(promise.answers, combine.answers)

    def test_answers_are_handed_on_by_part(self) -> None:
        schema = EndpointSchema(Schema((Field("age", "number"),)), None, Schema((LABEL, SCORES, Field("at", "time"))))
        sources = part_answers(EnsembleSetup({"a": "a@1"}, "c@1"), {"a@1": schema})
        self.assertEqual(list(sources), ["a.label", "a.scores.holds", "a.scores.fails", "a.at", "label", "at"])
        row = {"label": "holds", "scores": {"holds": 0.75, "fails": 0.25}, "at": "1970-01-01T00:00:00Z"}
        at = datetime(1970, 1, 1, tzinfo=UTC)
        self.assertEqual([source.value(row) for source in sources.values()], ["holds", 0.75, 0.25, at, "holds", at])

    def test_an_answer_goes_by_its_bare_name_where_that_means_one_thing(self) -> None:
        said = Schema((LABEL, Field("age", "number"), Field("risk", "number")))
        of = {"a@1": EndpointSchema(Schema((Field("age", "number"),)), None, said)}
        of["b@1"] = EndpointSchema(Schema((Field("wind", "number"),)), None, Schema((LABEL,)))
        sources = part_answers(EnsembleSetup({"a": "a@1", "b": "b@1"}, "c@1"), of)
        self.assertEqual([name for name in sources if "." not in name], ["risk"])  # two give label, and age is of the request

    def test_what_cannot_be_combined_is_refused(self) -> None:
        setup = EndpointSetup(together=EnsembleSetup({"a": "north@1"}, "c@1"))
        for inputs, said in (
            ((Field("age", "number"),), "takes no answer of a part"),
            ((Field("a.scores.failed", "number"),), "takes 'a.scores.failed'; the parts give a.label"),
            ((Field("a.label", "number"),), "takes a.label as a number, and the part gives one of holds, fails"),
        ):
            with self.subTest(said=said), self.assertRaisesRegex(Conflict, said):
                endpoint_schema(setup, {"north@1": NORTH, "c@1": manifest("c", *inputs)})
        apart = Schema((Field("lamp", "choice", choices=("led",)),)), Schema((Field("lamp", "choice", choices=("gas",)),))
        with self.assertRaisesRegex(Conflict, "no value of the field 'lamp' is right for all"):
            merge_schemas(apart, widest=False, what="field")


class LookingUp(unittest.TestCase):
    def test_a_key_stands_for_the_fields_of_the_table(self) -> None:
        lookup = LookupSetup("town", "lamps", "lamp_id", "id", {"age": "age_years", "snow_m": "snow"}, "integer")
        promise = endpoint_schema(EndpointSetup(version="north@1", lookups=(lookup,)), {"north@1": NORTH})
        self.assertEqual([(field.name, field.kind) for field in promise.inputs], [("lamp_id", "integer"), ("lamp", "choice")])
        with self.assertRaisesRegex(Conflict, "gives 'agee', which is no input; did you mean age?"):
            endpoint_schema(
                EndpointSetup(version="north@1", lookups=(LookupSetup("town", "lamps", "k", "id", {"agee": "x"}),)), {"north@1": NORTH}
            )


number = st.none() | st.floats(-100, 100)


class Properties(unittest.TestCase):
    @given(st.tuples(number, number), st.tuples(number, number), st.floats(-150, 150))
    def test_the_widest_takes_what_any_takes_and_the_tightest_what_all_take(self, one: Any, other: Any, value: float) -> None:
        schemas = [
            Schema(
                (
                    Field(
                        "x", "number", low=None if a is None or b is None else min(a, b), high=None if a is None or b is None else max(a, b)
                    ),
                )
            )
            for a, b in (one, other)
        ]

        def takes(schema: Schema) -> bool:
            try:
                return bool(ValidationPlan(schema).read_body(orjson.dumps({"x": value})))
            except InvalidRows:
                return False

        each = [takes(schema) for schema in schemas]
        if any(each):
            self.assertTrue(takes(merge_schemas(schemas, widest=True, what="field")))
        try:
            self.assertEqual(takes(merge_schemas(schemas, widest=False, what="field")), all(each))
        except Conflict:
            self.assertFalse(all(each))

    def test_columns_become_the_rows_they_came_from(self) -> None:
        schema = Schema(
            (Field("x", "number", missing=True), Field("at", "time"), Field("ok", "yes/no"), Field("c", "choice", choices=("a",)))
        )
        rows = ValidationPlan(schema).read_body(b'{"x": null, "at": "2026-11-23T18:30:00+01:00", "ok": true, "c": "a"}').rows
        self.assertEqual(rows_from_columns(schema, columns_from_rows(schema, rows)), rows)
        self.assertIsNotNone(find_field(schema, "x"))
