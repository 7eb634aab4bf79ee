"""Sets up the logging of the service, as text or as lines of JSON."""

from __future__ import annotations

import logging
from datetime import UTC, datetime

import orjson

from lamppost.core.names import escape_controls


class _AsJson(logging.Formatter):
    """Keys: at, level, from, message; request_id and traceback where a record has one."""

    def format(self, record: logging.LogRecord) -> str:
        entry: dict[str, object] = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "from": record.name,
            "message": record.getMessage(),
        }
        if (request_id := getattr(record, "request_id", None)) is not None:
            entry["request_id"] = request_id
        if record.exc_info:
            entry["traceback"] = self.formatException(record.exc_info)
        return orjson.dumps(entry).decode()


class _AsText(logging.Formatter):
    """A line for people. Messages hold what packages print and callers send, so control characters are shown, and a message is one line."""

    def format(self, record: logging.LogRecord) -> str:
        return escape_controls(super().format(record))

    def formatMessage(self, record: logging.LogRecord) -> str:  # noqa: N802 - of the standard library
        record.message = record.message.replace("\n", "\\n")
        return super().formatMessage(record)


def set_up_logging(as_json: bool) -> None:
    """Log to standard error."""
    handler = logging.StreamHandler()
    plain = _AsText("%(asctime)s %(levelname)-7s %(name)s: %(message)s", datefmt="%H:%M:%S")
    handler.setFormatter(_AsJson() if as_json else plain)
    logging.basicConfig(level=logging.INFO, handlers=[handler])
