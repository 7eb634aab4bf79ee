import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from lamppost.core.artifact.proof import Proof, ProofDifference, Tolerance, compare_answers, read_proof, write_proof
from lamppost.core.engine.batch_queue import BatchPolicy, BatchQueue, Job, JobSlice
from lamppost.core.engine.scaling import CopyBounds, LaneUsage, could_spare, next_copies, next_rows
from lamppost.core.errors import LaneFull, PackageRefused
from lamppost.core.schema.fields import Field, Schema

ANSWERS = Schema((Field("label", "choice", choices=("a", "b")), Field("scores", "vector", choices=("a", "b"))))
TRAINED = [{"label": "a", "scores": {"a": 0.75, "b": 0.25}}, {"label": "b", "scores": {"a": 0.0, "b": 1.0}}]
PROOF = Proof([{"x": 1.0}, {"x": 2.0}], TRAINED, Tolerance(1e-6, 1e-3))


class Comparing(unittest.TestCase):
    def test_the_same_answers_pass(self) -> None:
        verdict = compare_answers(ANSWERS, PROOF, TRAINED)
        self.assertEqual((verdict.passed, verdict.sentence()), (True, "all 2 rows get the answer that training gave"))

    def test_numbers_may_differ_within_the_tolerance_and_not_beyond(self) -> None:
        near = [TRAINED[0] | {"scores": {"a": 0.7507, "b": 0.25}}, TRAINED[1]]
        self.assertTrue(compare_answers(ANSWERS, PROOF, near).passed)
        far = [TRAINED[0] | {"scores": {"a": 0.7508, "b": 0.25}}, TRAINED[1]]
        verdict = compare_answers(ANSWERS, PROOF, far)
        self.assertEqual((verdict.wrong_rows, verdict.differences[0].field), (1, "scores.a"))
        self.assertAlmostEqual(verdict.differences[0].off or 0, 0.0008)

    def test_labels_must_be_equal_and_nan_never_agrees(self) -> None:
        verdict = compare_answers(ANSWERS, PROOF, [TRAINED[0], {"label": "a", "scores": {"a": float("nan"), "b": 1.0}}])
        self.assertEqual(verdict.differences[0], ProofDifference(1, "label", "b", "a"))
        self.assertEqual([diff.field for diff in verdict.differences], ["label", "scores.a"])
        self.assertIn("1 of 2 rows differ from training; row 1, label: training gave b, this gives a", verdict.sentence())

    def test_a_missing_row_a_missing_key_and_an_extra_key_are_differences(self) -> None:
        self.assertEqual(compare_answers(ANSWERS, PROOF, TRAINED[:1]).wrong_rows, 2)
        self.assertFalse(compare_answers(ANSWERS, PROOF, [TRAINED[0], {"label": "b", "scores": {"a": 0.0}}]).passed)
        self.assertFalse(compare_answers(ANSWERS, PROOF, [TRAINED[0], {"label": "b", "scores": {"a": 0.0, "b": 1.0, "c": 0.0}}]).passed)

    def test_round_trip_and_refusal(self) -> None:
        self.assertEqual(read_proof(write_proof(PROOF)), PROOF)
        for data in (b"{}", b"no", b'{"rows": [], "answers": []}', b'{"rows": [{}], "answers": []}'):
            self.assertRaises(PackageRefused, read_proof, data)


def never(_: object) -> bool:
    return False


def pieces(batch: list[JobSlice[str]]) -> list[tuple[str, int, int]]:
    return [(piece.job.item, piece.start, piece.stop) for piece in batch]


class Queueing(unittest.TestCase):
    def waiting(self, *jobs: tuple[str, int], bulk: str = "", **policy: Any) -> BatchQueue[str]:
        made: BatchQueue[str] = BatchQueue(BatchPolicy(**policy))
        for name, rows in jobs:
            made.add(Job(name, rows, 10 * rows, bulk=name in bulk))
        return made

    def all_of(self, waiting: BatchQueue[str]) -> list[list[tuple[str, int, int]]]:
        batches = []
        while len(waiting):
            batches.append(pieces(waiting.take_batch(0.0, never)[0]))
        return batches

    def test_a_batch_is_rows_in_order_and_a_large_request_goes_in_pieces(self) -> None:
        waiting = self.waiting(("a", 2), ("b", 2), ("c", 9), ("d", 1), max_rows=5)
        wanted = [[("a", 0, 2), ("b", 0, 2), ("c", 0, 1)], [("c", 1, 6)], [("c", 6, 9), ("d", 0, 1)]]
        self.assertEqual(self.all_of(waiting), wanted)
        self.assertEqual((waiting.rows, waiting.size_bytes, waiting.take_batch(0.0, never)), (0, 0, ([], [])))

    def test_live_rows_go_first_and_an_eighth_is_left_to_bulk_work(self) -> None:
        waiting = self.waiting(("B", 100), ("a", 10), ("b", 10), bulk="B", max_rows=16, bulk_rows=4)
        self.assertEqual(self.all_of(waiting)[:3], [[("a", 0, 10), ("b", 0, 4), ("B", 0, 2)], [("b", 4, 10), ("B", 2, 6)], [("B", 6, 10)]])
        one_by_one = self.waiting(("B", 2), ("a", 2), bulk="B", max_rows=1)
        self.assertEqual([batch[0][0] for batch in self.all_of(one_by_one)], ["a", "a", "B", "B"])

    def test_past_its_bounds_it_refuses_and_changes_nothing(self) -> None:
        waiting = self.waiting(queue_rows=4, queue_bytes=100, max_rows=50)
        waiting.add(Job("large", 50, 500))  # an empty queue takes any one
        with self.assertRaises(LaneFull) as caught:
            waiting.add(Job("more", 1, 1))
        self.assertEqual((caught.exception.status, caught.exception.extra["waiting_rows"]), (503, 50))
        waiting.take_batch(0.0, never)
        waiting.add(Job("a", 2, 10))
        self.assertRaises(LaneFull, waiting.add, Job("b", 3, 10))
        self.assertRaises(LaneFull, waiting.add, Job("b", 1, 91))
        self.assertRaises(LaneFull, waiting.add, Job("b", 1, 1, bulk=True))  # bulk work may fill half of it
        self.assertEqual((waiting.rows, waiting.size_bytes, len(waiting)), (2, 10, 1))

    def test_what_would_wait_too_long_is_refused_with_a_time_to_come_back(self) -> None:
        waiting = self.waiting(("a", 100), queue_s=2.0)
        waiting.rows_s = 100.0
        waiting.add(Job("b", 150, 1))
        with self.assertRaisesRegex(LaneFull, "250 rows in 2 requests are waiting already, 2.5 s of work") as caught:
            waiting.add(Job("c", 1, 1))
        self.assertEqual(caught.exception.extra["retry_after_s"], 2)

    def test_the_wait_of_the_first_in_line_counts_too(self) -> None:
        waiting = self.waiting(queue_s=2.0)
        waiting.add(Job("a", 1, 1, since=10.0))
        waiting.add(Job("b", 1, 1, since=12.0))
        self.assertRaises(LaneFull, waiting.add, Job("c", 1, 1, since=12.1))
        waiting.take_batch(12.1, never)
        waiting.add(Job("c", 1, 1, since=12.2))

    def test_nobody_waits_for_work_whose_time_is_over(self) -> None:
        waiting = self.waiting(max_rows=10)
        for name, deadline in (("late", 1.0), ("gone", None), ("in time", 9.0)):
            waiting.add(Job(name, 2, 10, deadline=deadline))
        batch, late = waiting.take_batch(2.0, lambda item: item == "gone")
        self.assertEqual((pieces(batch), [job.item for job in late]), ([("in time", 0, 2)], ["late"]))
        self.assertEqual((waiting.rows, waiting.size_bytes), (0, 0))

    def test_what_is_put_back_alone_is_a_batch_of_its_own(self) -> None:
        waiting = self.waiting(("a", 2), ("b", 3), ("c", 1), max_rows=10)
        batch, _ = waiting.take_batch(0.0, never)
        for piece in batch[:2]:
            piece.exclusive_batch = True
        waiting.put_back([*batch[:1], *batch[1].split(1), batch[2]])
        self.assertEqual(self.all_of(waiting), [[("a", 0, 2)], [("b", 0, 1)], [("b", 1, 3)], [("c", 0, 1)]])

    @given(st.lists(st.tuples(st.integers(1, 9), st.integers(0, 50), st.booleans()), max_size=40), st.integers(1, 12), st.booleans())
    @settings(max_examples=100, deadline=None)
    def test_every_row_is_taken_once_and_in_order(self, jobs: list[tuple[int, int, bool]], max_rows: int, put_back: bool) -> None:
        waiting: BatchQueue[int] = BatchQueue(BatchPolicy(max_rows=max_rows, bulk_rows=3))
        for number, (rows, size, bulk) in enumerate(jobs):
            waiting.add(Job(number, rows, size, bulk))
        if put_back:
            waiting.put_back(waiting.take_batch(0.0, never)[0])
        taken: list[tuple[int, int]] = []
        while len(waiting):
            batch, _ = waiting.take_batch(0.0, never)
            self.assertTrue(0 < sum(piece.rows for piece in batch) <= max_rows)
            taken += [(piece.job.item, row) for piece in batch for row in range(piece.start, piece.stop)]
        for bulk in (False, True):
            wanted = [(number, row) for number, (rows, _, kind) in enumerate(jobs) if kind == bulk for row in range(rows)]
            self.assertEqual([one for one in taken if jobs[one[0]][2] == bulk], wanted)
        self.assertEqual((waiting.rows, waiting.size_bytes), (0, 0))


class Scaling(unittest.TestCase):
    def test_copies_follow_how_busy_they_are(self) -> None:
        bounds = CopyBounds(1, 3, sleep_after_s=60)
        for copies, load, wanted in (
            (1, LaneUsage(0.95, 8, 0, 0), 2),
            (3, LaneUsage(0.99, 80, 0, 0), 3),
            (1, LaneUsage(0.95, 0, 0, 0), 1),
            (3, LaneUsage(0.1, 0, 3, 0), 3),
            (3, LaneUsage(0.1, 0, 10, 0), 2),
            (1, LaneUsage(0, 0, 10, 59), 1),
            (1, LaneUsage(0, 0, 10, 60), 0),
            (0, LaneUsage(0, 1, 0, 0), 1),
            (4, LaneUsage(0.9, 5, 0, 0), 3),
        ):
            with self.subTest(copies=copies, load=load):
                self.assertEqual(next_copies(copies, load, bounds), wanted)
        self.assertEqual((could_spare(2, 0.2), could_spare(2, 0.3), could_spare(1, 0.0)), (True, False, False))

    def test_batches_shrink_only_where_they_are_what_takes_long(self) -> None:
        for rows, p99, run, full, wanted in (
            (512, 25.0, 14.0, True, 358),
            (512, 25.0, 2.0, True, 576),
            (512, 25.0, 2.0, False, 512),
            (1, 90.0, 80.0, True, 1),
            (1_000, 5.0, 4.0, True, 1_024),
        ):
            with self.subTest(rows=rows, p99=p99, run=run):
                self.assertEqual(next_rows(rows, 1_024, 10.0, p99, run, full), wanted)

    @given(st.floats(0.0001, 0.01), st.floats(1, 50), st.floats(2, 40))
    def test_the_rows_of_a_batch_settle_under_the_target(self, row_ms: float, fixed_ms: float, target_ms: float) -> None:
        rows = 1_024
        for _ in range(200):
            run = fixed_ms + rows * row_ms
            rows = next_rows(rows, 1_024, target_ms, run * 1.5, run, True)
        settled = fixed_ms + rows * row_ms
        self.assertTrue(rows == 1 or settled <= max(target_ms / 2, fixed_ms * 1.2) * 1.3 or settled <= target_ms, (rows, settled))
