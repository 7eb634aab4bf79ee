"""Tables as an earlier version of the service left them."""

import hashlib
from pathlib import Path

import psycopg
from psycopg.rows import TupleRow

from lamppost.store import database

MIGRATIONS = Path(database.__file__).parent / "migrations"


def apply_migrations(connection: psycopg.Connection[TupleRow], last: int) -> None:
    """Make the tables of the schema ``public`` up to a migration's number, and note them as that version did."""
    connection.execute("CREATE TABLE migrations (name text PRIMARY KEY, sha256 text NOT NULL, applied_at timestamptz DEFAULT now())")
    for file in sorted(MIGRATIONS.glob("*.sql")):
        if int(file.name[:4]) <= last:
            connection.execute(file.read_bytes())
            checksum = hashlib.sha256(file.read_bytes()).hexdigest()
            connection.execute("INSERT INTO migrations (name, sha256) VALUES (%s, %s)", (file.name, checksum))


def migrations_after(last: int) -> list[str]:
    """The migrations that such tables still lack."""
    return [file.name for file in sorted(MIGRATIONS.glob("*.sql")) if int(file.name[:4]) > last]
