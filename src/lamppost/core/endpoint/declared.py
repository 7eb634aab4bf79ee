"""Reads and writes the declared document of all endpoints, and lists the differences between two documents."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import orjson

from lamppost.core.endpoint.setup import EndpointSetup, read_setup, without_findings, write_setup
from lamppost.core.errors import BadRequest
from lamppost.core.names import check_name

APPROVALS = "approvals"
MOST_APPROVALS = 9
SCHEDULES = "schedules"


@dataclass(frozen=True, slots=True)
class DeclaredEndpoint:
    """One endpoint of a document. approvals : how many a version needs before it serves."""

    setup: EndpointSetup
    approvals: int = 0


@dataclass(frozen=True, slots=True)
class DeclaredDifference:
    """A key that differs. before, after : its JSON values; None where the key is missing. The key "" stands for the whole endpoint."""

    endpoint: str
    key: str
    before: Any
    after: Any

    def summary(self) -> str:
        """The difference in one line."""
        if not self.key:
            return f"{self.endpoint} is new"
        return f"{self.endpoint}  {self.key}: {_shown(self.before)} → {_shown(self.after)}"


def _shown(value: Any) -> str:
    return "–" if value is None else orjson.dumps(value).decode()


def write_declared(endpoints: Mapping[str, DeclaredEndpoint], schedules: Mapping[str, Any] | None = None) -> dict[str, Any]:
    """The document as JSON values, which TOML can hold too. schedules : of bulk runs, as they are written, None to leave them out."""
    document: dict[str, Any] = {}
    for name in sorted(endpoints):
        endpoint = endpoints[name]
        document[name] = ({APPROVALS: endpoint.approvals} if endpoint.approvals else {}) | write_setup(without_findings(endpoint.setup))
    return {"endpoints": document, **({SCHEDULES: dict(schedules)} if schedules else {})}


def read_declared(data: Any) -> dict[str, DeclaredEndpoint]:
    """The endpoints of a document; raise BadRequest that names the place."""
    if not isinstance(data, Mapping) or not isinstance(data.get("endpoints"), Mapping):
        raise BadRequest("the document needs a table [endpoints.NAME] for each endpoint")
    if odd := sorted(data.keys() - {"endpoints", SCHEDULES}):
        raise BadRequest(f"the document has a key {odd[0]!r} at its top; it holds endpoints and schedules, and nothing else")
    endpoints: dict[str, DeclaredEndpoint] = {}
    for name, endpoint in data["endpoints"].items():
        check_name(str(name), "endpoint")
        if not isinstance(endpoint, Mapping):
            raise BadRequest(f"endpoints.{name} is no table")
        rest = dict(endpoint)
        approvals = rest.pop(APPROVALS, 0)
        if isinstance(approvals, bool) or not isinstance(approvals, int) or not 0 <= approvals <= MOST_APPROVALS:
            raise BadRequest(f"endpoints.{name}.{APPROVALS} is {approvals!r}; it goes from 0 to {MOST_APPROVALS}")
        try:
            endpoints[str(name)] = DeclaredEndpoint(read_setup(rest), approvals)
        except BadRequest as error:
            raise BadRequest(f"endpoints.{name}: {error.detail}") from error
    return endpoints


def declared_differences(now: Mapping[str, DeclaredEndpoint], after_document: Mapping[str, DeclaredEndpoint]) -> list[DeclaredDifference]:
    """The differences from the present endpoints to a document. Endpoints that the document does not name are left out."""
    differences: list[DeclaredDifference] = []
    for name in sorted(after_document):
        if name not in now:
            differences.append(DeclaredDifference(name, "", None, write_declared({name: after_document[name]})["endpoints"][name]))
            continue
        before, after = (write_declared({name: document[name]})["endpoints"][name] for document in (now, after_document))
        differences += _differing_keys(name, before, after)
    return differences


def schedule_differences(now: Mapping[str, Any], after_document: Mapping[str, Any]) -> list[DeclaredDifference]:
    """The same of schedules of bulk runs, which stand as ``schedule NAME``. now, after_document : as they are written."""
    differences = []
    for name in sorted(after_document):
        title = f"schedule {name}"
        if name not in now:
            differences.append(DeclaredDifference(title, "", None, after_document[name]))
            continue
        differences += _differing_keys(title, now[name], after_document[name])
    return differences


def _differing_keys(title: str, before: Any, after: Any) -> list[DeclaredDifference]:
    flat_before, flat_after = _flat(before), _flat(after)
    return [
        DeclaredDifference(title, key, flat_before.get(key), flat_after.get(key))
        for key in sorted(flat_before.keys() | flat_after.keys())
        if flat_before.get(key) != flat_after.get(key)
    ]


def _flat(value: Any, under: str = "") -> dict[str, Any]:
    """Values by their dotted keys; lists of tables by their places."""
    if isinstance(value, Mapping) and value:
        return {key: part for name, inner in value.items() for key, part in _flat(inner, f"{under}.{name}" if under else str(name)).items()}
    if isinstance(value, list) and value and all(isinstance(part, Mapping) for part in value):
        return {key: part for at, inner in enumerate(value) for key, part in _flat(inner, f"{under}[{at}]").items()}
    return {under: value}


def revisions_fingerprint(revisions: Mapping[str, tuple[int, int]], schedules: Mapping[str, Any] | None = None) -> str:
    """A fingerprint of the endpoints with their revisions and approvals, and of schedules: twelve hexadecimal digits."""
    document = {name: list(pair) for name, pair in revisions.items()} | ({f"{SCHEDULES} ": schedules} if schedules else {})
    written = orjson.dumps(document, option=orjson.OPT_SORT_KEYS)
    return hashlib.sha256(written).hexdigest()[:12]
