"""Which requests are sent again."""

import unittest

from lamppost.client.repeating import wait_before_repeat
from lamppost.client.values import Reply, Request


class Repeating(unittest.TestCase):
    def test_what_changes_nothing_is_sent_again_when_the_service_says_so(self) -> None:
        predict, question, change = (
            Request("POST", "/predict/risk", b"{}"),
            Request("GET", "/api/calls"),
            Request("POST", "/api/tokens", b"{}"),
        )
        outcomes, stream = Request("POST", "/api/endpoints/risk/outcomes", b"{}"), Request("POST", "/predict/risk", content=iter([b""]))
        for request, status, after, left, wanted in (
            (predict, 503, "1", 2, 1.0),
            (question, 503, "0", 1, 0.0),
            (question, 503, "1", 0, None),
            (question, 503, "60", 2, None),
            (question, 503, "", 2, None),
            (question, 503, "Wed, 21 Oct 2026 07:28:00 GMT", 2, None),
            (question, 500, "1", 2, None),
            (change, 503, "1", 2, None),
            (outcomes, 503, "1", 2, None),
            (stream, 503, "1", 2, None),
        ):
            with self.subTest(f"{request.path} {status} {after} {left}"):
                self.assertEqual(wait_before_repeat(request, Reply(status, {"retry-after": after}, b""), left), wanted)

    def test_a_lost_connection_is_tried_again_at_once_for_what_changes_nothing(self) -> None:
        for request, left, wanted in (
            (Request("POST", "/predict/risk", b"{}"), 1, 0.0),
            (Request("GET", "/api/calls"), 1, 0.0),
            (Request("POST", "/api/endpoints/risk/explain", b"{}"), 1, 0.0),
            (Request("GET", "/api/calls"), 0, None),
            (Request("DELETE", "/api/tokens/x"), 1, None),
        ):
            self.assertEqual(wait_before_repeat(request, ConnectionResetError(), left), wanted)
            page = Reply(502, {"content-type": "text/html"}, b"")
            self.assertEqual(wait_before_repeat(request, page, left), wanted, "a balancer lost a node")
            own = Reply(502, {"content-type": "application/problem+json"}, b"")
            self.assertIsNone(wait_before_repeat(request, own, left), "the model failed, and would again")
