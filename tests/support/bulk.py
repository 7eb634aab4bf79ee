"""A service with all that bulk runs need: a folder, a database, rows, and what calls answer to the first of them."""

import json
import subprocess
import unittest
from pathlib import Path
from typing import Any, ClassVar

import pandas as pd
import psycopg
from psycopg.conninfo import make_conninfo

from demo.lamps import make_lamps
from lamppost.core.errors import DatabaseAway
from lamppost.store.postgres import PrivateServer
from tests.support.lamps import outage_lamp
from tests.support.service import Service, until

ROWS = 20_000


def lamps(rows: int = ROWS, seed: int = 11) -> pd.DataFrame:
    frame = make_lamps(rows, seed).drop(columns="failed")
    frame.insert(0, "lamp_id", range(1_000, 1_000 + rows))
    return frame


class WithBulkRuns(unittest.TestCase):
    """Tests over a service with a folder, a database to read and to write, and ``outage-risk``; tests leave it running."""

    service: Service
    files: Path
    owner: str
    more_options: tuple[str, ...] = ()
    more_environment: ClassVar[dict[str, str]] = {}

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service()
        cls.files = cls.service.folder / "files"
        cls.files.mkdir()
        cls.server = PrivateServer(cls.service.folder / "theirs", durable=False)
        cls.addClassCleanup(cls.server.stop)
        cls.owner = cls.server.start()
        with psycopg.connect(cls.owner, autocommit=True) as connection:
            for role in ("reader", "writer"):
                connection.execute(f"CREATE ROLE {role} LOGIN PASSWORD '{role}'".encode())
            connection.execute("GRANT CREATE ON SCHEMA public TO writer")
        urls = {name: make_conninfo(cls.owner, user=name, password=name) for name in ("reader", "writer")}
        cls.service.options = (
            *("--allow-pickle", "--folder", f"files={cls.files}", "--source", "city=$READER", "--target", "office=$WRITER"),
            *("--target", "closed=$READER"),
            *cls.more_options,
        )
        cls.service.environment |= cls.more_environment | {name.upper(): url for name, url in urls.items()}
        cls.service.start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(outage_lamp())
        cls.frame = lamps()
        cls.frame.to_parquet(cls.files / "lamps.parquet", row_group_size=3_000)
        rows = cls.frame.head(300).to_dict("records")
        with cls.service.client() as client:
            asked = [{key: None if value != value else value for key, value in row.items() if key != "lamp_id"} for row in rows]
            cls.labels = [answer["label"] for answer in client.predict("outage-risk", asked).answers]
            cls.scores = [answer["scores"]["fails"] for answer in client.predict("outage-risk", asked).answers]

    def start(self, *words: str, of: str = "outage-risk", code: int = 0) -> subprocess.CompletedProcess[str]:
        done = self.service.run("bulk", "start", of, *words)
        self.assertEqual(done.returncode, code, done.stderr + done.stdout)
        return done

    def started(self, *words: str, of: str = "outage-risk") -> str:
        """The name of a run that is under way."""
        return str(json.loads(self.start(*words, "--no-wait", "--json", of=of).stdout)["name"])

    def facts(self, name: str) -> dict[str, Any]:
        with self.service.client() as client:
            found: dict[str, Any] = client.fetch("GET", f"/api/bulk/{name}")
        return found

    def ended(self, name: str) -> dict[str, Any]:
        def look() -> dict[str, Any] | None:
            try:
                facts = self.facts(name)
            except DatabaseAway:  # of the test that ends it
                return None
            return facts if facts["ended_at"] else None

        return until(look, 120, f"the end of {name}")

    def refused(self, *words: str, of: str = "outage-risk") -> str:
        return self.start(*words, of=of, code=1).stderr
