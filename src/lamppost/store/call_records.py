"""Records of calls: their fields, their form as bytes in the spool, and their counts."""

from __future__ import annotations

import struct
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, date, datetime
from typing import NamedTuple

import orjson

from lamppost.core.monitoring.latency_histogram import bucket_counts
from lamppost.core.roles import is_load

WINDOW_S = 10
_SIZES = struct.Struct("!II")


class CallRecord(NamedTuple):
    """One answered or refused request.

    at : seconds since 1970.
    version : ``model@number``, None when none was reached. batch_rows : rows the model ran together, None when it did
    not run. total_us : microseconds from the first byte read to the answer made, of a shadow from its copy to its answer.
    phases_us : microseconds by phase. input, answer : JSON as bytes, None when not kept. trace : the valid traceparent
    that came with it, of which the database keeps the trace's id.
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
    phases_us: Mapping[str, int]
    input: bytes | None
    answer: bytes | None
    shadow: bool = False
    trace: str | None = None


class CallBundle(NamedTuple):
    """Calls on their way to the spool. heads : JSON of all but their payloads, one after the other. payloads : inputs and answers."""

    calls: int
    heads: bytes
    payloads: bytes


def bundle_calls(calls: Iterable[CallRecord]) -> CallBundle:
    """Calls as bytes.

    The service's process does this between answers, so it takes one pass of the serialiser and does not read payloads.
    """
    heads: list[tuple[object, ...]] = []
    payloads: list[bytes] = []
    for call in calls:
        sent, answer = call.input, call.answer
        heads.append((*call[:10], None if sent is None else len(sent), None if answer is None else len(answer), *call[12:]))
        if sent:
            payloads.append(sent)
        if answer:
            payloads.append(answer)
    return CallBundle(len(heads), orjson.dumps(heads)[1:-1], b"".join(payloads))


def join_bundles(bundles: Sequence[CallBundle]) -> bytes:
    """Bundles as one: the number of calls, the length of their heads, these as one JSON list, and all inputs and answers."""
    heads = b",".join([bundle.heads for bundle in bundles])
    sizes = _SIZES.pack(sum(bundle.calls for bundle in bundles), len(heads) + 2)
    return b"".join((sizes, b"[", heads, b"]", *(bundle.payloads for bundle in bundles)))


def split_bundle(joined: bytes) -> CallBundle:
    """The one bundle that `join_bundles` made of one or several."""
    calls, length = _SIZES.unpack_from(joined)
    start = _SIZES.size
    return CallBundle(calls, joined[start + 1 : start + length - 1], joined[start + length :])


def pack_calls(calls: Iterable[CallRecord]) -> bytes:
    """Calls as the payload of one frame of the spool."""
    return join_bundles([bundle_calls(calls)])


def unpack_calls(data: bytes) -> list[CallRecord]:
    """What `pack` made bytes of."""
    _, length = _SIZES.unpack_from(data)
    place = _SIZES.size + length
    calls = []
    for head in orjson.loads(memoryview(data)[_SIZES.size : place]):
        for at in (10, 11):
            if head[at] is not None:
                place, start = place + head[at], place
                head[at] = data[start:place]
        calls.append(CallRecord(*head))
    return calls


def strip_payloads(calls: Iterable[CallRecord]) -> list[CallRecord]:
    """The same calls without input and answer."""
    return [call._replace(input=None, answer=None) for call in calls]


class CallCount(NamedTuple):
    """Calls of one kind within one window: of an endpoint, by a version (empty for none), with a status and a latency.

    at : start of the window, whole seconds since 1970. bucket : of `lamppost.core.monitoring.latency_histogram`.
    """

    endpoint: str
    version: str
    status: int
    at: int
    bucket: int
    shadow: bool


def load_tokens(calls: Sequence[CallRecord]) -> set[str | None]:
    """The tokens of loads that are among the tokens of calls."""
    return {token for token in {call.token for call in calls} if is_load(token)}


def without_loads(calls: Sequence[CallRecord]) -> Sequence[CallRecord]:
    """The calls that count as traffic: those of loads are left out."""
    loads = load_tokens(calls)
    return [call for call in calls if call.token not in loads] if loads else calls


def count_calls(calls: Iterable[CallRecord]) -> Counter[CallCount]:
    """The number of calls of each kind."""
    kinds: dict[tuple[str, str | None, int, int, bool], list[int]] = {}
    for call in calls:
        kinds.setdefault((call.endpoint, call.version, call.status, _window(call), call.shadow), []).append(call.total_us)
    counts: Counter[CallCount] = Counter()
    for (endpoint, version, status, at, shadow), took in kinds.items():
        for bucket, many in bucket_counts(took):
            counts[CallCount(endpoint, version or "", status, at, bucket, shadow)] += many
    return counts


class PhaseCount(NamedTuple):
    """Answered calls of one version within one window whose phase took so long. Under ``batch`` the bucket is of rows that ran together."""

    endpoint: str
    version: str
    at: int
    phase: str
    bucket: int


def count_phases(calls: Iterable[CallRecord]) -> Counter[PhaseCount]:
    """Durations of answered calls by phase; shadows are not counted."""
    kinds: dict[tuple[str, str, int, tuple[str, ...]], list[tuple[int, ...]]] = {}
    for call in calls:
        if call.status == 200 and not call.shadow and call.version is not None:
            took = call.phases_us
            names, values = (*took, "total", "rows"), (*took.values(), call.total_us, call.rows)
            if call.batch_rows is not None:
                names, values = (*names, "batch"), (*values, call.batch_rows)
            kinds.setdefault((call.endpoint, call.version, _window(call), names), []).append(values)
    counts: Counter[PhaseCount] = Counter()
    for (endpoint, version, at, names), spans in kinds.items():
        for phase, column in zip(names, zip(*spans, strict=True), strict=True):
            for bucket, many in bucket_counts(column):
                counts[PhaseCount(endpoint, version, at, phase, bucket)] += many
    return counts


def _window(call: CallRecord) -> int:
    return int(call.at // WINDOW_S * WINDOW_S)


def write_counts(counts: Mapping[CallCount, int]) -> bytes:
    """Counts as JSON."""
    return orjson.dumps([[*kind, calls] for kind, calls in counts.items()])


def read_counts(data: bytes) -> Counter[CallCount]:
    """Counts that `write_counts` wrote."""
    return Counter({CallCount(*kind): calls for *kind, calls in orjson.loads(data)})


def days_of_calls(calls: Sequence[CallRecord]) -> set[date]:
    """The days (UTC) of calls."""
    return {datetime.fromtimestamp(day * 86_400, UTC).date() for day in {int(call.at // 86_400) for call in calls}}
