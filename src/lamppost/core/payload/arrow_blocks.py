"""Cuts an Arrow stream that arrives in pieces into streams of one batch each, and joins such streams again.

The frame of a message is that of the IPC streaming format: a mark, the size of its metadata, the metadata (a flatbuffer, of which three
numbers are read here: the kind of message, the size of its body, the rows of a batch), the body.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

from lamppost.core.errors import BadBody
from lamppost.core.payload.line_blocks import MAX_RECORD_BYTES

END = b"\xff\xff\xff\xff\x00\x00\x00\x00"
_SCHEMA, _DICTIONARY, _BATCH = 1, 2, 3
_MARK = b"\xff\xff\xff\xff"
MAX_METADATA_BYTES = 2**20
_MAX_REPEATED = 64 * 2**20
"""Bytes of dictionaries that are decoded again for later batches, beyond which their batches are too small."""
Buffer = bytes | bytearray | memoryview


@dataclass(frozen=True, slots=True)
class _Message:
    """kind : of its header, 0 at the end of a stream. rows : of a batch. size : with frame and body."""

    kind: int
    rows: int
    size: int


def _number(form: str, data: Buffer, at: int) -> int:
    value: int = struct.unpack_from(form, data, at)[0]
    return value


def _field(data: Buffer, table: int, index: int) -> int:
    """Where a field of a flatbuffer's table stands, 0 where it is left out."""
    entries = table - _number("<i", data, table)
    if 4 + 2 * index >= _number("<H", data, entries):
        return 0
    offset = _number("<H", data, entries + 4 + 2 * index)
    return table + offset if offset else 0


def _batch_facts(metadata: Buffer, kind: int, header_at: int) -> tuple[int, bool]:
    """Rows of a batch, and whether it is compressed; of a dictionary the same of its values."""
    table = header_at + _number("<I", metadata, header_at)
    if kind == _DICTIONARY:
        values_at = _field(metadata, table, 1)
        if not values_at:
            return 0, False
        table = values_at + _number("<I", metadata, values_at)
    elif kind != _BATCH:
        return 0, False
    rows_at = _field(metadata, table, 0)
    return _number("<q", metadata, rows_at) if rows_at else 0, _field(metadata, table, 3) != 0


def check_messages(stream: bytes) -> None:
    """Raise BadBody unless a whole stream has messages of the usual kinds, uncompressed and not too large.

    What a compressed stream unpacks to is known only when it has been unpacked.
    """
    at = 0
    view = memoryview(stream)
    while at < len(stream):
        message = _next(view[at : at + MAX_METADATA_BYTES + 8])
        if message is None or message.kind == 0:
            return
        at += message.size


def _next(data: Buffer) -> _Message | None:
    """The message that ``data`` begins with, None while its metadata is not whole; raise BadBody for what is none."""
    start = 8 if data[:4] == _MARK else 4
    if len(data) < start:
        return None
    size = _number("<i", data, start - 4)
    if size == 0:
        return _Message(0, 0, start)
    if not 0 < size <= MAX_METADATA_BYTES:
        raise BadBody(
            f"the Arrow stream announces {size:,} bytes of metadata, and {MAX_METADATA_BYTES:,} are allowed; it may be no Arrow stream"
        )
    if len(data) < start + size:
        return None
    metadata = data[start : start + size]
    try:
        root = _number("<I", metadata, 0)
        kind_at, header_at, body_at = (_field(metadata, root, index) for index in (1, 2, 3))
        kind = metadata[kind_at] if kind_at else 0
        body = _number("<q", metadata, body_at) if body_at else 0
        rows, compressed = _batch_facts(metadata, kind, header_at) if header_at else (0, False)
    except (struct.error, IndexError) as error:
        raise BadBody("the Arrow stream has a message that cannot be read; it is damaged, or cut short") from error
    if kind not in (_SCHEMA, _DICTIONARY, _BATCH):
        raise BadBody(f"the Arrow stream has a message of the kind {kind}, and only schemas, dictionaries and batches are read")
    if compressed:
        raise BadBody("the Arrow stream is compressed, and its size unpacked cannot be told; send it without compression")
    if not 0 <= body <= MAX_RECORD_BYTES:
        raise BadBody(f"the Arrow stream announces {body:,} bytes for one batch; send batches of {MAX_RECORD_BYTES:,} bytes at most")
    return _Message(kind, rows, start + size + body)


class ArrowBlocks:
    """`feed` what came and take the streams it gives, one for each batch that has rows; `finish` at the end."""

    def __init__(self) -> None:
        self._held = bytearray()
        self._before = bytearray()
        self._repeated = 0
        self._needed = 0  # bytes before there is anything new to see
        self._ended = False

    def feed(self, data: bytes) -> list[bytes]:
        """Streams that are whole now; raise BadBody for what is no Arrow stream, or has a part that is too large to be held."""
        self._held += data
        blocks: list[bytes] = []
        while len(self._held) > self._needed and (message := _next(self._held)) is not None:
            if self._ended:
                raise BadBody("the Arrow stream goes on after its end")
            if len(self._held) < message.size:
                self._needed = message.size - 1
                break
            whole = bytes(self._held[: message.size])
            del self._held[: message.size]
            self._needed = 0
            if message.kind == 0:
                self._ended = True
            elif message.kind == _BATCH:
                if message.rows:
                    self._repeated += len(self._before)
                    if self._repeated > _MAX_REPEATED:
                        raise BadBody("the Arrow stream has large dictionaries and small batches; send larger batches, or plain strings")
                    blocks.append(bytes(self._before) + whole + END)
            else:
                self._before += whole
                if len(self._before) > MAX_RECORD_BYTES:
                    raise BadBody(f"the dictionaries of the Arrow stream have over {MAX_RECORD_BYTES:,} bytes; send plain strings")
        return blocks

    def finish(self) -> list[bytes]:
        """Nothing more; raise BadBody for a stream that was cut short."""
        if self._held:
            raise BadBody("the Arrow stream is cut short inside a message")
        return []


def continue_stream(stream: bytes, first: bool) -> bytes:
    """A whole stream as a piece of a longer one: without its end, and without its schema unless it is the first piece."""
    start = 0
    if not first and (schema := _next(stream)) is not None:
        start = schema.size
    return stream[start:].removesuffix(END)
