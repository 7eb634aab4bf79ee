"""Tallowby's register of lamps: a small PostgreSQL of the town's own, which an endpoint looks lamps up in by their number."""

from __future__ import annotations

import secrets
from pathlib import Path

import psycopg

from demo.lamps import FIELDS, as_sent, make_lamps
from lamppost.store.postgres import PrivateServer

SOURCE = "town"
TABLE = "lamps"
LAMPS = 2_000
_READER = "lamppost_reader"


class Register:
    """`start` gives the URL for a role that may only read; `stop` ends the server."""

    def __init__(self, data: Path) -> None:
        self._server = PrivateServer(data / "register", durable=False)

    def start(self) -> str:
        """Fill the register the first time, and give the reading role a new password every time."""
        owner = self._server.start()
        password = secrets.token_urlsafe(16)
        with psycopg.connect(owner, autocommit=True) as connection:
            if not connection.execute("SELECT 1 FROM pg_tables WHERE tablename = %s", (TABLE,)).fetchone():
                _fill(connection)
            connection.execute(f"ALTER ROLE {_READER} PASSWORD '{password}'".encode())
        return psycopg.conninfo.make_conninfo(owner, user=_READER, password=password)

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
