"""Explanations that are broken off: what comes after them is right all the same."""

import asyncio
import unittest
from typing import Any

from lamppost.core.artifact.reference import make_reference
from lamppost.core.explanation.explanation import ExplanationTerms
from lamppost.core.explanation.told import Told
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.explanation.explainer import Explained, Explainer, _reference_message
from lamppost.service.prediction.predictors import PredictionInput, PredictionOutput
from tests.support.lanes import ANSWERS

INPUTS = Schema((Field("x", "number"), Field("z", "number")))


class Predicts:
    """Answers the sum of both fields. stall : set to hold answers up, or to fail in an unforeseen way."""

    def __init__(self) -> None:
        self.plan, self.answers, self.columns = ValidationPlan(INPUTS), ANSWERS, INPUTS
        self.asked = asyncio.Event()
        self.stall = ""

    async def predict(self, given: PredictionInput, _: Any = None) -> PredictionOutput:
        self.asked.set()
        if self.stall == "hang":
            await asyncio.sleep(60)
        if self.stall == "fault":
            raise ZeroDivisionError
        rows = [{"y": row["x"] + row["z"]} for row in given.rows or []]
        return PredictionOutput(LaneAnswer(rows, 0.0, 0.0, len(rows)), "sum@1", given.rows)


class BrokenOff(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.predicts = Predicts()
        rows = [{"x": float(at % 7), "z": float(at % 5)} for at in range(40)]
        reference = make_reference(INPUTS, rows, ANSWERS, [{"y": row["x"] + row["z"]} for row in rows])
        message = _reference_message(reference, self.predicts)  # type: ignore[arg-type]
        self.explained = Explained("sum", "sum@1", self.predicts, (), message)  # type: ignore[arg-type]
        self.explainer = Explainer(None)  # type: ignore[arg-type]
        self.addAsyncCleanup(self.explainer.close)

    async def explain(self, **terms: Any) -> Told:
        return await self.explainer.explain(self.explained, {"x": 6.0, "z": 4.0}, {}, ExplanationTerms(**terms), 500, 5.0, 0)

    async def test_the_next_explanation_is_right_after_one_that_was_cancelled_or_failed(self) -> None:
        for stall in ("hang", "fault"):
            self.predicts.stall = stall
            self.predicts.asked.clear()
            begun = [asyncio.create_task(self.explain()) for _ in range(2)]  # in both processes
            await self.predicts.asked.wait()
            await asyncio.sleep(0.5)
            for one in begun:
                one.cancel()
            await asyncio.gather(*begun, return_exceptions=True)
            self.predicts.stall = ""
            for found in await asyncio.gather(self.explain(), self.explain()):
                self.assertEqual((found["answer"], found["stopped"]), ({"y": 10.0}, "exact"))
        self.assertEqual((self.explainer.made, self.explainer.failed), (4, 4), "what is cancelled counts as failed")
        self.assertGreater(self.explainer.rows_asked, 0)

    async def test_a_reference_that_knows_one_label_only(self) -> None:
        labels = Schema((Field("label", "choice", choices=("holds", "fails")),))
        self.predicts.answers = labels

        async def predict(given: PredictionInput, _: Any = None) -> PredictionOutput:
            rows = [{"label": "holds"} for _ in given.rows or []]
            return PredictionOutput(LaneAnswer(rows, 0.0, 0.0, len(rows)), "sum@1", given.rows)

        self.predicts.predict = predict  # type: ignore[method-assign]
        rows = [{"x": float(at % 7), "z": float(at % 5)} for at in range(40)]
        reference = make_reference(INPUTS, rows, labels, [{"label": "holds"}] * 40)
        message = _reference_message(reference, self.predicts)  # type: ignore[arg-type]
        self.explained = Explained("one", "sum@1", self.predicts, (), message)  # type: ignore[arg-type]
        found = await self.explain()
        self.assertEqual(found["answer"], {"label": "holds"})
        self.assertEqual([one["amount"] for one in found["contributions"]], [0.0, 0.0])
        self.assertEqual(found["changes"]["changes"], [], "no value that training knew gives another label")

    async def test_a_rule_about_a_number_says_its_side_whatever_else_is_asked(self) -> None:
        for contributions in (True, False):
            found = await self.explain(contributions=contributions)
            self.assertIn("says more than is typical", found["rule"]["summary"])
            self.assertFalse(found["is_score"])
