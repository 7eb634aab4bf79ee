"""Brings what a process beside the service logs into the service's own log: a line of JSON each, over its standard error."""

from __future__ import annotations

import asyncio
import logging

import orjson

from lamppost.runtime.stream_lines import lines_of

_LONGEST = 64 * 1024


class _AsFields(logging.Formatter):
    def format(self, record: logging.LogRecord) -> str:
        text = record.getMessage()
        if record.exc_info:
            text += "\n" + self.formatException(record.exc_info)
        return orjson.dumps({"level": record.levelno, "from": record.name, "message": text}).decode()


def send_log_lines(level: int) -> None:
    """In the process beside: send what is logged from this level on."""
    handler = logging.StreamHandler()
    handler.setFormatter(_AsFields())
    logging.basicConfig(level=level, handlers=[handler])


async def log_lines_of(stream: asyncio.StreamReader) -> None:
    """In the service: log what such a process sends, until it ends. What is no such line (a crash's last words) is logged as it is."""
    async for line in lines_of(stream):
        try:
            fields = orjson.loads(line)
            logging.getLogger(str(fields["from"])).log(int(fields["level"]), "%s", fields["message"])
        except (orjson.JSONDecodeError, KeyError, TypeError, ValueError):
            logging.getLogger("lamppost.records").error("%s", line[:_LONGEST].decode("utf-8", "replace").rstrip())
