"""Sets up the logging of the service, as text or as lines of JSON."""

from __future__ import annotations

import logging
from datetime import UTC, datetime

import orjson

from lamppost.core.names import escape_controls

_OF_WORKERS = ("version", "worker", "request_id")
"""What a record says about the code that printed it."""


class _AsJson(logging.Formatter):
    """Keys: at, level, from, message; version, worker, request_id and traceback where a record has them."""

    def format(self, record: logging.LogRecord) -> str:
        entry: dict[str, object] = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "from": record.name,
            "message": record.getMessage(),
        }
        entry |= {key: value for key in _OF_WORKERS if (value := getattr(record, key, None)) is not None}
        if record.exc_info:
            entry["traceback"] = self.formatException(record.exc_info)
        return orjson.dumps(entry).decode()


class _AsText(logging.Formatter):
    """A line for people. Messages hold what packages print and callers send, so control characters are shown, and a message is one line."""

    def format(self, record: logging.LogRecord) -> str:
        return escape_controls(super().format(record))

    def formatMessage(self, record: logging.LogRecord) -> str:  # noqa: N802 - of the standard library
        worker, request_id = getattr(record, "worker", None), getattr(record, "request_id", None)
        who = "" if worker is None else f"{getattr(record, 'version', '?')} (worker {worker}): "
        of = "" if worker is None or request_id is None else f"[request {request_id}] "
        record.message = who + of + record.message.replace("\n", "\\n")
        return super().formatMessage(record)


def set_up_logging(as_json: bool) -> None:
    """Log to standard error."""
    handler = logging.StreamHandler()
    plain = _AsText("%(asctime)s %(levelname)-7s %(name)s: %(message)s", datefmt="%H:%M:%S")
    handler.setFormatter(_AsJson() if as_json else plain)
    logging.basicConfig(level=logging.INFO, handlers=[handler])
