"""Every call as a generator: it yields a `Request`, is sent the `Reply`, and returns the result. No I/O happens here, so the
sync and the async client share all of it.
"""

from __future__ import annotations

from collections.abc import Generator, Iterable, Mapping
from typing import Any, TypeVar
from urllib.parse import quote

import orjson

from lamppost.client.values import Prediction, Reply, Request, read_timing
from lamppost.core.errors import LampPostError, from_problem

T = TypeVar("T")
Call = Generator[Request, Reply, T]
Row = Mapping[str, Any]


def checked(reply: Reply) -> Any:
    """The JSON of a good reply, None for an empty one; raise the error that a problem document stands for."""
    try:
        said = orjson.loads(reply.body) if reply.body else None
    except ValueError:
        said = None
    if reply.status < 400:
        return said
    if isinstance(said, dict) and "type" in said:
        raise from_problem(said, reply.status)
    raise LampPostError(f"the service answered with status {reply.status} and no explanation; is this address a Lamp Post?")


def fetch(method: str, path: str, json: Any = None, **params: Any) -> Call[Any]:
    """Any API call: the JSON of its answer."""
    reply = yield Request(method, path, json=json, params={key: value for key, value in params.items() if value is not None})
    return checked(reply)


def predict(endpoint: str, rows: Row | Iterable[Row]) -> Call[Prediction]:
    """Ask an endpoint for one row (a mapping) or several (an iterable of mappings)."""
    body = dict(rows) if isinstance(rows, Mapping) else {"rows": [dict(row) for row in rows]}
    content = orjson.dumps(body, option=orjson.OPT_SERIALIZE_NUMPY)
    reply = yield Request("POST", f"/predict/{quote(endpoint, safe='')}", content=content, headers={"content-type": "application/json"})
    said = checked(reply)
    answers = said["answers"] if "answers" in said else [said["answer"]]
    return Prediction(answers, said["version"], said["request_id"], read_timing(reply.headers.get("server-timing", "")))


def push(content: Any, model: str | None) -> Call[dict[str, Any]]:
    """Push the bytes of a lamp file (bytes, or an iterable of them)."""
    params = {"model": model} if model else {}
    reply = yield Request("POST", "/api/packages", content=content, params=params, headers={"content-type": "application/zip"})
    result: dict[str, Any] = checked(reply)
    return result


def point(endpoint: str, version: str) -> Call[dict[str, Any]]:
    """Make an endpoint serve a version."""
    result: dict[str, Any] = yield from fetch("POST", f"/api/endpoints/{quote(endpoint, safe='')}/point", {"version": version})
    return result
