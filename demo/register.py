"""Tallowby's register of lamps: a small PostgreSQL of the town's own, which an endpoint looks lamps up in by their number."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from contextlib import nullcontext
from pathlib import Path

import psycopg

from demo.lamps import FIELDS, as_sent, make_lamps
from lamppost.package.read import Lamp
from lamppost.packing.export.exporting import SqlOptions, export_package
from lamppost.store.postgres import PrivateServer

SOURCE = "town"
TABLE = "lamps"
LAMPS = 2_000
VIEW = "outage_risk"
_READER = "lamppost_reader"


class Register:
    """`start` gives the URL for a role that may only read; `stop` ends the server."""

    def __init__(self, data: Path) -> None:
        self._server = PrivateServer(data / "register", durable=False)
        self.owner = ""

    def start(self) -> str:
        """Fill the register the first time, and give the reading role a new password every time."""
        owner = self.owner = self._server.start()
        password = secrets.token_urlsafe(16)
        with psycopg.connect(owner, autocommit=True) as connection:
            if not connection.execute("SELECT 1 FROM pg_tables WHERE tablename = %s", (TABLE,)).fetchone():
                _fill(connection)
            connection.execute(f"ALTER ROLE {_READER} PASSWORD '{password}'".encode())
        return psycopg.conninfo.make_conninfo(owner, user=_READER, password=password)

    def compare_view(self, lamp: Lamp, answers: Mapping[int, Mapping[str, float]], folder: Path) -> int:
        """Make the view of a version's answers over the register, and count the lamps for which it says the same. answers : what the
        endpoint said, by the lamp's number: the score of each label.
        """
        file = folder / f"{VIEW}.sql"
        options = SqlOptions(lambda: nullcontext(self.owner), TABLE, ("number",), VIEW)
        export_package(lamp, "sql", file, frozenset({"skops"}), options)
        with psycopg.connect(self.owner, autocommit=True) as connection:
            connection.execute(f"DROP VIEW IF EXISTS {VIEW}".encode())
            connection.execute(file.read_bytes())
            connection.execute(f"GRANT SELECT ON {VIEW} TO {_READER}".encode())
            rows = connection.execute(
                f"SELECT number, scores_fails FROM {VIEW} WHERE number = ANY (%s)".encode(), (list(answers),)
            ).fetchall()
        return sum(abs(score - answers[number]["fails"]) < 1e-9 for number, score in rows)

    def stop(self) -> None:
        """End the server."""
        self._server.stop()


def _fill(connection: psycopg.Connection) -> None:
    types = {"district": "text", "lamp_type": "text", "maker": "text", "under_trees": "boolean", "nights_since_visit": "int"}
    columns = ", ".join(f"{name} {types.get(name, 'double precision')}" for name in FIELDS)
    with connection.transaction():
        connection.execute(f"CREATE TABLE {TABLE} (number int PRIMARY KEY, {columns})".encode())
        connection.execute(f"CREATE ROLE {_READER} LOGIN".encode())
        connection.execute(f"GRANT SELECT ON {TABLE} TO {_READER}".encode())
        with connection.cursor().copy(f"COPY {TABLE} (number, {', '.join(FIELDS)}) FROM STDIN".encode()) as copy:
            for number, row in enumerate(as_sent(make_lamps(LAMPS, seed=7).drop(columns="failed")), 1):
                copy.write_row((number, *(row[name] for name in FIELDS)))


def setup(version: str) -> dict[str, object]:
    """The setup of an endpoint that takes a lamp's number and looks up the rest."""
    lookup = {"source": SOURCE, "table": TABLE, "key": "lamp", "column": "number", "fields": {name: name for name in FIELDS}}
    return {"version": version, "lookups": [lookup | {"ttl_s": 300, "timeout_s": 2.0}]}
