"""Writes calls as lines of the text format of PostgreSQL's COPY, and reads such lines from spools of earlier software."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from functools import lru_cache

import orjson

from lamppost.store.call_records import CallRecord

STORED = (
    *("at", "request_id", "endpoint", "version", "token", "status", "row_count", "batch_rows", "total_us", "phases_us", "shadow", "trace"),
    *("input", "answer", "odd", "odd_reason", "brought_by"),
)
"""What goes into the database: how odd a call is, and whether it was answered elsewhere, is known when it is brought there."""
_NULL = b"\\N"
_ESCAPE = re.compile(rb"\\[\\nrt]")
_ESCAPES = ((b"\\", b"\\\\"), (b"\n", b"\\n"), (b"\r", b"\\r"), (b"\t", b"\\t"))
_ESCAPED = {escaped: plain for plain, escaped in _ESCAPES}


@lru_cache(maxsize=8)
def _second(at: int) -> bytes:
    """A whole second as the start of a timestamp."""
    return datetime.fromtimestamp(at, UTC).strftime("%Y-%m-%dT%H:%M:%S").encode()


@lru_cache(maxsize=4_096)
def _name(value: str | None) -> bytes:
    """An escaped name, cached because names repeat."""
    return _NULL if value is None else _escaped(value.encode())


def copy_line(call: CallRecord, odd: tuple[float, str] | None = None, brought_by: str | None = None) -> bytes:
    """A call as a line of the columns `STORED`; a third of the work of passing values to COPY one by one. odd : its outlier score, and the
    reason.
    """
    at, request_id, endpoint, version, token, status, rows, batch, total_us, phases, sent, answer, shadow, trace = call
    second = int(at // 1)
    score, reason = (_NULL, _NULL) if odd is None else (b"%.3f" % odd[0], _escaped(odd[1].encode()) if odd[1] else _NULL)
    return b"%s.%06d+00:00\t%s\t%s\t%s\t%s\t%d\t%d\t%s\t%d\t%s\t%s\t%s\t%s\t%s\t%s\t%s\t%s\n" % (
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
        orjson.dumps(phases),
        b"t" if shadow else b"f",
        _NULL if trace is None else trace[3:35].encode(),
        _NULL if sent is None else _escaped(sent),
        _NULL if answer is None else _escaped(answer),
        score,
        reason,
        _name(brought_by),
    )


def _escaped(value: bytes) -> bytes:
    if 92 in value or 10 in value or 13 in value or 9 in value:  # four looks for a byte cost less than one for a pattern
        for plain, escaped in _ESCAPES:
            value = value.replace(plain, escaped)
    return value


def read_copy_lines(lines: bytes) -> list[CallRecord]:
    """Calls from the lines that earlier software kept in the spool: up to the answer, the first of it without a trace."""
    return [_call(line.split(b"\t")) for line in lines.split(b"\n") if line]


def _call(parts: list[bytes]) -> CallRecord:
    texts = [None if part == _NULL else _plain(part) for part in parts]
    at, request_id, endpoint, version, token = (None if text is None else text.decode() for text in texts[:5])
    batch = None if texts[7] is None else int(texts[7])
    status, rows, total_us = (int(text or 0) for text in (texts[5], texts[6], texts[8]))
    assert at is not None
    assert request_id is not None
    assert endpoint is not None
    phases = orjson.loads(texts[9] or b"{}")
    trace = f"00-{parts[11].decode()}" if len(parts) > 13 and parts[11] != _NULL else None
    when = datetime.fromisoformat(at).timestamp()
    shadow, sent, answer = parts[10] == b"t", texts[-2], texts[-1]
    return CallRecord(when, request_id, endpoint, version, token, status, rows, batch, total_us, phases, sent, answer, shadow, trace)


def _plain(value: bytes) -> bytes:
    """The text that `_escaped` made this of."""
    return _ESCAPE.sub(lambda escape: _ESCAPED[escape[0]], value) if b"\\" in value else value
