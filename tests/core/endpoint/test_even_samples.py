"""Even samples: each has its share, and none says anything of another."""

import unittest
from itertools import combinations

from lamppost.core.endpoint.even_samples import COPIED, GOLDEN, RECORDED, SENT_HOME, is_in_sample

ALL = (GOLDEN, COPIED, RECORDED, SENT_HOME)


class EvenSamples(unittest.TestCase):
    def test_each_holds_its_share_from_the_first_calls_on(self) -> None:
        for of in ALL:
            for share in (0.01, 0.2, 0.5, 0.99):
                held = 0
                for n in range(1, 5_001):
                    held += is_in_sample(n, of, share)
                    self.assertLess(abs(held - n * share), 6)

    def test_one_sample_says_nothing_of_another(self) -> None:
        for one, other in combinations(ALL, 2):
            both = sum(is_in_sample(n, one, 0.2) and is_in_sample(n, other, 0.3) for n in range(20_000))
            self.assertAlmostEqual(both / 20_000, 0.06, delta=0.002)

    def test_the_bounds(self) -> None:
        self.assertTrue(all(is_in_sample(n, RECORDED, 1.0) for n in range(100)))
        self.assertFalse(any(is_in_sample(n, RECORDED, 0.0) for n in range(100)))
