"""Looks fields up in PostgreSQL tables that the operator named, through a role that may only read.

While one query is on its way, the keys that other requests need gather, and go together in the next: one row at a time or a thousand,
there is one query out for each table. What was read is used again for its time to live.
"""

from __future__ import annotations

import asyncio
import base64
import logging
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import replace
from datetime import date, datetime
from decimal import Decimal
from typing import Any

import psycopg
from cachetools import TTLCache
from psycopg import sql
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from lamppost.core.endpoint.setup import LookupSetup
from lamppost.core.errors import Conflict, Fault, InvalidRows, LampPostError, LookupFault, Unavailable
from lamppost.core.names import closest_name, unknown_name
from lamppost.core.payload.validation_plan import Row, ValidationPlan
from lamppost.core.schema.fields import Field, Schema, find_field
from lamppost.core.schema.value_kinds import shortened_json
from lamppost.store.database import Pool

log = logging.getLogger("lamppost.lookups")

_MAX_KEPT = 100_000
_MAX_KEYS = 5_000
_CHECK_S = 10.0
_WHOLE = frozenset({"smallint", "integer", "bigint"})


class LookupSources:
    """The databases for look-ups, by the names that the operator gave them."""

    def __init__(self, urls: Mapping[str, str]) -> None:
        self._urls = urls
        self._pools: dict[str, Pool] = {}
        self._opening = asyncio.Lock()

    async def source_pool(self, source: str) -> Pool:
        """Connections to a source, every one of them read only; raise Conflict for an unknown one."""
        if source not in self._urls:
            raise Conflict(unknown_name("source", source, self._urls, f"--source {source}=URL"))
        async with self._opening:
            if source not in self._pools:
                pool: Pool = AsyncConnectionPool(
                    self._urls[source],
                    kwargs={"autocommit": True, "connect_timeout": 5, "options": "-c default_transaction_read_only=on"},
                    min_size=0,
                    max_size=8,
                    timeout=30.0,
                    open=False,
                )
                await pool.open()
                self._pools[source] = pool
        return self._pools[source]

    async def resolve_lookup(self, lookup: LookupSetup) -> LookupSetup:
        """The look-up with the kind of its key; raise Conflict unless table and columns are there and the role may only read them."""
        pool = await self.source_pool(lookup.source)
        try:
            async with asyncio.timeout(_CHECK_S), pool.connection() as connection:
                table = _table(lookup).as_string(connection)
                rights = (
                    "SELECT has_table_privilege(%(t)s, 'INSERT') OR has_table_privilege(%(t)s, 'UPDATE') OR"
                    " has_table_privilege(%(t)s, 'DELETE'), has_table_privilege(%(t)s, 'SELECT'), current_user"
                )
                writes, reads, user = await _row(connection, rights, {"t": table})
                if writes or not reads:
                    may = "may change it" if writes else "may not read it"
                    raise Conflict(
                        f"the source {lookup.source} signs in as {user!r}, which {may}: {lookup.table}; give it a role that may only read: "
                        f"GRANT SELECT ON {lookup.table} TO …"
                    )
                types = await (
                    await connection.execute(
                        "SELECT attname, format_type(atttypid, NULL) FROM pg_attribute"
                        " WHERE attrelid = %s::regclass AND attnum > 0 AND NOT attisdropped",
                        (table,),
                    )
                ).fetchall()
                columns: dict[str, str] = dict(types)
                for column in (lookup.column, *lookup.fields.values()):
                    if column not in columns:
                        like = closest_name(column, columns)
                        raise Conflict(f"{lookup.table} has no column {column!r}" + (f"; did you mean {like}?" if like else ""))
                key = sql.Identifier(lookup.column)
                first = sql.SQL("SELECT {key} FROM {table} WHERE {key} IS NOT NULL LIMIT 1").format(key=key, table=_table(lookup))
                row = await (await connection.execute(first)).fetchone()
        except (psycopg.Error, PoolTimeout, TimeoutError) as error:
            raise Conflict(f"the look-up in {lookup.table} of {lookup.source} cannot be made: {_error_text(error)}") from error
        whole = columns[lookup.column] in _WHOLE
        example = None if row is None else int(row[0]) if whole else str(row[0])
        return replace(lookup, key_kind="integer" if whole else "text", example=example)

    async def close(self) -> None:
        """Close every connection."""
        for pool in self._pools.values():
            await pool.close()


class LookupTable:
    """One look-up in force. lookup : what was set. schema : the fields that it gives."""

    def __init__(self, sources: LookupSources, lookup: LookupSetup, inputs: Schema) -> None:
        self.lookup = lookup
        self.schema = Schema(tuple(field for name in lookup.fields if (field := find_field(inputs, name)) is not None))
        key = find_field(inputs, lookup.key)
        self._private = key is not None and key.private
        self._sources = sources
        self._plan = ValidationPlan(self.schema)
        self._rows: TTLCache[Any, Row | None] = TTLCache(_MAX_KEPT, lookup.ttl_s)
        self._asked: dict[Any, asyncio.Future[Row | None]] = {}
        self._pump: asyncio.Task[None] | None = None
        names = [lookup.column, *(lookup.fields[field.name] for field in self.schema)]
        query = "SELECT {columns} FROM {table} WHERE {key} = ANY(%s)"
        self._query = sql.SQL(query).format(
            columns=sql.SQL(", ").join(sql.Identifier(name) for name in names), table=_table(lookup), key=sql.Identifier(lookup.column)
        )

    async def fetch_rows(self, keys: set[Any]) -> dict[Any, Row | None]:
        """The row of each key, None for a key that the table does not have; raise Unavailable when it does not answer in time."""
        rows_by_key: dict[Any, Row | None] = {}
        waits: dict[Any, asyncio.Future[Row | None]] = {}
        for key in keys:
            try:
                rows_by_key[key] = self._rows[key]
            except KeyError:
                waits[key] = self._ask(key)
        if waits:
            try:
                async with asyncio.timeout(self.lookup.timeout_s):
                    values = await asyncio.gather(*map(asyncio.shield, waits.values()))
            except TimeoutError:
                raise Unavailable(
                    f"the look-up in {self.lookup.table} of {self.lookup.source} took longer than {self.lookup.timeout_s:g} s; try again",
                    retry_after_s=1,
                ) from None
            rows_by_key.update(zip(waits, values, strict=True))
        return rows_by_key

    def fields_of_key(self, key: Any, rows_by_key: Mapping[Any, Row | None], row: int) -> Row:
        """The fields of one row; raise InvalidRows for a key that the table does not know, where such are refused."""
        known = rows_by_key[key]
        if known is not None:
            return known
        if self.lookup.unknown == "missing" and all(field.missing for field in self.schema):
            return {field.name: None for field in self.schema}
        given = "a private value" if self._private else shortened_json(key)
        fault = Fault(row, self.lookup.key, given, f"a key that is in the table {self.lookup.table}")
        raise InvalidRows(fault.sentence(), faults=[fault.to_dict()])

    def _ask(self, key: Any) -> asyncio.Future[Row | None]:
        future = self._asked.get(key)
        if future is None:
            future = self._asked[key] = asyncio.get_running_loop().create_future()
            future.add_done_callback(_looked_at)
            if self._pump is None or self._pump.done():
                self._pump = asyncio.create_task(self._run(), name=f"look-ups in {self.lookup.table}")
        return future

    async def _run(self) -> None:
        """One query after another, each with all the keys that gathered."""
        while self._asked:
            batch = dict(list(self._asked.items())[:_MAX_KEYS])
            for key in batch:
                del self._asked[key]
            try:
                rows = await self._fetch(list(batch))
            except LampPostError as error:
                for future in batch.values():
                    future.set_exception(type(error)(error.detail, **error.extra))
                continue
            for key, future in batch.items():
                value = rows.get(key)
                if isinstance(value, LampPostError):
                    future.set_exception(value)
                    continue
                self._rows[key] = value
                future.set_result(value)

    async def _fetch(self, keys: list[Any]) -> dict[Any, Row | LampPostError]:
        lookup = self.lookup
        try:
            pool = await self._sources.source_pool(lookup.source)
            async with asyncio.timeout(lookup.timeout_s), pool.connection() as connection:
                rows = await (await connection.execute(self._query, (keys,), prepare=True)).fetchall()
        except TimeoutError as error:
            raise Unavailable(
                f"the look-up in {lookup.table} of {lookup.source} took longer than {lookup.timeout_s:g} s; try again", retry_after_s=1
            ) from error
        except (psycopg.Error, PoolTimeout, OSError, Conflict) as error:
            log.warning("the look-up in %s of %s failed: %s", lookup.table, lookup.source, _error_text(error))
            raise Unavailable(f"the look-up in {lookup.table} of {lookup.source} failed: {_error_text(error)}", retry_after_s=2) from error
        return {key: self._checked(key, values) for key, *values in rows}

    def _checked(self, key: Any, values: list[Any]) -> Row | LampPostError:
        """A row of the table by the rules that a caller's would be held to; what is wrong with it is the table's fault."""
        row = {field.name: _plain(field, value) for field, value in zip(self.schema, values, strict=True)}
        try:
            return self._plan.read_rows([row])[0]
        except (InvalidRows, TypeError) as error:
            wrong = [field for field in self.schema if not self._holds(field, row[field.name])]
            field = (wrong or list(self.schema))[0]
            shown = "a private value" if field.private else shortened_json(row[field.name])
            at = "" if self._private else f" for {shortened_json(key)}"
            message = (
                f"the table {self.lookup.table} has {shown} in {self.lookup.fields[field.name]}{at}; {field.name} is "
                f"{field.expected_text()}"
            )
            log.warning("%s (%s)", message, error)
            return LookupFault(message, field=field.name)

    def _holds(self, field: Field, value: Any) -> bool:
        with suppress(InvalidRows, TypeError):
            return bool(ValidationPlan(Schema((field,))).read_rows([{field.name: value}]))
        return False


def _plain(field: Field, value: Any) -> Any:
    """A value of PostgreSQL as JSON would have it."""
    if isinstance(value, Decimal):
        return int(value) if field.kind == "integer" and value == value.to_integral_value() else float(value)
    if isinstance(value, date) and not isinstance(value, datetime):
        return f"{value.isoformat()}T00:00:00Z"
    if isinstance(value, (bytes, memoryview)):
        return base64.b64encode(value).decode()
    if field.kind in ("choice", "text") and value is not None and not isinstance(value, str):
        return str(value)
    return value


def _table(lookup: LookupSetup) -> sql.Identifier:
    return sql.Identifier(*lookup.table.split("."))


async def _row(connection: psycopg.AsyncConnection[Any], query: str, values: dict[str, Any]) -> Any:
    return await (await connection.execute(query.encode(), values)).fetchone()


def _error_text(error: BaseException) -> str:
    return str(error).strip().partition("\n")[0] or type(error).__name__


def _looked_at(future: asyncio.Future[Any]) -> None:
    """An error that nobody waits for any more is no news."""
    if not future.cancelled():
        future.exception()
