"""Names, fields, manifests, roles, errors, histograms, back-off: the small values of the core."""

import pickle
import unittest
from collections import Counter

import orjson
from hypothesis import given
from hypothesis import strategies as st

from lamppost.core import errors
from lamppost.core.artifact.manifest import Manifest, PackageFile, Provenance, manifest_digest, read_manifest, write_manifest
from lamppost.core.artifact.steps import FrameColumn, SklearnStep
from lamppost.core.engine.backoff import Backoff
from lamppost.core.errors import BadRequest, Fault, InvalidRows, NotAllowed, PackageRefused
from lamppost.core.monitoring.latency_histogram import ERROR, bucket_counts, bucket_of, bucket_value, quantiles
from lamppost.core.names import VersionName, check_name, closest_name, parse_version, plain_name
from lamppost.core.roles import MAY, ROLES, Principal
from lamppost.core.schema.fields import Field, Schema


class Names(unittest.TestCase):
    def test_versions_are_read_and_written(self) -> None:
        self.assertEqual(parse_version("outage-risk@7"), VersionName("outage-risk", 7))
        self.assertEqual(str(VersionName("outage-risk", 7)), "outage-risk@7")

    def test_other_texts_are_no_versions(self) -> None:
        for text in ("outage-risk", "outage-risk@", "outage-risk@0", "outage-risk@x", "Outage@1", "@1", "a@-1", "a@²", "a@99999999999"):
            self.assertRaises(BadRequest, parse_version, text)

    def test_names_are_plain_and_a_usable_one_is_suggested(self) -> None:
        self.assertEqual(check_name("pole-photo-2", "model"), "pole-photo-2")
        self.assertEqual(plain_name("Outage Risk 2"), "outage-risk-2")
        for name in ("", "-a", "a-", "a_b", "A", "a/b", "..", "a" * 64):
            with self.assertRaises(BadRequest) as caught:
                check_name(name, "model")
            self.assertIn("for example", caught.exception.detail)

    def test_the_closest_name_ignores_case(self) -> None:
        self.assertEqual(closest_name("Outage-Rsk", ["outage-risk", "evening-load"]), "outage-risk")
        self.assertIsNone(closest_name("zzz", ["outage-risk"]))


class Fields(unittest.TestCase):
    def test_what_is_wanted_is_said_in_words(self) -> None:
        for field, words in (
            (Field("a", "number", low=0, high=14, unit="m"), "a number from 0 to 14 (m)"),
            (Field("a", "integer", low=1), "a whole number, 1 or more"),
            (Field("a", "yes/no", missing=True), "true or false, or null"),
            (Field("a", "choice", choices=("x", "y")), "one of x, y"),
            (Field("a", "choice", choices=("x",), unseen="accept"), "text, such as x"),
            (Field("a", "vector", choices=("x", "y")), "2 numbers (x, y)"),
        ):
            self.assertEqual(field.expected_text(), words)

    def test_impossible_fields_are_refused(self) -> None:
        for make in (
            lambda: Field("rows", "number"),
            lambda: Field("", "number"),
            lambda: Field("a", "choice"),
            lambda: Field("a", "number", low=2, high=1),
            lambda: Field("a", "choice", choices=("x", "x")),
            lambda: Schema(()),
            lambda: Schema((Field("a", "text"), Field("a", "text"))),
        ):
            self.assertRaises(PackageRefused, make)

    def test_json_schema(self) -> None:
        schema = Schema((Field("n", "integer", low=0, unit="nights", example=3), Field("c", "choice", choices=("x",), missing=True)))
        self.assertEqual(
            schema.to_json_schema(),
            {
                "$schema": "https://json-schema.org/draft/2020-12/schema",
                "type": "object",
                "required": ["n"],
                "additionalProperties": False,
                "properties": {
                    "n": {"type": "integer", "minimum": 0, "maximum": 2**63 - 1, "x-unit": "nights", "examples": [3]},
                    "c": {"enum": ["x", None]},
                },
                "examples": [{"n": 3, "c": None}],
            },
        )


LABEL = Schema((Field("label", "choice", choices=("no", "yes")),))


def a_manifest() -> Manifest:
    step = SklearnStep("steps/0/model.skops", "skops", (FrameColumn("x", "float64"),), LABEL, labels=("no", "yes"))
    members = {name: PackageFile("0" * 64, 1) for name in ("steps/0/model.skops", "proof.json")}
    answers = LABEL
    return Manifest(
        "outage-risk",
        Schema((Field("x", "number", seen=(0, 1)),)),
        answers,
        (step,),
        "proof.json",
        members,
        provenance=Provenance(notes="hello"),
    )


class Manifests(unittest.TestCase):
    def test_round_trip_and_digest(self) -> None:
        data = write_manifest(a_manifest())
        self.assertEqual(read_manifest(data), a_manifest())
        self.assertEqual(manifest_digest(b"{}"), "44136fa355b3678a1146ad16f7e8649e94fb4fc21fe77e8310c060f61caaff8a")

    def test_a_newer_format_says_what_to_do(self) -> None:
        data = write_manifest(a_manifest()).replace(b'"format": 4', b'"format": 5')
        with self.assertRaises(PackageRefused) as caught:
            read_manifest(data)
        self.assertIn("is of format 5 and this Lamp Post reads up to 4", caught.exception.detail)

    def test_a_dtype_that_no_data_frame_has_is_refused(self) -> None:
        for dtype in ("float64", "Int32", "str", "datetime64[us, UTC]", "string[pyarrow]", "timestamp[ns, tz=UTC][pyarrow]", "category"):
            self.assertEqual(FrameColumn("x", dtype).dtype, dtype)
        for dtype in ("lloat64", "float63", "", "object; import os", "datetime64[parsec]"):
            with self.assertRaises(errors.PackageRefused):
                FrameColumn("x", dtype)

    def test_anything_else_is_refused_with_its_place(self) -> None:
        good = orjson.loads(write_manifest(a_manifest()))
        for change, summary in (
            ({"name": "Not A Name"}, "not usable"),
            ({"steps": []}, "no steps"),
            ({"proof": "else.json"}, "does not list"),
            ({"extra": 1}, "extra"),
            ({"inputs": {"fields": [{"name": "x", "kind": "colour"}]}}, "inputs.fields.0.kind"),
            ({"format": "1"}, "no format version"),
            ({"inputs": {"fields": [{"name": "y", "kind": "number"}]}}, "no step before it gives: x"),
            ({"members": {"a": {"sha256": "0"}}}, "members.a.size_bytes"),
        ):
            with self.assertRaises(errors.LampPostError) as caught:
                read_manifest(orjson.dumps(good | change))
            self.assertIn(summary, caught.exception.detail)
        for data in (b"", b"[]", b"\xff"):
            self.assertRaises(PackageRefused, read_manifest, data)


class Roles(unittest.TestCase):
    def test_the_table(self) -> None:
        self.assertEqual(
            {role: sorted(MAY[role]) for role in ROLES},
            {
                "caller": ["predict"],
                "viewer": ["view"],
                "publisher": ["predict", "push", "view"],
                "operator": ["desk", "point", "predict", "push", "view"],
                "reviewer": ["predict", "review", "view"],
                "admin": ["desk", "point", "predict", "push", "review", "tokens", "view"],
                "desk": ["desk"],
                "outpost": ["outpost"],
            },
        )

    def test_a_caller_is_kept_to_its_endpoints(self) -> None:
        caller = Principal("billing", "caller", frozenset({"evening-load"}))
        caller.require_permission("predict", "evening-load")
        with self.assertRaises(NotAllowed) as caught:
            caller.require_permission("predict", "outage-risk")
        self.assertIn("may ask evening-load, not outage-risk", caught.exception.detail)
        with self.assertRaises(NotAllowed) as caught:
            caller.require_permission("view")
        self.assertIn("roles that may: viewer", caught.exception.detail)


class Errors(unittest.TestCase):
    def test_every_error_has_a_code_of_its_own_stands_in_the_tree_and_survives_pickling(self) -> None:
        self.assertGreater(len(errors.BY_CODE), 15)
        for kind in errors.BY_CODE.values():
            if kind is not errors.LampPostError:
                self.assertIn(f" {kind.__name__} ", errors.__doc__ or "")
            again = pickle.loads(pickle.dumps(kind("why", row=3)))
            self.assertEqual((type(again), again.detail, again.extra), (kind, "why", {"row": 3}))

    def test_a_problem_document_becomes_the_same_error_again(self) -> None:
        problem = InvalidRows("row 0 is wrong", faults=[]).to_problem()
        self.assertEqual(problem["type"], "urn:lamppost:invalid-rows")
        again = errors.from_problem(problem, 422)
        self.assertEqual((type(again), again.detail, again.extra), (InvalidRows, "row 0 is wrong", {"faults": []}))

    def test_a_fault_as_a_sentence(self) -> None:
        self.assertEqual(Fault(2, "x", '"a"', "a number", "no quotes").sentence(), 'row 2, x: given "a", expected a number (no quotes)')


class Histograms(unittest.TestCase):
    @given(st.floats(1.001, 1e9))
    def test_a_bucket_tells_its_values_within_the_error(self, micros: float) -> None:
        self.assertLessEqual(abs(bucket_value(bucket_of(micros)) - micros), ERROR * micros * (1 + 1e-9))

    @given(st.lists(st.integers(0, 10**9), min_size=1, max_size=50))
    def test_many_at_once_fall_into_the_same_buckets(self, micros: list[int]) -> None:
        self.assertEqual(bucket_counts(micros), sorted(Counter(map(bucket_of, micros)).items()))

    def test_quantiles(self) -> None:
        counts = {bucket_of(us): n for us, n in ((100, 90), (1_000, 9), (50_000, 1))}
        p50, p99, p100 = quantiles(counts, (0.5, 0.99, 1.0))
        assert p50 is not None
        assert p99 is not None
        assert p100 is not None
        self.assertAlmostEqual(p50, 100, delta=2)
        self.assertAlmostEqual(p99, 1_000, delta=20)
        self.assertAlmostEqual(p100, 50_000, delta=1_000)
        self.assertEqual(quantiles({}, (0.5,)), [None])


class Backing(unittest.TestCase):
    def test_the_first_failure_waits_not_at_all_and_the_next_ones_twice_as_long_each(self) -> None:
        backoff, waits = Backoff(), []
        for _ in range(11):
            backoff = backoff.failed(now=100.0)
            waits.append(backoff.wait(100.0))
        self.assertEqual([round(wait, 9) for wait in waits], [0, 0.2, 0.4, 0.8, 1.6, 3.2, 6.4, 12.8, 25.6, 30, 30])
        self.assertEqual(backoff.wait(1000.0), 0)
