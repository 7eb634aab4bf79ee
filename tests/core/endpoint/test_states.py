import unittest

from lamppost.core.endpoint.states import EndpointStatus, LaneCondition, endpoint_status


class States(unittest.TestCase):
    def test_without_lanes(self) -> None:
        self.assertEqual(endpoint_status(None), EndpointStatus("asleep"))
        self.assertEqual(endpoint_status(None, opening=True), EndpointStatus("opening"))
        self.assertEqual(endpoint_status(None, opening=True, failure="no room"), EndpointStatus("opening"), "it is tried again")
        self.assertEqual(endpoint_status(None, failure="no room"), EndpointStatus("down", ("no room",)))

    def test_the_worst_lane_decides_and_every_reason_is_told(self) -> None:
        good, other = LaneCondition("a@1", "serving"), LaneCondition("b@1", "restarting", "it was killed")
        down, closed = LaneCondition("c@1", "down", "its proof fails"), LaneCondition("d@1", "closed")
        self.assertEqual(endpoint_status([good, good]), EndpointStatus("serving"))
        found = endpoint_status([good, other])
        self.assertEqual((found.state, len(found.reasons), found.answers), ("degraded", 1, True))
        self.assertIn("it was killed", found.reasons[0])
        found = endpoint_status([good], trouble=["the disk is full"])
        self.assertEqual((found.state, found.reasons), ("degraded", ("the disk is full",)))
        found = endpoint_status([other, down, good, closed])
        self.assertEqual((found.state, len(found.reasons), found.answers), ("down", 2, False))
        self.assertIn("its proof fails", found.reasons[0])
