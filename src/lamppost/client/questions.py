"""What can be asked of a service beside predictions, and changed in it, as generators like those of `lamppost.client.calls`."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any
from urllib.parse import quote

from lamppost.client.calls import Call, checked_json, endpoint_path, fetch, fetch_bytes, options_in_query, predict_path, set_up
from lamppost.client.frames import ARROW, arrow_to_frame, as_pandas, frame_to_arrow
from lamppost.client.rows import request_body
from lamppost.client.values import Request
from lamppost.core.endpoint.setup import read_setup, write_setup
from lamppost.core.errors import BadRequest
from lamppost.core.names import parse_version

Answer = dict[str, Any]


def version_path(version: str, below: str = "") -> str:
    """The path of ``model@number`` in the API, or one below it. Raise BadRequest for another text."""
    name = parse_version(version)
    return f"/api/models/{name.model}/versions/{name.number}{below}"


def model_path(model: str) -> str:
    """The path of a model in the API."""
    return f"/api/models/{quote(model, safe='')}"


def retire_body(undo: bool, replace_with: str | None, break_callers: bool, override: str | None) -> Answer:
    """The body that retires a version."""
    if replace_with is not None:
        parse_version(replace_with)
    return {"undo": undo, "replace_with": replace_with, "break_callers": break_callers, "override": override}


def describe_endpoint(endpoint: str) -> Call[Answer]:
    """What an endpoint serves, its fields, its state and its last hour."""
    described: Answer = yield from fetch("GET", endpoint_path(endpoint))
    return described


def explain(endpoint: str, row: Any, call: str | None, options: Mapping[str, Any] | None, terms: Mapping[str, Any]) -> Call[Answer]:
    """What contributed to the answer to a row or a recorded call, what would change it, and which rule it follows."""
    explained: Answer = yield from fetch("POST", endpoint_path(endpoint, "/explain"), {**_explained_row(row, call, options), **terms})
    return explained


def explain_curve(endpoint: str, field: str, row: Any, call: str | None, options: Mapping[str, Any] | None) -> Call[Answer]:
    """The answer as one field goes through its range."""
    body = {**_explained_row(row, call, options), "field": field}
    curve: Answer = yield from fetch("POST", endpoint_path(endpoint, "/explain/curve"), body)
    return curve


def _explained_row(row: Any, call: str | None, options: Mapping[str, Any] | None) -> Answer:
    if (row is None) == (call is None):
        raise BadRequest("say which answer is to be explained: a row, or the id of a call; one of them")
    if row is None:
        return {"call": str(call)}
    body = request_body(row)
    if isinstance(body.get("rows"), list):
        raise BadRequest(f"one row is explained at a time, and {len(body['rows'])} were given")
    return {"row": body, "options": dict(options or {})}


def predict_frame(
    endpoint: str, frame: Any, options: Mapping[str, Any] | None = None, headers: Mapping[str, str] | None = None
) -> Call[Any]:
    """Ask an endpoint for every row of a data frame; the answers as a frame with its index."""
    frame = as_pandas(frame)
    described = yield from describe_endpoint(endpoint)
    reply = yield Request(
        "POST",
        predict_path(endpoint),
        content=frame_to_arrow(frame, described["inputs"]),
        params=options_in_query(options),
        headers={**(headers or {}), "content-type": ARROW, "accept": ARROW},
    )
    if reply.status >= 400:
        checked_json(reply)
    answers = arrow_to_frame(reply.body, frame.index)
    answers.attrs |= {"version": reply.headers.get("model-version", ""), "request_id": reply.headers.get("request-id", "")}
    return answers


def download(version: str) -> Call[bytes]:
    """The lamp file of a version."""
    return fetch_bytes(version_path(version, "/package"))


def ask_version(version: str, rows: Any) -> Call[Answer]:
    """Ask a version, whether or not an endpoint serves it."""
    answer: Answer = yield from fetch("POST", version_path(version, "/ask"), request_body(rows))
    return answer


def record_outcomes(endpoint: str, outcomes: Any) -> Call[Answer]:
    """Tell what was true about earlier answers. outcomes : see `lamppost.Client.record_outcomes`."""
    asked = getattr(outcomes, "attrs", {}).get("request_id")
    rows: Iterable[Mapping[str, Any]] = request_body(outcomes)["rows"] if not isinstance(outcomes, Mapping) else [outcomes]
    listed = [
        {
            "request_id": row.get("request_id", asked),
            "row": row.get("row", at if asked and "request_id" not in row else 0),
            "truth": row["truth"],
        }
        for at, row in enumerate(rows)
    ]
    answer: Answer = yield from fetch("POST", endpoint_path(endpoint, "/outcomes"), {"outcomes": listed})
    return answer


def change_setup(
    endpoint: str, change: Callable[[Answer], Answer], break_callers: bool = False, override: str | None = None
) -> Call[Answer]:
    """Change an endpoint's setup, which must be the same until then. change : from the setup that is to the one that shall be."""
    described = yield from describe_endpoint(endpoint)
    changed = change(write_setup(read_setup(described["setup"])))
    return (yield from set_up(endpoint, changed, described["revision"], break_callers, override))


def split(
    endpoint: str,
    shares: Mapping[str, float],
    sticky: Mapping[str, str] | None = None,
    break_callers: bool = False,
    override: str | None = None,
) -> Call[Answer]:
    """Give several versions shares of the calls, in percent."""
    shared: Answer = {"of": dict(shares)} | ({"sticky": dict(sticky)} if sticky else {})

    def change(setup: Answer) -> Answer:
        rest = {key: value for key, value in setup.items() if key not in ("version", "choose", "together")}
        if kept := [present for present in rest.pop("shadows", []) if present["version"] not in shares]:
            rest["shadows"] = kept
        return rest | {"shares": shared}

    return (yield from change_setup(endpoint, change, break_callers, override))


def shadow(endpoint: str, version: str, share: float = 100.0) -> Call[Answer]:
    """Copy a share of the calls to a version, in percent; 0 for no more."""
    parse_version(version)

    def change(setup: Answer) -> Answer:
        shadows = [present for present in setup.get("shadows", []) if present["version"] != version]
        if share > 0:
            shadows.append({"version": version, "share": share})
        return {key: value for key, value in setup.items() if key != "shadows"} | ({"shadows": shadows} if shadows else {})

    return (yield from change_setup(endpoint, change))


def token_body(name: str, role: str, endpoints: Sequence[str] | None, expires_at: str | None, rate_per_s: float | None) -> Answer:
    """The body that makes a token."""
    body: Answer = {"name": name, "role": role, "endpoints": list(endpoints) if endpoints else None, "rate_per_s": rate_per_s}
    return body | ({"expires_at": expires_at} if expires_at is not None else {})


def token_path(name: str) -> str:
    """The path of a token in the API."""
    return f"/api/tokens/{quote(name, safe='')}"
