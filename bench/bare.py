"""A bare ASGI callable that reads the body and gives a constant: the ceiling of the HTTP server."""

from typing import Any

_ANSWER = b'{"answer":{"label":"holds","scores":{"holds":0.75,"fails":0.25}},"version":"outage-risk@1"}'


async def app(scope: Any, receive: Any, send: Any) -> None:
    """Any request, one answer."""
    if scope["type"] != "http":
        return
    while (await receive()).get("more_body"):
        pass
    headers = [(b"content-type", b"application/json"), (b"content-length", b"%d" % len(_ANSWER))]
    await send({"type": "http.response.start", "status": 200, "headers": headers})
    await send({"type": "http.response.body", "body": _ANSWER})
