"""Reasons cost a look through recorded calls, so they are sought when a window tells more than it did."""

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from types import SimpleNamespace
from typing import Any
from unittest import mock

import numpy as np

from bench.drift_streams import make_sketcher
from lamppost.core.drift.window_verdict import DescribedField, WindowVerdict
from lamppost.service.monitoring import drift_evaluation
from lamppost.service.monitoring.drift_evaluation import DriftEvaluation
from lamppost.store.windows import JudgedWindow, UnjudgedWindows

AT = datetime.now(UTC).replace(minute=0, second=0, microsecond=0)
HOUR = timedelta(hours=1)


def drifted(rows: int, *names: str, at: datetime = AT) -> JudgedWindow:
    fields = [DescribedField(name, "drifted", "another", rows, ()) for name in names] + [DescribedField("calm", "steady", "", rows, ())]
    return JudgedWindow("e", "m@1", at, at + HOUR, rows, 0, WindowVerdict("drifted", "Drifted.", 1, rows, tuple(fields)))


class Reasons(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        nothing: Any = None
        self.judging = DriftEvaluation(nothing, nothing, nothing)

    def test_at_first_with_other_fields_with_twice_the_rows_and_once_it_is_over(self) -> None:
        asked = [drifted(70, "x"), drifted(120, "x"), drifted(120, "x", "y"), drifted(130, "x", "y"), drifted(200, "x", "y")]
        self.assertEqual([self.judging.needs_explaining(one) for one in asked], [True, False, True, True, False])
        over = [replace(drifted(200, "x", at=AT - 2 * HOUR), at=AT, until=AT), drifted(200, "x", at=AT - 2 * HOUR)]
        self.assertEqual([self.judging.needs_explaining(one) for one in over], [True, True])
        self.assertFalse(self.judging.needs_explaining(over[1]))

    async def test_windows_before_it_may_change_since_when(self) -> None:
        sought: list[datetime] = []

        async def why(*told: Any) -> dict[str, Any]:
            sought.append(told[2].at)
            return {"summary": "because"}

        async def begun(one: JudgedWindow, _: Any) -> datetime:
            return one.at

        looker: Any = SimpleNamespace()
        with (
            mock.patch.object(drift_evaluation, "explain_window", why),
            mock.patch.object(drift_evaluation.windows, "store_explanation", mock.AsyncMock()),
            mock.patch.object(self.judging, "change_started_at", begun),
        ):
            for looked in ([drifted(70, "x")], [drifted(70, "x")], [drifted(60, "x", at=AT - HOUR), drifted(70, "x")]):
                await self.judging._explain(looked, looker)
        self.assertEqual(sought, [AT, AT - HOUR, AT])


class FewRows(unittest.TestCase):
    def judged(self, shift: float, hours: int) -> list[str]:
        rng = np.random.default_rng(6)
        sketcher = make_sketcher({"x": rng.normal(size=5_000)}, 5_000)
        scorer: Any = SimpleNamespace(sketcher=sketcher)
        start = drift_evaluation.window_start(AT, HOUR) - hours * HOUR
        ticks = {start + at * HOUR: (sketcher.sketch_window({"x": rng.normal(size=3) + shift}, 3), 3, 0) for at in range(hours)}
        fresh = UnjudgedWindows("e", "m@1", list(ticks), 1, hours)
        return [window.state for window in drift_evaluation.judge_ticks(fresh, scorer, HOUR, ticks, start)]

    def test_windows_of_three_rows_are_joined_until_they_tell(self) -> None:
        self.assertEqual(set(self.judged(0.0, 400)), {"too few", "steady"})
        states = self.judged(2.0, 40)
        self.assertEqual((states[15], states[16], states[-1]), ("too few", "drifted", "drifted"), "17 windows of three rows are fifty")

    def test_a_day_is_made_of_windows(self) -> None:
        for minutes, cycle in ((10, 144), (60, 24), (90, 16), (1_440, 7), (10_080, 1)):
            self.assertEqual(drift_evaluation.windows_of_a_day(timedelta(minutes=minutes)), cycle)


if __name__ == "__main__":
    unittest.main()
