"""Headers that belong to a problem document (RFC 9457) over HTTP."""

from __future__ import annotations

from lamppost.core.errors import LampPostError

PROBLEM_TYPE = b"application/problem+json"
_RETRY_S = 2


def problem_headers(error: LampPostError) -> list[tuple[bytes, bytes]]:
    """The headers of a problem: WWW-Authenticate, Retry-After, Allow."""
    if error.status == 401:
        return [(b"www-authenticate", b"Bearer")]
    if error.status == 405:
        return [(b"allow", b"OPTIONS, POST")]
    if error.status in (429, 503):
        return [(b"retry-after", b"%d" % error.extra.get("retry_after_s", _RETRY_S))]
    return []
