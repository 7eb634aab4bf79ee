"""When schedules are due, across clock changes, and what is done about times that were missed."""

import unittest
from datetime import UTC, datetime, timedelta

from lamppost.core.bulk.order import BulkOrder, Question
from lamppost.core.bulk.schedule import Schedule, decide_due_times, next_times, order_at, read_schedules, run_name_at, write_schedules
from lamppost.core.errors import BadRequest

ORDER = BulkOrder((Question("outage-risk"),), "town:lamps.parquet", "town:scored-{date}.parquet", keep=("lamp_id",))


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


def nightly(**more: object) -> Schedule:
    return Schedule("nightly-risk", "30 2 * * *", "Europe/Berlin", ORDER, **more)  # type: ignore[arg-type]


class Times(unittest.TestCase):
    def test_a_time_that_the_clocks_skip_comes_right_after_the_skip_and_one_that_comes_twice_comes_once(self) -> None:
        spring = next_times("30 2 * * *", "Europe/Berlin", at("2026-03-28T12:00"), 3)
        self.assertEqual(spring, [at("2026-03-29T01:00"), at("2026-03-30T00:30"), at("2026-03-31T00:30")])
        autumn = next_times("30 2 * * *", "Europe/Berlin", at("2026-10-24T12:00"), 3)
        self.assertEqual(autumn, [at("2026-10-25T00:30"), at("2026-10-26T01:30"), at("2026-10-27T01:30")])

    def test_what_is_no_expression_or_zone_is_refused_with_what_was_meant(self) -> None:
        for every, zone, expected in (
            ("61 * * * *", "UTC", "bad minute"),
            ("0 5 * *", "UTC", "minute, hour, day of the month"),
            ("0 0 30 2 *", "UTC", "no cron expression|never due"),
            ("0 5 * * *", "Europe/Lisboa", "did you mean Europe/Lisbon"),
            ("0 5 * * *", "../../etc/passwd", "no zone"),
        ):
            with self.subTest(every, zone=zone), self.assertRaisesRegex(BadRequest, expected):
                Schedule("nightly", every, zone, ORDER)

    def test_the_day_that_is_due_stands_in_names_of_files(self) -> None:
        order = order_at(Schedule("nightly", "30 0 * * *", "Pacific/Auckland", ORDER), at("2026-11-28T11:30"))
        self.assertEqual((order.source, order.target), ("town:lamps.parquet", "town:scored-2026-11-29.parquet"))
        self.assertEqual(run_name_at("nightly", at("2026-11-28T11:30")), "nightly-20261128-1130")

    def test_a_document_holds_schedules_as_they_are(self) -> None:
        schedules = [nightly(), Schedule("hourly", "0 * * * *", "UTC", ORDER, "skip", paused=True)]
        document = write_schedules(schedules)
        self.assertEqual(list(read_schedules(document).values()), sorted(schedules, key=lambda one: one.name))
        for wrong in ({"x": {}}, {"x": {"every": "0 5 * * *", "often": 1}}, [], {"x": {"every": "0 5 * * *", "run": {"source": 1}}}):
            with self.subTest(wrong), self.assertRaises(BadRequest):
                read_schedules(wrong)


class Missed(unittest.TestCase):
    FIRST = at("2026-11-20T01:30")

    def decided(self, schedule: Schedule, now: datetime) -> list[tuple[datetime, bool]]:
        return [(due.at, due.start) for due in decide_due_times(schedule, self.FIRST, now)]

    def test_a_time_that_has_just_come_is_started_and_one_that_has_not_is_left(self) -> None:
        self.assertEqual(self.decided(nightly(), self.FIRST), [(self.FIRST, True)])
        self.assertEqual(self.decided(nightly(), self.FIRST - timedelta(seconds=1)), [])

    def test_missed_times_are_caught_up_by_one_run_or_skipped(self) -> None:
        days = [self.FIRST + timedelta(days=day) for day in range(4)]
        now = days[3] + timedelta(hours=5)
        self.assertEqual(self.decided(nightly(), now), [(day, day is days[3]) for day in days])
        self.assertEqual(self.decided(nightly(missed="skip"), now), [(day, False) for day in days])
        notes = [due.note or "" for due in decide_due_times(nightly(), self.FIRST, now)]
        self.assertIn("a later run makes up for it", notes[0])
        self.assertIn("caught up, for 4 times", notes[3])

    def test_a_time_that_comes_now_makes_up_for_missed_ones(self) -> None:
        days = [self.FIRST + timedelta(days=day) for day in range(3)]
        self.assertEqual(self.decided(nightly(), days[2]), [(days[0], False), (days[1], False), (days[2], True)])
        self.assertEqual(self.decided(nightly(missed="skip"), days[2]), [(days[0], False), (days[1], False), (days[2], True)])
