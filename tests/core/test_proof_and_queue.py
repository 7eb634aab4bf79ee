import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from lamppost.core.batch import BatchPolicy, Waiting
from lamppost.core.errors import LaneFull, PackageRefused
from lamppost.core.fields import Field, Schema
from lamppost.core.proof import Difference, Proof, Tolerance, compare, read_proof, write_proof

ANSWERS = Schema((Field("label", "choice", choices=("a", "b")), Field("scores", "vector", choices=("a", "b"))))
TRAINED = [{"label": "a", "scores": {"a": 0.75, "b": 0.25}}, {"label": "b", "scores": {"a": 0.0, "b": 1.0}}]
PROOF = Proof([{"x": 1.0}, {"x": 2.0}], TRAINED, Tolerance(1e-6, 1e-3))


class Comparing(unittest.TestCase):
    def test_the_same_answers_pass(self) -> None:
        verdict = compare(ANSWERS, PROOF, TRAINED)
        self.assertEqual((verdict.passed, verdict.sentence()), (True, "all 2 rows get the answer that training gave"))

    def test_numbers_may_differ_within_the_tolerance_and_not_beyond(self) -> None:
        near = [TRAINED[0] | {"scores": {"a": 0.7507, "b": 0.25}}, TRAINED[1]]
        self.assertTrue(compare(ANSWERS, PROOF, near).passed)
        far = [TRAINED[0] | {"scores": {"a": 0.7508, "b": 0.25}}, TRAINED[1]]
        verdict = compare(ANSWERS, PROOF, far)
        self.assertEqual((verdict.wrong_rows, verdict.differences[0].field), (1, "scores.a"))
        self.assertAlmostEqual(verdict.differences[0].off or 0, 0.0008)

    def test_labels_must_be_equal_and_nan_never_agrees(self) -> None:
        verdict = compare(ANSWERS, PROOF, [TRAINED[0], {"label": "a", "scores": {"a": float("nan"), "b": 1.0}}])
        self.assertEqual(verdict.differences[0], Difference(1, "label", "b", "a"))
        self.assertEqual([diff.field for diff in verdict.differences], ["label", "scores.a"])
        self.assertIn("1 of 2 rows differ from training; row 1, label: training gave b, this gives a", verdict.sentence())

    def test_a_missing_row_a_missing_key_and_an_extra_key_are_differences(self) -> None:
        self.assertEqual(compare(ANSWERS, PROOF, TRAINED[:1]).wrong_rows, 2)
        self.assertFalse(compare(ANSWERS, PROOF, [TRAINED[0], {"label": "b", "scores": {"a": 0.0}}]).passed)
        self.assertFalse(compare(ANSWERS, PROOF, [TRAINED[0], {"label": "b", "scores": {"a": 0.0, "b": 1.0, "c": 0.0}}]).passed)

    def test_round_trip_and_refusal(self) -> None:
        self.assertEqual(read_proof(write_proof(PROOF)), PROOF)
        for data in (b"{}", b"no", b'{"rows": [], "answers": []}', b'{"rows": [{}], "answers": []}'):
            self.assertRaises(PackageRefused, read_proof, data)


class Queueing(unittest.TestCase):
    def test_a_batch_is_whole_requests_in_order_up_to_the_row_limit(self) -> None:
        waiting: Waiting[str] = Waiting(BatchPolicy(max_rows=5))
        for name, rows in (("a", 2), ("b", 2), ("c", 2), ("d", 9), ("e", 1)):
            waiting.add(name, rows, 10)
        batches = []
        while len(waiting):
            batches.append([item for item, _, _ in waiting.take()])
        self.assertEqual(batches, [["a", "b"], ["c"], ["d"], ["e"]])
        self.assertEqual((waiting.rows, waiting.size_bytes, waiting.take()), (0, 0, []))

    def test_past_its_bounds_it_refuses_and_changes_nothing(self) -> None:
        waiting: Waiting[str] = Waiting(BatchPolicy(queue_rows=4, queue_bytes=100))
        waiting.add("large", 50, 500)  # an empty queue takes any one
        for rows, size in ((1, 1),):
            with self.assertRaises(LaneFull) as caught:
                waiting.add("more", rows, size)
            self.assertEqual((caught.exception.status, caught.exception.extra["waiting_rows"]), (503, 50))
        waiting.take()
        waiting.add("a", 3, 10)
        self.assertRaises(LaneFull, waiting.add, "b", 2, 10)
        self.assertRaises(LaneFull, waiting.add, "b", 1, 91)
        self.assertEqual((waiting.rows, waiting.size_bytes, len(waiting)), (3, 10, 1))

    @given(st.lists(st.tuples(st.integers(1, 9), st.integers(0, 50)), max_size=40), st.integers(1, 12), st.booleans())
    @settings(max_examples=100, deadline=None)
    def test_everything_added_is_taken_once_and_in_order(self, sizes: list[tuple[int, int]], max_rows: int, put_back: bool) -> None:
        waiting: Waiting[int] = Waiting(BatchPolicy(max_rows=max_rows))
        for number, (rows, size) in enumerate(sizes):
            waiting.add(number, rows, size)
        if put_back:
            waiting.put_back(waiting.take())
        taken = []
        while len(waiting):
            batch = waiting.take()
            self.assertTrue(len(batch) == 1 or sum(rows for _, rows, _ in batch) <= max_rows)
            taken += [item for item, _, _ in batch]
        self.assertEqual(taken, list(range(len(sizes))))
        self.assertEqual((waiting.rows, waiting.size_bytes), (0, 0))
