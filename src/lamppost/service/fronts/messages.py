"""Messages between a node and a front: frames over a Unix socket, several messages in one frame when they are sent together.

A frame is its length, a letter that says of which kind it is, and its content: messages as a JSON list of lists, each of which begins with
the name of the message, or records of calls as bytes.
"""

from __future__ import annotations

import asyncio
import struct
from collections.abc import Callable
from typing import Any, Literal

import orjson

from lamppost.core.errors import LampPostError, from_problem
from lamppost.store.call_records import CallBundle, join_bundles, split_bundle

_HEAD = struct.Struct("!Ic")
_MESSAGES, _RECORDS = b"m", b"r"

Message = list[Any]
MessageName = Literal[
    "settings", "tokens", "routes", "answer", "refuse", "take-over", "finish", "listening", "ask", "gone", "counts", "finished"
]


class MessageLink(asyncio.Protocol):
    """One end. take_message : gets each message. take_records : gets records of calls. lost : is called once when the other end is gone."""

    def __init__(
        self, take_message: Callable[[Message], None], take_records: Callable[[CallBundle], None], lost: Callable[[], None]
    ) -> None:
        self._take_message = take_message
        self._take_records = take_records
        self._on_lost = lost
        self._loop = asyncio.get_running_loop()
        self._transport: asyncio.Transport | None = None
        self._came = bytearray()
        self._waiting: list[Message] = []
        self.lost = False

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        """Begin to send."""
        self._transport = transport
        self._flush()

    def connection_lost(self, exc: Exception | None) -> None:  # noqa: ARG002 - asyncio's signature
        """Tell that the other end is gone."""
        self.lost = True
        self._on_lost()

    def close(self) -> None:
        """End the link when what was sent has left."""
        self._flush()
        if self._transport is not None:
            self._transport.close()

    def send(self, name: MessageName, *values: Any) -> None:
        """Send a message; all messages of one turn of the loop leave together."""
        if not self._waiting:
            self._loop.call_soon(self._flush)
        self._waiting.append([name, *values])

    def send_records(self, bundle: CallBundle) -> None:
        """Send records of calls."""
        self._write(_RECORDS, join_bundles([bundle]))

    def _flush(self) -> None:
        if self._transport is not None and self._waiting:
            waiting, self._waiting = self._waiting, []
            self._write(_MESSAGES, orjson.dumps(waiting, default=str))

    def _write(self, kind: bytes, content: bytes) -> None:
        if self._transport is not None and not self.lost:
            self._transport.write(_HEAD.pack(len(content), kind) + content)

    def data_received(self, data: bytes) -> None:
        """Hand on every message that is whole."""
        came = self._came
        came += data
        at, end = 0, len(came)
        while end - at >= _HEAD.size:
            length, kind = _HEAD.unpack_from(came, at)
            if end - at - _HEAD.size < length:
                break
            content = bytes(came[at + _HEAD.size : at + _HEAD.size + length])
            at += _HEAD.size + length
            if kind == _RECORDS:
                self._take_records(split_bundle(content))
            else:
                for message in orjson.loads(content):
                    self._take_message(message)
        del came[:at]


def error_to_values(error: LampPostError) -> tuple[dict[str, Any], str | None]:
    """An error as a message holds it: its problem document, and the version that failed."""
    return error.to_problem(), error.version


def error_from_values(problem: dict[str, Any], version: str | None) -> LampPostError:
    """The error that `error_to_values` wrote."""
    error = from_problem(problem, int(problem["status"]))
    error.version = version
    return error
