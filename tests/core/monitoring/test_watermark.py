"""What is settled of a growing table only ever grows, and waits for transactions that end late."""

import unittest

from lamppost.core.monitoring.watermark import Watermark


class Settled(unittest.TestCase):
    def test_nothing_seen_is_nothing_settled(self) -> None:
        seen = Watermark(10)
        self.assertEqual(seen.highest_by(1e9), 0)
        seen.note_row(5.0, 3)
        self.assertEqual(seen.highest_by(4.9), 0)

    def test_quiet_looks_change_nothing(self) -> None:
        seen = Watermark(10)
        for now, number in ((0.0, 8), (1.0, 0), (2.0, 0)):
            seen.note_row(now, number)
        self.assertEqual(seen.highest_by(2.0), 8)

    def test_what_is_too_old_to_be_asked_for_is_let_go_but_for_its_number(self) -> None:
        seen = Watermark(10)
        for now in range(100):
            seen.note_row(float(now), now)
        self.assertEqual((seen.highest_by(99.0 - 10), seen.highest_by(99.0 - 5)), (89, 94))
        self.assertEqual(seen.highest_by(50.0), 0)


if __name__ == "__main__":
    unittest.main()
