"""Log lines in files: kept within bounds, read backwards, without secrets."""

import logging
import os
import tempfile
import time
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.errors import BadRequest
from lamppost.core.log_lines import LogFilter, LogLine, read_line, without_secrets, write_line
from lamppost.service.logs.log_files import NAME, LogFiles
from lamppost.store.tokens import new_secret

log = logging.getLogger("lamppost.worker")


class Files(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory())) / "logs"
        log.setLevel(logging.INFO)
        self.addCleanup(log.setLevel, logging.NOTSET)
        log.propagate = True

    def kept(self, most_bytes: int = 10**6) -> LogFiles:
        files = LogFiles(self.folder, "north", most_bytes, 14)
        files.start()
        return files

    def test_lines_are_found_newest_last_by_what_they_are_about(self) -> None:
        files = self.kept()
        log.info("times@2 prints", extra={"version": "times@2", "worker": 71, "request_id": "r-1"})
        log.warning("times@21 is slow")
        log.debug("not kept")
        try:
            raise ValueError("no such lamp")
        except ValueError:
            log.exception("it failed")
        files.close()
        for wanted, messages in (
            (LogFilter(), ["times@2 prints", "times@21 is slow", "it failed"]),
            (LogFilter(level="warning"), ["times@21 is slow", "it failed"]),
            (LogFilter(about="times@2"), ["times@2 prints"]),
            (LogFilter(about="times"), ["times@2 prints", "times@21 is slow"]),
            (LogFilter(about="risk", versions=frozenset({"times@21"})), ["times@21 is slow"]),
            (LogFilter(about="71"), ["times@2 prints"]),
            (LogFilter(about="north", level="error"), ["it failed"]),
            (LogFilter(about="south"), []),
            (LogFilter(about="worker", contains="SLOW"), ["times@21 is slow"]),
            (LogFilter(contains="no such lamp"), ["it failed"]),
            (LogFilter(request_id="r-1"), ["times@2 prints"]),
            (LogFilter(since=time.time() + 60), []),
        ):
            with self.subTest(wanted):
                self.assertEqual([line.message for line in files.find(wanted, 10)], messages)
        lines = files.find(LogFilter(), 2)
        self.assertEqual([line.message for line in lines], ["times@21 is slow", "it failed"])
        self.assertIn("ValueError: no such lamp", str(lines[-1].traceback))
        self.assertEqual((self.folder.stat().st_mode & 0o777, lines[0].source), (0o700, "worker"))

    def test_the_bound_holds_and_the_newest_lines_stay(self) -> None:
        files = self.kept(most_bytes=50_000)
        for number in range(3_000):
            log.info("line %d", number)
        files.close()
        size = sum(path.stat().st_size for path in self.folder.iterdir())
        self.assertLess(size, 55_000)
        self.assertGreater(size, 40_000)
        found = files.find(LogFilter(), 5_000)
        self.assertEqual(found[-1].message, "line 2999")
        self.assertEqual([line.number for line in found], sorted({line.number for line in found}))

    def test_old_files_go_and_cut_lines_are_left_out(self) -> None:
        files = self.kept()
        log.info("whole")
        files.close()
        with (self.folder / NAME).open("ab") as file:
            file.write(b'{"at": 1, "numb')
        self.assertEqual([line.message for line in files.find(LogFilter(), 10)], ["whole"])
        old = self.folder / f"{NAME}.3"
        old.write_bytes(b"")
        os.utime(old, (0, 0))
        files.delete_old(time.time())
        self.assertEqual([path.name for path in self.folder.iterdir()], [NAME])

    def test_secrets_stand_in_no_line(self) -> None:
        secret = new_secret()
        files = self.kept()
        log.info("a token %s, postgresql://me:hunter2@db/x, Authorization: Bearer %s", secret, secret)
        files.close()
        written = (self.folder / NAME).read_text()
        self.assertNotIn(secret, written)
        self.assertNotIn("hunter2", written)
        self.assertIn("a token lamp_…", written)


class Values(unittest.TestCase):
    @given(st.text(max_size=60), st.sampled_from(["info", "error"]), st.none() | st.text(max_size=9), st.none() | st.integers(0, 99))
    def test_lines_are_read_as_they_were_written(self, text: str, level: str, version: str | None, worker: int | None) -> None:
        line = LogLine(1.5, 7, "north", level, "pool", text.replace("://", ""), version, worker)
        if without_secrets(line.message) == line.message and line.message.isprintable():
            self.assertEqual(read_line(write_line(line)), line)

    def test_what_is_no_line_is_none_and_levels_are_named(self) -> None:
        for data in (b"", b"{}", b"[1]", b'{"at": 1', write_line(LogLine(1, 1, "n", "loud", "s", "m"))):
            self.assertIsNone(read_line(data))
        with self.assertRaisesRegex(BadRequest, "levels are debug, info, warning, error, critical"):
            LogFilter(level="loud")
