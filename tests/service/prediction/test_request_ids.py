import unittest
from unittest import mock

from lamppost.service.prediction import request_ids


class Ids(unittest.TestCase):
    def test_a_clock_that_is_set_back_takes_no_id_back(self) -> None:
        now = request_ids.time.time_ns()
        with mock.patch.object(request_ids.time, "time_ns", side_effect=[now, now - 3_600 * 10**9, now + 10**9]):
            first, second, third = (request_ids.new_request_id() for _ in range(3))
        self.assertEqual(first[:13], second[:13], "it stays at the latest millisecond that was")
        self.assertLess(max(first, second), third)
        self.assertEqual(request_ids.new_request_id(1_790_000_000_000)[:13], "01a0c450-6c00", "or the time that is given")
