"""Values that clients send and receive, without any HTTP library."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class Request:
    """One HTTP request. path : below the service's address. content : the body."""

    method: str
    path: str
    content: Any = None
    params: Mapping[str, Any] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Reply:
    """What came back. headers : names in lower case."""

    status: int
    headers: Mapping[str, str]
    body: bytes


@dataclass(frozen=True, slots=True)
class Prediction:
    """The answers to one request.

    answers : one dict per row, keys as in the output schema. version : ``model@number`` that answered.
    timing_ms : phases of the service in milliseconds, ``total`` among them. changed : values that a lenient endpoint took as others.
    """

    answers: list[dict[str, Any]]
    version: str
    request_id: str
    timing_ms: dict[str, float]
    changed: list[dict[str, Any]] = field(default_factory=list)

    @property
    def answer(self) -> dict[str, Any]:
        """The answer to the first, or only, row."""
        return self.answers[0]


def read_timing(header: str) -> dict[str, float]:
    """Phases of a Server-Timing header: ``read_timing("queue;dur=0.5, total;dur=2") == {"queue": 0.5, "total": 2.0}``."""
    phases = {}
    for part in header.split(","):
        name, _, rest = part.strip().partition(";")
        key, _, value = rest.partition("=")
        if key.strip() == "dur":
            try:
                phases[name] = float(value)
            except ValueError:
                continue
    return phases
