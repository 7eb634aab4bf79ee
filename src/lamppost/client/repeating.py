"""Says when a request that could not be answered is sent once more: only what changes nothing, and only when the service says when or the
connection was lost.
"""

from __future__ import annotations

from lamppost.client.values import Reply, Request

LONGEST_WAIT_S = 5.0
_PREDICT = "/predict/"
_EXPLAIN = ("/explain", "/explain/curve")


def wait_before_repeat(request: Request, reply: Reply | Exception, repeats_left: int) -> float | None:
    """Seconds to wait before a request is sent again; None for an answer that stands. reply : or the error of a lost connection.

    Predictions, explanations and questions are repeated, because they change nothing; changes and outcomes are not. The service says with
    ``Retry-After`` (RFC 9110, section 10.2.3) when; what it puts off for longer than five seconds is not waited for. 502 and 504 that are
    no problem document come from a balancer that lost its connection to a node.

    >>> busy = Reply(503, {"retry-after": "1"}, b"")
    >>> wait_before_repeat(Request("GET", "/api/calls"), busy, 2), wait_before_repeat(Request("POST", "/api/tokens"), busy, 2)
    (1.0, None)
    """
    lost = isinstance(reply, Exception) or _is_of_balancer(reply)
    if repeats_left < 1 or (isinstance(reply, Reply) and reply.status != 503 and not lost):
        return None
    changes_nothing = request.path.startswith(_PREDICT) or request.path.endswith(_EXPLAIN)
    if request.method != "GET" and not (request.method == "POST" and changes_nothing):
        return None
    if request.content is not None and not isinstance(request.content, bytes):
        return None  # a stream that was read
    if lost or isinstance(reply, Exception):
        return 0.0
    stated = reply.headers.get("retry-after", "")
    if not stated.isdigit() or float(stated) > LONGEST_WAIT_S:
        return None
    return float(stated)


def _is_of_balancer(reply: Reply) -> bool:
    return reply.status in (502, 504) and "problem+json" not in reply.headers.get("content-type", "")
