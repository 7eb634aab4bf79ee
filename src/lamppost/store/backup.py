"""Dumps the database with ``pg_dump``, and puts a dump back with ``pg_restore``."""

from __future__ import annotations

import asyncio
import contextlib
import os
import secrets
import shutil
import subprocess
import tempfile
from collections.abc import AsyncIterator, Iterator
from contextlib import contextmanager
from typing import IO, Any

import psycopg
from psycopg import sql
from psycopg.conninfo import conninfo_to_dict
from psycopg.rows import TupleRow

from lamppost.core.errors import Conflict, SetupError, Unavailable
from lamppost.store.database import FORMER_SCHEMA, LEADER_LOCK, OWNER, SCHEMA, connect, make_schema, migrate, url_of_role
from lamppost.store.postgres import find_binaries

_PIECE_BYTES = 1 << 18
_RECORDS = ("call_blocks", "call_blocks_*", "outcomes", "explanations")
"""Tables that grow with each call, whose rows may be left out of a dump."""
_ENVIRONMENT = {"host": "PGHOST", "port": "PGPORT", "user": "PGUSER", "password": "PGPASSWORD", "dbname": "PGDATABASE"}


def find_program(name: str) -> str:
    """The path of ``pg_dump`` or ``pg_restore``: beside the newest server on this machine, else on PATH. Raise SetupError for none."""
    try:
        beside = find_binaries() / name
    except SetupError:
        beside = None
    if beside is not None and beside.exists():
        return str(beside)
    if found := shutil.which(name):
        return found
    raise SetupError(f"{name} is not installed; install PostgreSQL's client programs: apt-get install postgresql-client")


def connection_environment(url: str) -> dict[str, str]:
    """The variables by which PostgreSQL's programs find a database, so that its password stands on no command line."""
    parts = conninfo_to_dict(url)
    named = {variable: str(parts[key]) for key, variable in _ENVIRONMENT.items() if parts.get(key)}
    if "sslmode" in parts:
        named["PGSSLMODE"] = str(parts["sslmode"])
    return {"PATH": os.environ.get("PATH", ""), "LC_ALL": "C.UTF-8", **named}


async def dump_database(url: str, records: bool) -> AsyncIterator[bytes]:
    """The dump of Lamp Post's tables as of one moment, piece by piece, compressed. records : whether calls are in it.

    Raise Unavailable when ``pg_dump`` fails: before the first piece, if it cannot begin.
    """
    words = [find_program("pg_dump"), "--format=custom", "--no-owner", "--no-privileges", f"--schema={SCHEMA}"]
    if not records:
        words += [f"--exclude-table-data={SCHEMA}.{table}" for table in _RECORDS]
    process = await asyncio.create_subprocess_exec(
        *("nice", "-n", "10", *words),
        env=connection_environment(url),
        stdin=asyncio.subprocess.DEVNULL,
        stdout=asyncio.subprocess.PIPE,
        stderr=asyncio.subprocess.PIPE,
    )
    assert process.stdout is not None
    assert process.stderr is not None
    errors = asyncio.ensure_future(process.stderr.read())  # read meanwhile: a full pipe would hold the dump up
    try:
        while piece := await process.stdout.read(_PIECE_BYTES):
            yield piece
        if await process.wait():
            raise Unavailable(f"pg_dump failed: {(await errors).decode(errors='replace').strip()[-300:]}")
    finally:
        errors.cancel()
        if process.returncode is None:
            process.kill()
            await process.wait()


def restore_database(url: str, dump: IO[bytes], own_server: bool, replace: bool) -> int:
    """Put a dump into a database, and bring its tables up to this version.

    Returns how many tokens stayed revoked that the dump had in force.

    own_server : as for `migrate`. replace : whether what is in the database now may be lost; its revoked tokens stay revoked. Raise
    Conflict for a database in use, SetupError when ``pg_restore`` fails; the database is as before then.
    """
    migrate(url, own_server)
    with psycopg.connect(url, autocommit=True) as leading:  # until the end: nobody else begins to work with the database meanwhile
        if leading.execute("SELECT pg_catalog.pg_try_advisory_lock(%s)", (LEADER_LOCK,)).fetchone() != (True,):
            raise Conflict("a node works with this database; stop every node that uses it, then restore")
        if not replace and _in_use(leading):
            raise Conflict("the database holds models or endpoints already; give --replace to lose them, or restore into another folder")
        tokens_now = leading.execute(f"SELECT name, hash, revoked_at IS NOT NULL FROM {SCHEMA}.tokens".encode()).fetchall()
        _rename(url, SCHEMA, FORMER_SCHEMA)
        try:
            with psycopg.connect(url, autocommit=True) as connection:
                make_schema(connection, own_server)
            with _owner_url(url, own_server) as restoring:
                _run_restore(restoring, dump)
            migrate(url, own_server, restoring=True)
            stayed = _clean_up(url, tokens_now)
        except BaseException:
            _drop(url, SCHEMA)
            _rename(url, FORMER_SCHEMA, SCHEMA)
            raise
        _drop(url, FORMER_SCHEMA)  # from here on it is restored; the next start undoes a restore that was killed before
        return stayed


def _in_use(connection: psycopg.Connection[TupleRow]) -> bool:
    """Whether the database holds a model or an endpoint."""
    asked = f"SELECT EXISTS (SELECT 1 FROM {SCHEMA}.models) OR EXISTS (SELECT 1 FROM {SCHEMA}.endpoints)"
    return connection.execute(asked.encode()).fetchone() == (True,)


def _execute(url: str, statement: sql.Composed) -> None:
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(statement)


def _rename(url: str, schema: str, name: str) -> None:
    _execute(url, sql.SQL("ALTER SCHEMA {} RENAME TO {}").format(sql.Identifier(schema), sql.Identifier(name)))


def _drop(url: str, schema: str) -> None:
    _execute(url, sql.SQL("DROP SCHEMA IF EXISTS {} CASCADE").format(sql.Identifier(schema)))


@contextmanager
def _owner_url(url: str, own_server: bool) -> Iterator[str]:
    """A URL by which the dump is put back. On a private server that is the owner of the tables, who may sign in for as long as this takes:
    what a dump holds never runs as the superuser.
    """
    if not own_server:
        yield url
        return
    secret, role = secrets.token_urlsafe(24), sql.Identifier(OWNER)
    _execute(url, sql.SQL("ALTER ROLE {} LOGIN PASSWORD {}").format(role, sql.Literal(secret)))
    try:
        yield url_of_role(url, OWNER, secret)
    finally:
        _execute(url, sql.SQL("ALTER ROLE {} NOLOGIN PASSWORD NULL").format(role))


def _run_restore(url: str, dump: IO[bytes]) -> None:
    """Feed ``pg_restore`` with a dump; raise SetupError with its first line if it fails."""
    environment = connection_environment(url)
    words = ["--no-owner", "--no-privileges", "--exit-on-error", "--single-transaction", f"--schema={SCHEMA}"]
    with tempfile.TemporaryFile() as errors:
        process = subprocess.Popen(
            [find_program("pg_restore"), *words, f"--dbname={environment['PGDATABASE']}"],
            env=environment,
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=errors,
        )
        assert process.stdin is not None
        with contextlib.suppress(BrokenPipeError), process.stdin:
            shutil.copyfileobj(dump, process.stdin, _PIECE_BYTES)
        if process.wait():
            errors.seek(0)
            lines = errors.read().decode(errors="replace").strip().splitlines() or ["it says nothing"]
            raise SetupError(f"the backup cannot be put back: {lines[0][:300]}")


def _clean_up(url: str, tokens_now: list[tuple[Any, ...]]) -> int:
    """Revoke again what was revoked, keep the secrets that tokens have now, end browser sessions, and note it all in the trail."""
    with connect(url) as connection:
        stayed = 0
        for name, secret_hash, revoked in tokens_now:
            connection.execute("UPDATE tokens SET hash = %s, former_hash = NULL, former_until = NULL WHERE name = %s", (secret_hash, name))
            if revoked:
                stayed += connection.execute(
                    "UPDATE tokens SET revoked_at = now() WHERE name = %s AND revoked_at IS NULL", (name,)
                ).rowcount
        connection.execute("DELETE FROM sessions")
        connection.execute(
            "SELECT add_trail_entry('data folder', NULL, 'restored a backup', 'database', NULL, %s::json, NULL)",
            (f'{{"revoked_again": {stayed}}}',),
        )
    return stayed
