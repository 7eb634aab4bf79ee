"""Counting between spool and database: which rows count for which version, what oddness is noted, and that records outlive any fault."""

import unittest
from datetime import UTC, datetime
from types import SimpleNamespace
from typing import Any
from uuid import uuid4

import numpy as np
import orjson

from lamppost.core.artifact.reference import drift_baseline, make_reference
from lamppost.core.drift.windows import WindowLayout, read_window
from lamppost.core.endpoint.setup import EndpointSetup, EnsembleSetup, LookupSetup
from lamppost.core.schema.fields import Field, Schema
from lamppost.service.records.window_counting import ReferenceScorer, WindowCounting
from lamppost.store.call_records import CallRecord, pack_calls
from lamppost.store.spool import SpoolFrame

INPUTS = Schema((Field("x", "number"), Field("kind", "choice", choices=("a", "b"), unseen="accept")))
ANSWERS = Schema((Field("label", "choice", choices=("low", "high")),))
RNG = np.random.default_rng(2)
AT = datetime(2026, 5, 1, 12, 3, tzinfo=UTC).timestamp()


def looker() -> ReferenceScorer:
    rows = [{"x": float(x), "kind": "a" if x > 0 else "b"} for x in RNG.normal(size=2_000)]
    reference = make_reference(INPUTS, rows, ANSWERS, [{"label": "high" if row["x"] > 0 else "low"} for row in rows])  # type: ignore[operator]
    return ReferenceScorer(SimpleNamespace(manifest=SimpleNamespace(inputs=INPUTS, answers=ANSWERS), reference=reference))  # type: ignore[arg-type]


LOOKER = looker()


def call(asked: Any, said: Any, version: str | None = "m@1", status: int = 200, **more: Any) -> CallRecord:
    endpoint, shadow, at = more.get("endpoint", "e"), more.get("shadow", False), more.get("at", AT)
    body = [None if one is None else orjson.dumps(one) for one in (asked, said)]
    return CallRecord(at, str(uuid4()), endpoint, version, "admin", status, 1, 1, 900, {"queue": 5}, body[0], body[1], shadow)


class Counts(unittest.TestCase):
    def setUp(self) -> None:
        self.counting = WindowCounting(None, None)  # type: ignore[arg-type]

    def look(self, *calls: CallRecord, **lookers: ReferenceScorer | None) -> Any:
        known: dict[str, ReferenceScorer | None] = {name.replace("_", "@"): one for name, one in lookers.items()} or {"m@1": LOOKER}
        return self.counting._count_calls([SpoolFrame("s", 1, "calls", pack_calls(calls))], known, None)

    def window(self, delta: Any) -> Any:
        read = read_window(WindowLayout(against_of()), delta.data)
        assert read is not None
        return read[0].fields

    def test_only_what_a_version_answered_counts(self) -> None:
        row, said = {"x": 0.5, "kind": "a"}, {"answer": {"label": "high"}}
        counted = self.look(
            call(row, said),
            call({"rows": [row, row]}, {"answers": [{"label": "high"}, {"label": "low"}]}),
            call(row, {"detail": "no"}, status=422),
            call(row, said, shadow=True),
            call(None, said),
            call(row, said, version=None),
            call(row, said, version="gone@9"),
        )
        (delta,) = counted.deltas
        self.assertEqual((delta.endpoint, delta.version, delta.rows), ("e", "m@1", 3))
        self.assertEqual(delta.at, datetime(2026, 5, 1, 12, 0, tzinfo=UTC), "ten minutes begin at the full ten")
        fields = self.window(delta)
        self.assertEqual(fields["answers.label"].rows, 3)
        self.assertEqual(len(counted.calls), 7, "every call is stored, counted or not")

    def test_ticks_endpoints_and_versions_of_one_call_are_kept_apart(self) -> None:
        row = {"x": 0.1, "kind": "b"}
        both = {"answers": [{"label": "low", "version": "m@1"}, {"label": "high", "version": "n@1"}]}
        counted = self.look(
            call({"rows": [row, row]}, both, version="m@1, n@1"),
            call(row, {"answer": {"label": "low"}}, at=AT + 600),
            call(row, {"answer": {"label": "low"}}, endpoint="other"),
            m_1=LOOKER,
            n_1=LOOKER,
        )
        found = sorted((delta.endpoint, delta.version, delta.rows) for delta in counted.deltas)
        self.assertEqual(found, [("e", "m@1", 1), ("e", "m@1", 1), ("e", "n@1", 1), ("other", "m@1", 1)])

    def test_what_callers_do_not_send_is_not_missing(self) -> None:
        self.counting.configure_endpoint(
            "e",
            EndpointSetup(version="m@1", lookups=(LookupSetup("town", "lamps", "number", "number", {"kind": "kind"}),)),
            Schema((Field("x", "number"),)),
        )
        fields = self.window(self.look(call({"x": 1.0, "number": 4}, {"answer": {"label": "high"}})).deltas[0])
        self.assertNotIn("kind", fields)
        self.assertEqual(fields["x"].missing, 0)
        self.counting.configure_endpoint("e", EndpointSetup(version="m@1"), Schema((Field("x", "number"),)))
        self.assertEqual(self.counting.sent, {})

    def test_parts_of_an_ensemble_count_inputs_and_not_the_answer(self) -> None:
        self.counting.configure_endpoint("e", EndpointSetup(together=EnsembleSetup({"one": "m@1"}, "c@1")), INPUTS)
        counted = self.look(call({"x": 1.0, "kind": "a"}, {"answer": {"label": "high"}}, version="c@1, m@1"), m_1=LOOKER, c_1=None)
        (delta,) = counted.deltas
        self.assertEqual(delta.version, "m@1")
        self.assertNotIn("answers.label", self.window(delta))

    def test_the_oddest_row_of_a_call_is_named(self) -> None:
        usual = {"x": 0.3, "kind": "a"}
        said = {"answers": [{"label": "high"}] * 3}
        counted = self.look(call({"rows": [usual, usual | {"x": 900.0}, usual]}, said), call(usual, {"answer": {"label": "high"}}))
        odd, plain = (odd for _, odd, _ in counted.calls)
        assert odd is not None
        assert plain is not None
        self.assertEqual(odd[1], "row 1: x is 900.0")
        self.assertGreater(odd[0], 3)
        self.assertEqual(plain[1], "")
        self.assertEqual(counted.deltas[0].odd, 1)

    def test_a_fault_in_counting_costs_no_record(self) -> None:
        broken = SimpleNamespace(sketcher=object(), outlier_scorer=None, heavy=False, limit=None)
        with self.assertLogs("lamppost.counting", "ERROR"):
            counted = self.look(call({"x": 1.0, "kind": "a"}, {"answer": {"label": "high"}}), m_1=broken)  # type: ignore[arg-type]
        self.assertEqual((counted.deltas, len(counted.calls), self.counting.failed), ([], 1, 1))

    def test_tabs_and_lines_in_values_survive(self) -> None:
        odd = {"x": 1.0, "kind": "a\tb\\n\nc"}
        counted = self.look(call(odd, {"answer": {"label": "high"}}))
        self.assertEqual(self.window(counted.deltas[0])["kind"].odd, 1)
        self.assertEqual(len(counted.calls), 1)


def against_of() -> Any:
    assert LOOKER.sketcher is not None
    return LOOKER.sketcher.against


class Watched(unittest.TestCase):
    def test_a_package_without_cells_is_not_looked_at(self) -> None:
        bare = ReferenceScorer(SimpleNamespace(manifest=SimpleNamespace(inputs=INPUTS, answers=ANSWERS), reference=None))  # type: ignore[arg-type]
        self.assertFalse(bare.has_reference)
        self.assertTrue(LOOKER.has_reference)
        self.assertEqual(len(drift_baseline(make_reference(INPUTS, [{"x": 1.0, "kind": "a"}], ANSWERS, [{"label": "low"}])).known), 3)
