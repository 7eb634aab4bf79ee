"""A call from admitted to recorded, without any transport."""

import unittest
from types import SimpleNamespace
from typing import Any

import orjson

from lamppost.core.errors import InvalidRows, ModelFault, NotAllowed, RateLimited
from lamppost.core.payload.coercion import Coercion
from lamppost.core.roles import Principal
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.auth import Auth
from lamppost.service.prediction.call import PredictionCall
from lamppost.service.prediction.predictors import PredictionInput, PredictionOutput
from lamppost.store.call_records import CallRecord

INPUTS = Schema((Field("account", "text", private=True, example="a"), Field("x", "number")))
ANSWERS = Schema((Field("y", "number"),))
BODY = b'{"account":"a","x":1}'


class Hooks:
    def __init__(self) -> None:
        self.heard: list[tuple[str, Any]] = []

    def after_answer(self, version: str, *_: Any) -> None:
        self.heard.append(("answer", version))

    def after_failure(self, version: str | None) -> None:
        self.heard.append(("failure", version))


class Calls(unittest.TestCase):
    def setUp(self) -> None:
        self.auth = Auth(None)  # type: ignore[arg-type]
        self.hooks = Hooks()
        self.records: list[CallRecord] = []
        self.recorder: Any = SimpleNamespace(add_record=self.records.append)

    def bound(self, lenient: bool = False) -> PredictionCall:
        call = PredictionCall("town")
        call.admit(self.auth, Principal("ada", "caller"))
        predictor: Any = SimpleNamespace(
            plan=SimpleNamespace(schema=INPUTS), columns=INPUTS, redaction=RedactionPolicy(INPUTS, None, ANSWERS)
        )
        call.bind(predictor, self.hooks, "lamps@1", lenient)  # type: ignore[arg-type]
        return call

    def test_it_is_charged_once_however_often_it_is_admitted(self) -> None:
        principal = Principal("ada", "caller", rate_per_s=0.001)
        call = PredictionCall("town")
        for _ in range(3):
            call.admit(self.auth, principal)
        self.assertEqual(call.token, "ada")
        self.assertRaises(RateLimited, PredictionCall("town").admit, self.auth, principal)

    def test_whoever_may_not_ask_is_charged_and_not_let_in(self) -> None:
        principal = Principal("ada", "caller", frozenset({"port"}), rate_per_s=0.001)
        call = PredictionCall("town")
        self.assertRaises(NotAllowed, call.admit, self.auth, principal)
        self.assertIsNone(call.token)
        self.assertRaises(RateLimited, call.admit, self.auth, principal)

    def test_an_answered_call(self) -> None:
        call = self.bound()
        call.body = BODY
        call.validated(PredictionInput("row", 1, [{"account": "a", "x": 1.0}]))
        call.answered(PredictionOutput(LaneAnswer([{"y": 2.0}], 0.001, 0.002, 7), "lamps@2"))
        call.record(self.recorder, 200, b'{"answer":{"y":2.0}}')
        (record,) = self.records
        self.assertEqual((record.version, record.status, record.rows, record.batch_rows, record.token), ("lamps@2", 200, 1, 7, "ada"))
        self.assertEqual((record.input, record.answer), (b'{"x":1}', b'{"answer":{"y":2.0}}'))
        self.assertEqual(list(record.phases_us), ["token", "validate", "queue", "worker"])
        self.assertEqual((record.phases_us["queue"], record.phases_us["worker"]), (1_000, 2_000))
        self.assertEqual((self.hooks.heard, call.envelope()["version"]), ([("answer", "lamps@2")], "lamps@2"))

    def test_what_lenient_reading_changed_stands_in_the_envelope(self) -> None:
        call = self.bound(lenient=True)
        assert call.coercions is not None
        call.coercions.append(Coercion(0, "x", '"1"', "1"))
        self.assertEqual(call.envelope()["changed"], [{"row": 0, "field": "x", "given": '"1"', "taken": "1"}])

    def test_a_refused_call_blames_a_version_only_for_its_own_faults(self) -> None:
        call = self.bound()
        call.body = b'{"account":"a","x":"high"}'
        problem = orjson.loads(call.refuse(InvalidRows("row 0, x: given a text")))
        self.assertEqual((problem["type"], problem["request_id"]), ("urn:lamppost:invalid-rows", call.request_id))
        self.assertEqual(self.hooks.heard, [])
        call.record(self.recorder, 422, b"{}")
        self.assertIsNone(self.records[0].input, "what is wrong may be a private value")
        fault = ModelFault("it failed")
        fault.version = "lamps@2"
        call.refuse(fault)
        self.assertEqual((self.hooks.heard, call.version), ([("failure", "lamps@2")], "lamps@2"))

    def test_a_fault_of_our_own_is_logged_and_blames_nobody(self) -> None:
        call = self.bound()
        with self.assertLogs("lamppost.predict", "ERROR"):
            error = call.own_fault()
        self.assertEqual((error.status, orjson.loads(call.problem(error))["status"], self.hooks.heard), (500, 500, []))

    def test_a_call_that_reached_no_endpoint_leaves_no_record(self) -> None:
        call = PredictionCall("nowhere")
        call.record(self.recorder, 404, b"{}")
        self.assertEqual(self.records, [])
