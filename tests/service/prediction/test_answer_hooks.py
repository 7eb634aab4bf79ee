import unittest
from types import SimpleNamespace
from typing import Any

from lamppost.core.errors import LaneFull, ModelFault
from lamppost.runtime.lane_options import LaneAnswer
from lamppost.service.prediction.answer_hooks import AnswerHooks, ShadowState
from lamppost.store.call_records import CallRecord
from tests.support.lanes import COLUMNS, FakeLane


class Shadows(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.records: list[CallRecord] = []
        recorder: Any = SimpleNamespace(add_record=self.records.append)
        self.shadow = ShadowState("lamps@2", 100)
        self.lane = self.shadow.lane = FakeLane("lamps@2")
        self.hooks = AnswerHooks("town", COLUMNS, recorder, None, [self.shadow])

    def answer(self) -> None:
        self.hooks.after_answer("lamps@1", [{"x": 1.0}], [{"y": 2.0}], 1.5, "01a20967-0000-7000-8000-000000000000", "ada")

    def counts(self) -> tuple[int, int, int]:
        return self.shadow.answered, self.shadow.failed, self.shadow.left_out

    async def test_a_copy_is_answered_and_recorded_as_a_shadow(self) -> None:
        self.answer()
        ((rows, receiver),) = self.lane.submitted
        receiver.set_result(LaneAnswer([{"y": 3.0}], 0.0, 0.001, 1))
        self.assertEqual((rows, self.counts()), ([{"x": 1.0}], (1, 0, 0)))
        self.assertEqual([(record.shadow, record.version, record.status) for record in self.records], [(True, "lamps@2", 200)])

    async def test_a_copy_that_finds_the_lane_full_is_left_out_and_did_not_fail(self) -> None:
        self.lane.fails = LaneFull("it is full")
        self.answer()
        self.assertEqual((self.counts(), self.records), ((0, 0, 1), []))
        self.lane.fails, self.lane.queued = None, 1_000
        self.answer()
        self.assertEqual((self.counts(), self.records), ((0, 0, 2), []))

    async def test_a_copy_on_which_the_model_fails_is_recorded_as_failed(self) -> None:
        self.answer()
        self.lane.submitted[0][1].set_exception(ModelFault("it failed"))
        self.assertEqual((self.counts(), [record.status for record in self.records]), ((0, 1, 0), [502]))

    async def test_while_the_shadow_is_not_open_copies_are_left_out(self) -> None:
        self.shadow.lane = None
        self.answer()
        self.assertEqual(self.counts(), (0, 0, 1))
