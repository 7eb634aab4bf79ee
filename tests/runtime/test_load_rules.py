"""What a lane makes of its own load, on a clock that is told: how long batches gather, how large they are, how many copies there are."""

import unittest

from lamppost.core.engine.batch_queue import BatchPolicy
from lamppost.core.engine.scaling import QUIET_S, CopyBounds
from lamppost.runtime.lane_load import LaneLoad
from lamppost.runtime.lane_options import LaneSettings


def watch(target_ms: float | None = None, most: int = 1, max_rows: int = 512) -> LaneLoad:
    return LaneLoad(LaneSettings(batch=BatchPolicy(max_rows=max_rows), copies=CopyBounds(1, most), target_ms=target_ms))


def crowd(one: LaneLoad, together: int, now: float, took_s: float = 0.002) -> float:
    """So many callers in step for a second: half of them go, half wait. The time then."""
    for _ in range(100):
        one.note_sent(together // 2, together // 2, together - together // 2, now)
        one.note_ran(together // 2, took_s, [took_s] * (together // 2))
        now += 0.01
    return now


class Gathering(unittest.TestCase):
    def test_a_lone_caller_and_a_pair_never_wait(self) -> None:
        for callers in (1, 2):
            one, now = watch(), 100.0
            for _ in range(50):
                self.assertLessEqual(one.gather_s(now, callers), 0.0)
                one.note_sent(callers, callers, 0, now)
                one.note_ran(callers, 0.001, [0.001] * callers)
                now += 0.0011
            self.assertFalse(one.busy)

    def test_under_load_a_batch_waits_for_half_of_those_of_late_and_never_for_long(self) -> None:
        one = watch()
        now = crowd(one, 64, 100.0)
        self.assertTrue(one.busy)
        self.assertEqual(one.enough, one._peak / 2)
        self.assertGreaterEqual(one.enough, 32)
        one.note_sent(32, 32, 0, now)
        wait = one.gather_s(now, 5)
        self.assertTrue(0 < wait <= 0.002, wait)
        self.assertLessEqual(one.gather_s(now + 0.0021, 5), 0.0, "2 ms after the last batch nothing waits any more")
        self.assertEqual(one.gather_s(now, 60), 0.0)

    def test_what_takes_no_time_is_not_waited_for(self) -> None:
        one = watch()
        now = crowd(one, 64, 100.0, took_s=0.00005)
        one.note_sent(32, 32, 0, now)
        self.assertLessEqual(one.gather_s(now, 5), 0.0002 + 1e-9)

    def test_a_crowd_that_has_gone_is_forgotten(self) -> None:
        one = watch()
        now = crowd(one, 64, 100.0)
        for _ in range(100):
            now += 0.1
            one.note_sent(1, 1, 0, now)
            one.note_ran(1, 0.001, [0.001])
        self.assertFalse(one.busy)
        self.assertLessEqual(one.gather_s(now + 0.1, 1), 0.0)


class Looking(unittest.TestCase):
    def work(self, one: LaneLoad, now: float, busy: float, waiting: int = 0, copies: int = 1, run_s: float = 0.01, rows: int = 100) -> int:
        """Half a second of batches that together take so much of it; the copies wanted then."""
        for at in range(max(1, round(busy * 0.5 * copies / run_s))):
            one.note_sent(rows, 10, waiting, now + at * 0.001)
            one.note_ran(rows, run_s, [run_s * 2] * 10)
        return one.wanted_copies(now + 0.5, copies, waiting, 0.0)

    def test_a_copy_is_added_when_all_are_busy_and_something_waits(self) -> None:
        one, now = watch(most=3), 100.0
        self.assertEqual(one.wanted_copies(now, 1, 0, 0.0), 1, "the first look only begins")
        self.assertEqual(self.work(one, now, 0.95, waiting=4), 2)
        self.assertEqual(self.work(one, now + 0.5, 0.95, waiting=0, copies=2), 2, "nothing waits")
        self.assertEqual(self.work(one, now + 1.0, 0.95, waiting=4, copies=3), 3, "no more than it may have")
        self.assertEqual(one.wanted_copies(now + 1.6, 3, 0, 0.0), 3)

    def test_a_copy_goes_after_it_was_dispensable_for_a_while(self) -> None:
        one, now = watch(most=3), 100.0
        one.wanted_copies(now, 2, 0, 0.0)
        wanted = []
        while now < 100.0 + QUIET_S + 2:
            wanted.append(self.work(one, now, 0.1, copies=2))
            now += 0.5
        self.assertEqual((wanted[0], wanted[-1]), (2, 1))
        self.assertEqual(wanted, sorted(wanted, reverse=True))
        self.assertGreaterEqual(wanted.count(2), int(QUIET_S / 0.5))

    def test_batches_shrink_over_the_target_and_grow_when_there_is_room(self) -> None:
        one, now = watch(target_ms=20), 100.0
        one.wanted_copies(now, 1, 0, 0.0)
        for _ in range(4):
            self.work(one, now, 0.9, waiting=3, run_s=0.03)
            now += 0.5
        small = one.max_rows
        self.assertLess(small, 512 * 0.5)
        for _ in range(12):
            self.work(one, now, 0.5, waiting=3, run_s=0.002, rows=one.max_rows)
            now += 0.5
        self.assertGreater(one.max_rows, small)
        self.assertLessEqual(one.max_rows, 512)

    def test_without_a_target_batches_stay_as_they_were_set(self) -> None:
        one, now = watch(), 100.0
        one.wanted_copies(now, 1, 0, 0.0)
        self.work(one, now, 0.99, waiting=9, run_s=0.2)
        self.assertEqual(one.max_rows, 512)
        one.apply_settings(LaneSettings(batch=BatchPolicy(max_rows=16)))
        self.assertEqual(one.max_rows, 16)

    def test_rows_a_second_are_those_of_the_whole_way_while_something_stays_behind(self) -> None:
        one = watch()
        one.wanted_copies(100.0, 1, 0, 0.0)
        for at in range(51):  # ten rows each ten milliseconds, though a run takes one
            one.note_sent(10, 1, 5, 100.0 + at * 0.01)
            one.note_ran(10, 0.001, [0.02])
        one.wanted_copies(100.6, 1, 5, 0.0)
        self.assertAlmostEqual(one.rows_s, 1_000, delta=1)

    def test_batches_are_counted_by_powers_of_two_and_copies_over_time(self) -> None:
        one = watch(most=2)
        for rows in (1, 2, 3, 4, 5, 64, 65):
            one.note_sent(rows, 1, 0, 100.0)
        self.assertEqual(dict(one.batches), {1: 1, 2: 1, 4: 2, 8: 1, 64: 1, 128: 1})
        for now, copies in ((100.0, 1), (101.0, 2), (102.0, 2), (103.0, 1)):
            one.wanted_copies(now, copies, 0, 0.0)
        self.assertEqual(list(one.copies), [(100.0, 1), (101.0, 2), (103.0, 1)])


if __name__ == "__main__":
    unittest.main()
