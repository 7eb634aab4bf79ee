"""The process that brings records to the database is ended under load: every call is stored, once, and counted, once."""

import json
import os
import signal
from pathlib import Path
from typing import Any

import psycopg

from tests.support.service import WithService, until
from tests.support.watching import usual


class RecordWriters(WithService):
    def record_writer(self) -> int | None:
        """Its process id."""
        assert self.service.process is not None
        children = Path(f"/proc/{self.service.process.pid}/task").glob("*/children")
        for pid in {int(pid) for file in children for pid in file.read_text().split()}:
            try:
                if b"lamppost.service.records.record_writer" in Path(f"/proc/{pid}/cmdline").read_bytes():
                    return pid
            except OSError:
                continue
        return None

    def stored(self) -> list[int]:
        """Calls, their ids, rows that were counted, and calls whose time was."""
        wanted = (
            "SELECT count(*) FROM calls",
            "SELECT count(DISTINCT request_id) FROM calls",
            "SELECT coalesce(sum(row_count), 0) FROM sketches",
            "SELECT coalesce(sum(calls), 0) FROM phases WHERE phase = 'total'",
        )
        with psycopg.connect(self.service.database()) as connection:
            return [int((connection.execute(query).fetchone() or (0,))[0]) for query in wanted]

    def all_brought(self) -> dict[str, Any]:
        """What the node says of itself once every record is in the database."""
        with self.service.client() as client:
            return until(lambda: (said := client.fetch("GET", "/api/node"))["records_waiting"] == 0 and said, 30, "the last record")

    def test_what_it_had_in_hand_is_brought_by_the_next(self) -> None:
        rows, sent = usual(40, 3), 0
        self.all_brought()
        ended, there = set(), self.stored()
        for _ in range(4):
            for row in rows:
                self.assertEqual(self.service.post("/predict/outage-risk", json.dumps(row)).status_code, 200)
                sent += 1
            pid = until(self.record_writer, what="a record writer")
            ended.add(pid)
            os.kill(pid, signal.SIGKILL)
        self.assertEqual(self.all_brought()["records_dropped"], 0)
        self.assertGreater(len(ended), 1, "another was started")
        self.assertEqual([after - before for after, before in zip(self.stored(), there, strict=True)], [sent] * 4)

    def test_it_ends_with_the_service(self) -> None:
        self.service.post("/predict/outage-risk", json.dumps(usual(1, 4)[0]))
        pid = until(self.record_writer, what="a record writer")
        self.service.kill()
        until(lambda: not Path(f"/proc/{pid}/stat").exists() or " Z " in Path(f"/proc/{pid}/stat").read_text(), 20, "its end")
        self.service.start()
