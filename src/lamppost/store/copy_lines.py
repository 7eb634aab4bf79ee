"""Reads calls from spools of earlier software, which kept them as lines of the text format of PostgreSQL's COPY."""

from __future__ import annotations

import re
from datetime import datetime

import orjson

from lamppost.store.call_records import CallRecord

_NULL = b"\\N"
_ESCAPE = re.compile(rb"\\[\\nrt]")
_ESCAPES = ((b"\\", b"\\\\"), (b"\n", b"\\n"), (b"\r", b"\\r"), (b"\t", b"\\t"))
_ESCAPED = {escaped: plain for plain, escaped in _ESCAPES}


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
    """A field without what COPY escapes."""
    return _ESCAPE.sub(lambda escape: _ESCAPED[escape[0]], value) if b"\\" in value else value
