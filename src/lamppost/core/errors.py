"""Every error that Lamp Post raises on purpose, with a stable code and the HTTP status it becomes.

LampPostError
├── BadRequest              400  the request could not be read at all
│   ├── BadJson             400
│   ├── BadBody             400  the same of CSV, NDJSON, Arrow and forms
│   ├── NotAcceptable       406
│   ├── WrongContentType    415
│   ├── RequestTooSlow      408
│   ├── BodyTooLarge        413
│   ├── Misdirected         421  the header Host names another host
│   ├── HeadersTooLarge     431
│   ├── TooManyRows         413
│   └── InvalidRows         422  carries every fault, each with row and field
├── NotSignedIn             401
├── NotAllowed              403
├── RateLimited             429  the token's own rate
├── NotFound                404  an unknown endpoint, model, version or call
├── Conflict                409
│   ├── BreaksCallers       409  carries how many calls would be refused
│   └── ProofFailed         409  carries the rows that differ
├── PackageRefused          422  a lamp file that is broken, hostile or not allowed here
├── Unavailable             503  nothing can answer now
│   ├── DatabaseAway        503  PostgreSQL does not answer; predictions go on
│   ├── HubAway             503  the hub of an outpost does not answer
│   ├── LaneFull            503  the queue is at its bound, try again after a moment
│   └── DeadlinePassed      504  the caller's own deadline has passed
├── ModelFault              502  the model failed, or gave an answer outside its own schema
│   └── LookupFault         502  a table holds what its field cannot be
├── OutputFull              507  a disk or store takes no more of a bulk run's output
├── ServerUnreachable            seen by clients only
└── SetupError                   something this machine needs is missing or taken
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Fault:
    """One thing that is wrong with one value of a request.

    row : index of the row, from 0; None when the fault is not about a row.
    field : name of the field; None when the fault is about the whole row.
    given : what came, shortened, as JSON would write it.
    expected : what the schema wants, in words.
    hint : what to do, or None.
    """

    row: int | None
    field: str | None
    given: str
    expected: str
    hint: str | None = None

    def sentence(self) -> str:
        """The fault as one line: ``row 0, height_m: given "tall", expected a number``."""
        place = [] if self.row is None else [f"row {self.row}"]
        if self.field is not None:
            place.append(self.field)
        text = f"given {self.given}, expected {self.expected}"
        if place:
            text = f"{', '.join(place)}: {text}"
        return f"{text} ({self.hint})" if self.hint else text

    def to_dict(self) -> dict[str, Any]:
        """As it stands in a problem document."""
        fault = {"row": self.row, "field": self.field, "given": self.given, "expected": self.expected, "hint": self.hint}
        return {key: value for key, value in fault.items() if value is not None}


def shift_fault_rows(error: LampPostError, row_of: Callable[[int], int]) -> LampPostError:
    """The error with its faults' rows counted elsewhere, in its sentence too; ``row_of`` gives the new row of each."""
    faults = error.extra.get("faults")
    if not faults:
        return error
    placed: list[dict[str, Any]] = [{**fault, "row": row_of(fault["row"])} if "row" in fault else fault for fault in faults]
    first = placed[0]
    first_fault = Fault(first.get("row"), first.get("field"), str(first.get("given")), str(first.get("expected")), first.get("hint"))
    return type(error)(first_fault.sentence(), **{**error.extra, "faults": placed})


class LampPostError(Exception):
    """Root of all our errors; ``extra`` is what the problem document says beyond the sentence."""

    code = "error"
    status = 500
    title = "Something went wrong"
    version: str | None = None
    """The version that failed, where one of several did."""
    repeats_input = False
    """Whether the sentence, or a fault, may hold a part of what was sent."""

    def __init__(self, detail: str, **extra: Any) -> None:
        super().__init__(detail)
        self.detail = detail
        self.extra = extra

    def __reduce__(self) -> tuple[Any, ...]:
        return (_rebuild, (type(self), self.detail, self.extra))

    def to_problem(self) -> dict[str, Any]:
        """RFC 9457 problem document; ``type`` is ``urn:lamppost:`` and the code."""
        return {"type": f"urn:lamppost:{self.code}", "title": self.title, "status": self.status, "detail": self.detail, **self.extra}


def _rebuild(kind: type[LampPostError], detail: str, extra: dict[str, Any]) -> LampPostError:
    return kind(detail, **extra)


class BadRequest(LampPostError):
    """The request could not be read at all."""

    repeats_input = True
    code, status, title = "bad-request", 400, "The request cannot be read"


class BadJson(BadRequest):
    """The body is not JSON, or not JSON of a usable shape. is_syntax : whether it is no JSON at all."""

    is_syntax = False
    code, title = "bad-json", "The body is not the JSON that is expected"


class BadBody(BadRequest):
    """The body is not what its content type says, or lacks what every body of that kind has."""

    code, title = "bad-body", "The body is not what its content type says"


class Misdirected(BadRequest):
    """The request was sent to a name that is none of this node's."""

    code, status, title = "misdirected", 421, "The request was sent to another host"


class NotAcceptable(BadRequest):
    """The answer cannot be written in any of the types that the caller accepts."""

    repeats_input = False
    code, status, title = "not-acceptable", 406, "No answer can be given in the types that are accepted"


class WrongContentType(BadRequest):
    """The body is of a content type that this address does not read."""

    repeats_input = False
    code, status, title = "wrong-content-type", 415, "This content type is not read here"


class BodyTooLarge(BadRequest):
    """The body is over the byte limit."""

    repeats_input = False
    code, status, title = "body-too-large", 413, "The body is too large"


class RequestTooSlow(BadRequest):
    """The request does not come to an end."""

    code, status, title = "too-slow", 408, "The request did not come in time"


class HeadersTooLarge(BadRequest):
    """The request's headers are over the bounds."""

    code, status, title = "headers-too-large", 431, "The headers are too large"


class TooManyRows(BadRequest):
    """The request has more rows than one request may have."""

    repeats_input = False
    code, status, title = "too-many-rows", 413, "Too many rows in one request"


class InvalidRows(BadRequest):
    """Rows were read, and at least one value breaks the schema."""

    code, status, title = "invalid-rows", 422, "The rows do not fit the input schema"


class NotSignedIn(LampPostError):
    """No token or session came with the request, or it is not known."""

    code, status, title = "not-signed-in", 401, "A token is needed"


class NotAllowed(LampPostError):
    """The token is good, but its role does not cover this."""

    code, status, title = "not-allowed", 403, "This token may not do that"


class RateLimited(LampPostError):
    """The token comes more often than it may."""

    code, status, title = "too-often", 429, "This token comes too often"


class NotFound(LampPostError):
    """A name that nothing here has."""

    code, status, title = "not-found", 404, "There is nothing of that name"


class Conflict(LampPostError):
    """The request is well-formed, but the present state forbids it."""

    code, status, title = "conflict", 409, "That cannot be done in the present state"


class BreaksCallers(Conflict):
    """A change would refuse requests that callers sent of late and that were answered."""

    code, title = "breaks-callers", "Callers would be refused"


class ProofFailed(Conflict):
    """A version gave other answers than training did."""

    code, title = "proof-failed", "The version does not give the answers that training gave"


class PackageRefused(LampPostError):
    """A lamp file that is broken, hostile, or not allowed here."""

    code, status, title = "package-refused", 422, "The lamp file is refused"


class Unavailable(LampPostError):
    """Nothing can answer at the moment."""

    code, status, title = "unavailable", 503, "Nothing can answer at the moment"


class DatabaseAway(Unavailable):
    """PostgreSQL does not answer."""

    code, title = "database-away", "The database is away"


class HubAway(Unavailable):
    """The hub of an outpost does not answer; what was asked is to be asked again later."""

    code, title = "hub-away", "The hub is away"


class LaneFull(Unavailable):
    """The lane's queue is at its bound."""

    code, title = "lane-full", "Too many requests are waiting"


class DeadlinePassed(Unavailable):
    """The caller's own deadline passed before its rows could be run."""

    code, status, title = "too-late", 504, "The deadline has passed"


class ModelFault(LampPostError):
    """The model failed on a valid request, or its answer breaks its own output schema."""

    repeats_input = True
    code, status, title = "model-fault", 502, "The model failed on this request"


class LookupFault(ModelFault):
    """A value that was looked up is none that its field can be."""

    code, title = "lookup-fault", "A value that was looked up does not fit its field"


class OutputFull(LampPostError):
    """The disk or store that the output of a bulk run goes to takes no more, or cannot be written."""

    code, status, title = "output-full", 507, "There is no room for the output"


class ServerUnreachable(LampPostError):
    """The service did not answer (raised by clients)."""

    code, status, title = "server-unreachable", 503, "The service cannot be reached"


class SetupError(LampPostError):
    """Something this machine needs is missing or taken."""

    code, status, title = "setup", 503, "This machine lacks something"


def _tree(kind: type[LampPostError]) -> list[type[LampPostError]]:
    return [kind, *(leaf for child in kind.__subclasses__() for leaf in _tree(child))]


BY_CODE: dict[str, type[LampPostError]] = {kind.code: kind for kind in _tree(LampPostError)}


def from_problem(problem: dict[str, Any], status: int) -> LampPostError:
    """The error that a problem document stands for; an unknown type becomes the root class."""
    code = str(problem.get("type", "")).rpartition(":")[2]
    extra = {key: value for key, value in problem.items() if key not in ("type", "title", "status", "detail")}
    error = BY_CODE.get(code, LampPostError)(str(problem.get("detail", f"HTTP status {status}")), **extra)
    error.status = status
    return error
