"""Keeps log lines in files that rotate, and reads them backwards.

A thread writes, so that no call waits for the disk. When lines come faster than they can be written, some are dropped, and a line says how
many.
"""

from __future__ import annotations

import contextlib
import logging
import queue
import time
from collections.abc import Iterator
from logging.handlers import QueueHandler, QueueListener, RotatingFileHandler
from pathlib import Path

from lamppost.core.log_lines import LogFilter, LogLine, read_line, write_line

NAME = "lines.ndjson"
_FILES = 10
_MOST_WAITING = 10_000
_DAY_S = 86_400


class _LineFormatter(logging.Formatter):
    """Makes a line of JSON of a record."""

    def __init__(self, node: str) -> None:
        super().__init__()
        self._node = node
        self._last = 0

    def format(self, record: logging.LogRecord) -> str:
        self._last = max(self._last + 1, int(record.created * 1e6))
        trace = self.formatException(record.exc_info) if record.exc_info else None
        line = LogLine(
            at=record.created,
            number=self._last,
            node=self._node,
            level=record.levelname.lower(),
            source=record.name.removeprefix("lamppost."),
            message=record.getMessage(),
            version=getattr(record, "version", None),
            worker=getattr(record, "worker", None),
            request_id=getattr(record, "request_id", None),
            traceback=trace,
        )
        return write_line(line).decode()


class _DroppingQueueHandler(QueueHandler):
    """Hands records to the thread that writes; drops them while that is far behind."""

    def __init__(self, waiting: queue.Queue[logging.LogRecord]) -> None:
        super().__init__(waiting)
        self._waiting = waiting
        self._dropped = 0

    def prepare(self, record: logging.LogRecord) -> logging.LogRecord:
        """The record as it is: the thread beside shares this memory."""
        return record

    def enqueue(self, record: logging.LogRecord) -> None:
        try:
            if self._dropped:
                text = f"{self._dropped} lines were dropped: they came faster than they could be written"
                self._waiting.put_nowait(logging.makeLogRecord({"name": "lamppost.logs", "levelname": "WARNING", "msg": text}))
                self._dropped = 0
            self._waiting.put_nowait(record)
        except queue.Full:
            self._dropped += 1


class LogFiles:
    """The log files of one node.

    folder : for them alone. most_bytes, most_days : bounds on all files together; the oldest go first.
    """

    def __init__(self, folder: Path, node: str, most_bytes: int, most_days: int) -> None:
        self.folder = folder
        self._most_days = most_days
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        self._file = RotatingFileHandler(
            folder / NAME, maxBytes=max(1, most_bytes // _FILES), backupCount=_FILES - 1, encoding="utf-8", delay=True
        )
        self._file.setFormatter(_LineFormatter(node))
        waiting: queue.Queue[logging.LogRecord] = queue.Queue(_MOST_WAITING)
        self._handler = _DroppingQueueHandler(waiting)
        self._listener = QueueListener(waiting, self._file)

    def start(self) -> None:
        """Begin to keep what is logged in this process."""
        self.delete_old(time.time())
        self._listener.start()
        logging.getLogger().addHandler(self._handler)

    def close(self) -> None:
        """Write what waits, and end."""
        logging.getLogger().removeHandler(self._handler)
        self._listener.stop()
        self._file.close()

    def delete_old(self, now: float) -> None:
        """Delete files whose last line is older than the bound."""
        for path in self._files():
            with contextlib.suppress(FileNotFoundError):
                if path.stat().st_mtime < now - self._most_days * _DAY_S:
                    path.unlink()

    def find(self, wanted: LogFilter, limit: int) -> list[LogLine]:
        """The newest wanted lines, oldest first. limit : most lines."""
        found: list[LogLine] = []
        for line in self._backwards(wanted):
            if wanted.matches(line):
                found.append(line)
                if len(found) == limit:
                    break
        return found[::-1]

    def _backwards(self, wanted: LogFilter) -> Iterator[LogLine]:
        """Lines from the newest, back to the time that is asked for."""
        needle = wanted.needle
        for path in self._files():
            try:
                if path.stat().st_mtime < wanted.since:
                    return
                lines = path.read_bytes().split(b"\n")
            except FileNotFoundError:
                continue  # rotated just now
            for data in reversed(lines):
                if not data or (needle is not None and needle not in data):
                    continue
                line = read_line(data)
                if line is None:
                    continue
                if line.at < wanted.since:
                    return
                yield line

    def _files(self) -> list[Path]:
        """The files, newest first."""
        names = [NAME, *(f"{NAME}.{number}" for number in range(1, _FILES))]
        return [path for name in names if (path := self.folder / name).exists()]
