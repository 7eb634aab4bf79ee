"""Every call as a generator: it yields a `Request`, is sent the `Reply`, and returns the result. No I/O happens here, so the
sync and the async client share all of it.
"""

from __future__ import annotations

import base64
import hashlib
import zipfile
from collections.abc import Callable, Generator, Mapping
from pathlib import Path
from typing import Any, BinaryIO, TypeVar
from urllib.parse import quote

import orjson

from lamppost.client.frames import ARROW
from lamppost.client.rows import Row, request_body
from lamppost.client.values import Prediction, Reply, Request, read_timing
from lamppost.core.artifact.chunks import chunk_bounds
from lamppost.core.errors import BadRequest, LampPostError, from_problem

T = TypeVar("T")
Call = Generator[Request, Reply, T]
_WHOLE_BYTES = 256 * 2**10
"""A smaller lamp file is sent whole: to ask which of its chunks are missing takes as long."""
_FILES = {".csv": "text/csv", ".ndjson": "application/x-ndjson", ".arrow": ARROW}
Progress = Callable[[int, int | None], None]
"""Told how many bytes are there, and how many there are in all."""


def endpoint_path(endpoint: str, below: str = "") -> str:
    """The path of an endpoint in the API, or one below it."""
    return f"/api/endpoints/{quote(endpoint, safe='')}{below}"


def predict_path(endpoint: str) -> str:
    """The path at which an endpoint is asked."""
    return f"/predict/{quote(endpoint, safe='')}"


def options_in_query(options: Row | None) -> dict[str, str]:
    """Options of a call whose body is no JSON."""
    return {"options": orjson.dumps(dict(options)).decode()} if options else {}


def checked_json(reply: Reply) -> Any:
    """The JSON of a good reply, None for an empty one; raise the error that a problem document stands for."""
    try:
        document = orjson.loads(reply.body) if reply.body else None
    except ValueError as error:
        document = None
        if reply.status < 400:
            raise LampPostError("what answers at this address is no Lamp Post: it sent something that is no JSON") from error
    if reply.status < 400:
        return document
    if isinstance(document, dict) and "type" in document:
        raise from_problem(document, reply.status)
    raise LampPostError(f"the service answered with status {reply.status} and no explanation; is this address a Lamp Post?")


def fetch(method: str, path: str, json: Any = None, **params: Any) -> Call[Any]:
    """Any API call: the JSON of its answer. Pictures (bytes) in what is sent go as base64."""
    content, headers = (None, {}) if json is None else (_encoded(json), {"content-type": "application/json"})
    asked = {key: value for key, value in params.items() if value is not None}
    return checked_json((yield Request(method, path, content=content, params=asked, headers=headers)))


def fetch_bytes(path: str, **params: Any) -> Call[bytes]:
    """Any API call whose answer is no JSON."""
    reply = yield Request("GET", path, params={key: value for key, value in params.items() if value is not None})
    if reply.status >= 400:
        checked_json(reply)
    return reply.body


def record_outcome(endpoint: str, request_id: str, truth: Any, row: int = 0) -> Call[dict[str, Any]]:
    """Tell what was true about an earlier answer."""
    body = {"outcomes": [{"request_id": request_id, "row": row, "truth": truth}]}
    answer: dict[str, Any] = yield from fetch("POST", endpoint_path(endpoint, "/outcomes"), body)
    return answer


def predict(endpoint: str, rows: Any, options: Row | None = None, headers: Mapping[str, str] | None = None) -> Call[Prediction]:
    """Ask an endpoint for one row or several, with options and headers for the call.

    rows : see `lamppost.client.rows.request_body`; or the path of a file of CSV, NDJSON or Arrow.
    """
    if isinstance(rows, Path):
        content, own_headers = _file_content(rows)
        params = options_in_query(options)
    else:
        content, own_headers, params = _json_content(rows, options), {"content-type": "application/json"}, {}
    reply = yield Request("POST", predict_path(endpoint), content=content, params=params, headers={**(headers or {}), **own_headers})
    answer = checked_json(reply)
    answers = answer["answers"] if "answers" in answer else [answer["answer"]]
    return Prediction(
        answers, answer["version"], answer["request_id"], read_timing(reply.headers.get("server-timing", "")), answer.get("changed", [])
    )


def _file_content(file: Path) -> tuple[bytes, dict[str, str]]:
    """The body of a call, and the headers that say what it is."""
    kind = _FILES.get(file.suffix.lower())
    if kind is None:
        raise BadRequest(f"{file} is none of {', '.join(_FILES)}; give rows, a data frame, or such a file")
    try:
        return file.read_bytes(), {"content-type": kind, "accept": "application/json"}
    except OSError as error:
        raise BadRequest(f"{file} cannot be read: {error.strerror}") from error


def _json_content(rows: Any, options: Row | None) -> bytes:
    body = request_body(rows)
    if options:
        body["options"] = dict(options)
    return _encoded(body)


def _encoded(body: Any) -> bytes:
    try:
        return orjson.dumps(body, default=_as_json, option=orjson.OPT_SERIALIZE_NUMPY | orjson.OPT_UTC_Z)
    except TypeError as error:
        raise BadRequest(f"what is sent cannot be written as JSON: {error}") from error


def _as_json(value: Any) -> str:
    """Pictures go as base64."""
    if isinstance(value, (bytes, bytearray)):
        return base64.b64encode(value).decode()
    raise TypeError(f"{type(value).__name__} is no number, text, time, picture (bytes) or list")


def push(file: BinaryIO, model: str | None, progress: Progress | None = None) -> Call[dict[str, Any]]:
    """Push a lamp file in chunks; those that the service has already are not sent. A small file goes whole, in one request.

    progress : called with bytes that are there and bytes in all.
    """
    size = file.seek(0, 2)
    params = {"model": model} if model else {}
    if size <= _WHOLE_BYTES:
        headers = {"content-type": "application/octet-stream"}
        stored = checked_json((yield Request("POST", "/api/packages", content=_read(file, 0, size), headers=headers, params=params)))
        if progress is not None:
            progress(size, size)
        return dict(stored)
    cut = chunk_bounds(size, _member_starts(file))
    names = [hashlib.sha256(_read(file, *piece)).hexdigest() for piece in cut]
    missing = set((yield from fetch("POST", "/api/packages/chunks", {"chunks": names}))["missing"])
    there = sum(end - start for name, (start, end) in zip(names, cut, strict=True) if name not in missing)
    for name, (start, end) in zip(names, cut, strict=True):
        if progress is not None:
            progress(there, size)
        if name in missing:
            missing.remove(name)
            data = _read(file, start, end)
            headers = {"content-type": "application/octet-stream"}
            checked_json((yield Request("PUT", f"/api/packages/chunks/{name}", content=data, headers=headers)))
            there += end - start
    if progress is not None:
        progress(size, size)
    result: dict[str, Any] = yield from fetch("POST", "/api/packages/assembled", {"chunks": names}, **params)
    return result


def _member_starts(file: BinaryIO) -> list[int]:
    """Where the files inside begin; nothing for what is no ZIP, which the service will refuse with its own words."""
    try:
        with zipfile.ZipFile(file) as archive:
            return [info.header_offset for info in archive.infolist()]
    except (zipfile.BadZipFile, ValueError, NotImplementedError):
        return []


def _read(file: BinaryIO, start: int, end: int) -> bytes:
    file.seek(start)
    return file.read(end - start)


def set_up(
    endpoint: str, setup: Mapping[str, Any], after: int | None = None, break_callers: bool = False, override: str | None = None
) -> Call[dict[str, Any]]:
    """Give an endpoint a whole setup."""
    body = {"setup": dict(setup), "after": after, "break_callers": break_callers, "override": override}
    result: dict[str, Any] = yield from fetch("PUT", endpoint_path(endpoint, "/setup"), body)
    return result


def rollback(endpoint: str, note: str | None = None) -> Call[dict[str, Any]]:
    """Serve again what was served before."""
    result: dict[str, Any] = yield from fetch("POST", endpoint_path(endpoint, "/rollback"), {"note": note})
    return result


def roll_out(
    endpoint: str,
    version: str,
    plan: Mapping[str, Any] | None = None,
    sticky: Mapping[str, str] | None = None,
    break_callers: bool = False,
    override: str | None = None,
) -> Call[dict[str, Any]]:
    """Begin a rollout."""
    body = {"version": version, "plan": plan, "sticky": sticky, "break_callers": break_callers, "override": override}
    result: dict[str, Any] = yield from fetch("POST", endpoint_path(endpoint, "/rollout"), body)
    return result


def point(endpoint: str, version: str | Row, break_callers: bool = False, override: str | None = None) -> Call[dict[str, Any]]:
    """Make an endpoint serve a version: its name, or what `push` returned."""
    body = {"version": version if isinstance(version, str) else version["version"], "break_callers": break_callers, "override": override}
    result: dict[str, Any] = yield from fetch("POST", endpoint_path(endpoint, "/point"), body)
    return result
