"""Records as lines of the text format of PostgreSQL's COPY: what the spool keeps is what the database reads."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable
from datetime import UTC, date, datetime
from functools import lru_cache
from typing import NamedTuple

import orjson

from lamppost.core.histogram import bucket_of

COLUMNS = (
    "at",
    "request_id",
    "endpoint",
    "version",
    "token",
    "status",
    "row_count",
    "batch_rows",
    "total_us",
    "phases_us",
    "shadow",
    "trace",
    "input",
    "answer",
)
STORED = (*COLUMNS, "odd", "odd_why", "brought_by")
"""What goes into the database: how odd a call is, and whether it was answered elsewhere, is added on the way."""
WINDOW_S = 10
_DAY_1970 = date(1970, 1, 1).toordinal()
_NULL = b"\\N"
_SPECIAL = re.compile(rb"[\\\n\r\t]")
_ESCAPE = re.compile(rb"\\[\\nrt]")
_ESCAPED = {b"\\\\": b"\\", b"\\n": b"\n", b"\\r": b"\r", b"\\t": b"\t"}


class Call(NamedTuple):
    """One answered or refused request.

    at : seconds since 1970.
    version : ``model@number``, None when none was reached. batch_rows : rows the model ran together, None when it did
    not run. total_us : microseconds from the first byte read to the answer made, of a shadow from its copy to its answer.
    phases_us : JSON object of microseconds by phase. input, answer : JSON as bytes, None when not kept. trace : the valid traceparent
    that came with it, of which the trace's id is kept.
    """

    at: float
    request_id: str
    endpoint: str
    version: str | None
    token: str | None
    status: int
    rows: int
    batch_rows: int | None
    total_us: int
    phases_us: bytes
    input: bytes | None
    answer: bytes | None
    shadow: bool = False
    trace: str | None = None


def lines_of(calls: Iterable[Call]) -> bytes:
    """Calls as lines, one each, with `COLUMNS`; a third of the work of giving COPY value by value."""
    return b"".join(map(_line, calls))


@lru_cache(maxsize=8)
def _second(at: int) -> bytes:
    """A whole second as the start of a timestamp."""
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%S").encode()


@lru_cache(maxsize=4_096)
def _name(value: str | None) -> bytes:
    """Names come again and again."""
    return _NULL if value is None else _escaped(value.encode())


def _line(call: Call) -> bytes:
    at, request_id, endpoint, version, token, status, rows, batch, total_us, phases, asked, said, shadow, trace = call
    second = int(at // 1)
    return b"%s.%06d+00:00\t%s\t%s\t%s\t%s\t%d\t%d\t%s\t%d\t%s\t%s\t%s\t%s\t%s\n" % (
        _second(second),
        int((at - second) * 1e6),
        request_id.encode(),
        _name(endpoint),
        _name(version),
        _name(token),
        status,
        rows,
        _NULL if batch is None else b"%d" % batch,
        total_us,
        phases,
        b"t" if shadow else b"f",
        _NULL if trace is None else trace[3:35].encode(),
        _NULL if asked is None else _escaped(asked),
        _NULL if said is None else _escaped(said),
    )


def _escaped(value: bytes) -> bytes:
    if _SPECIAL.search(value) is None:
        return value
    value = value.replace(b"\\", b"\\\\")
    return value.replace(b"\n", b"\\n").replace(b"\r", b"\\r").replace(b"\t", b"\\t")


def of_first_format(lines: bytes) -> bytes:
    """Lines as they were before calls had a trace, with the column for it."""
    return b"".join(b"%s\t\\N\t%s\t%s\n" % tuple(line.rsplit(b"\t", 2)) for line in lines.split(b"\n") if line)


def without_payload(lines: bytes) -> bytes:
    """The same calls without input and answer."""
    return b"".join(b"%s\t\\N\t\\N\n" % line.rsplit(b"\t", 2)[0] for line in lines.split(b"\n") if line)


def _plain(value: bytes) -> bytes:
    """What `_escaped` made, as it was."""
    return _ESCAPE.sub(lambda found: _ESCAPED[found[0]], value) if b"\\" in value else value


class Seen(NamedTuple):
    """An answered call whose input and answer were kept, read back from its line."""

    at: float
    endpoint: str
    version: str | None
    input: bytes
    answer: bytes


def parse_line(line: bytes) -> Seen | None:
    """A call that a version answered; None for a shadow's, a refused or failed one, and one without payload."""
    parts = line.rstrip(b"\n").split(b"\t")
    at, _, endpoint, version, _, status, *_, shadow, _, asked, said = parts
    if status != b"200" or shadow == b"t" or asked == _NULL or said == _NULL:
        return None
    when = datetime.fromisoformat(at.decode()).timestamp()
    return Seen(when, _plain(endpoint).decode(), None if version == _NULL else _plain(version).decode(), _plain(asked), _plain(said))


def stored(line: bytes, odd: tuple[float, str] | None, brought_by: str | None) -> bytes:
    """A line with the columns of `STORED`."""
    score, why = (_NULL, _NULL) if odd is None else (b"%.3f" % odd[0], _escaped(odd[1].encode()) if odd[1] else _NULL)
    return b"%s\t%s\t%s\t%s\n" % (line.rstrip(b"\n"), score, why, _NULL if brought_by is None else _escaped(brought_by.encode()))


class Count(NamedTuple):
    """Calls of one kind within one window: of an endpoint, by a version (empty for none), with a status and a latency.

    at : start of the window, whole seconds since 1970. bucket : of `lamppost.core.histogram`.
    """

    endpoint: str
    version: str
    status: int
    at: int
    bucket: int
    shadow: bool


def count(lines: bytes) -> Counter[Count]:
    """How many calls of each kind stand in the lines."""
    counts: Counter[Count] = Counter()
    for line in lines.split(b"\n"):
        if line:
            at, _, endpoint, version, _, status, _, _, total_us, _, shadow, _ = line.split(b"\t", 11)
            window = int(datetime.fromisoformat(at.decode()).timestamp() // WINDOW_S * WINDOW_S)
            served = "" if version == _NULL else version.decode()
            counts[Count(endpoint.decode(), served, int(status), window, bucket_of(int(total_us)), shadow == b"t")] += 1
    return counts


class PhaseCount(NamedTuple):
    """Answered calls of one version within one window whose phase took so long. Under ``batch`` the bucket is of rows that ran together."""

    endpoint: str
    version: str
    at: int
    phase: str
    bucket: int


def count_phases(lines: bytes) -> Counter[PhaseCount]:
    """Where the time of the answered calls in the lines went; shadows are not counted."""
    spans: dict[tuple[bytes, bytes, int, str], list[int]] = {}
    for line in lines.split(b"\n"):
        if not line:
            continue
        at, _, endpoint, version, _, status, rows, batch, total_us, phases, shadow, _ = line.split(b"\t", 11)
        if status != b"200" or shadow == b"t" or version == _NULL:
            continue
        window = int(datetime.fromisoformat(at.decode()).timestamp() // WINDOW_S * WINDOW_S)
        took = orjson.loads(phases)
        took["total"], took["rows"] = int(total_us), int(rows)
        if batch != _NULL:
            took["batch"] = int(batch)
        for phase, us in took.items():
            spans.setdefault((endpoint, version, window, phase), []).append(us)
    counts: Counter[PhaseCount] = Counter()
    for (endpoint, version, window, phase), values in spans.items():
        for bucket, many in Counter(map(bucket_of, values)).items():
            counts[PhaseCount(_plain(endpoint).decode(), _plain(version).decode(), window, phase, bucket)] = many
    return counts


def counts_of(lines: bytes) -> bytes:
    """The counts of lines, as `read_counts` reads them."""
    return orjson.dumps([[*kind, calls] for kind, calls in count(lines).items()])


def read_counts(payload: bytes) -> Counter[Count]:
    """Counts that `counts_of` wrote."""
    return Counter({Count(*kind): calls for *kind, calls in orjson.loads(payload)})


def days(lines: bytes) -> set[date]:
    """The days (UTC) that the calls are of."""
    return {date.fromisoformat(day.decode()) for day in {line[:10] for line in lines.split(b"\n") if line}}
