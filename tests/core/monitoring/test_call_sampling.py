"""Instants cut calls into parts of the same number, wherever they lie."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.monitoring.call_sampling import draw_instants


class Instants(unittest.TestCase):
    @given(st.lists(st.integers(0, 400), max_size=30), st.integers(1, 100))
    def test_each_step_gets_its_part_to_within_one(self, calls: list[int], many: int) -> None:
        counts = [(10.0 * at, one) for at, one in enumerate(calls)]
        found = draw_instants(counts, 10.0, many)
        total = sum(calls)
        self.assertEqual(len(found), min(many, total))
        self.assertEqual(found, sorted(found))
        for start, one in counts:
            drawn = sum(start <= at < start + 10 for at in found)
            self.assertLessEqual(abs(drawn - len(found) * one / max(1, total)), 1)


if __name__ == "__main__":
    unittest.main()
