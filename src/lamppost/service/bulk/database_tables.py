"""Reads rows of a PostgreSQL table or query, and writes answers to a table.

The rows of a query are first written to a file on the node, by one statement in a transaction that can only read: so they are of one
moment, and a run that was interrupted goes on with the same rows in the same order.

Answers go block by block into a staging table beside the target. The last step is one transaction: it brings the staged rows into the
target and drops the staging table, so that a staging table that is gone says that the answers have arrived.
"""

from __future__ import annotations

import io
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import psycopg
from psycopg import sql

from lamppost.core.bulk.order import Place
from lamppost.core.errors import BadRequest, Conflict, Unavailable
from lamppost.core.names import closest_name, unknown_name
from lamppost.store.database import is_away

if TYPE_CHECKING:
    import pyarrow as pa

BLOCK_COLUMN = "_block"
_CONNECT_S = 10
_BATCH_BYTES = 4 * 2**20
_READ_ONLY = "-c default_transaction_read_only=on -c timezone=UTC -c datestyle=ISO -c intervalstyle=iso_8601 -c extra_float_digits=1"

Connection = psycopg.Connection[Any]


@contextmanager
def _connected(urls: Mapping[str, str], name: str, option: str, settings: str) -> Iterator[Connection]:
    """A connection to a database that the operator named, its errors as our own."""
    if name not in urls:
        raise BadRequest(unknown_name("database", name, urls, f"{option} {name}=URL"))
    try:
        with psycopg.connect(urls[name], autocommit=True, connect_timeout=_CONNECT_S, options=settings) as connection:
            yield connection
    except psycopg.Error as error:
        text = (error.diag.message_primary or str(error)).strip().splitlines()[0]
        if is_away(error):
            raise Unavailable(f"the database {name} is away: {text}", retry_after_s=5) from error
        raise Conflict(f"the database {name} refused it: {text}") from error


def table_name(text: str) -> sql.Identifier:
    """``table`` or ``schema.table`` as SQL; raise BadRequest for what is neither."""
    parts = text.strip().split(".")
    if len(parts) > 2 or not all(parts):
        raise BadRequest(f"{text[:100]!r} is no table; write TABLE or SCHEMA.TABLE, or a query that begins with SELECT")
    return sql.Identifier(*parts)


@dataclass(frozen=True, slots=True)
class QuerySource:
    """A table or query of a source."""

    urls: Mapping[str, str]
    place: Place

    def look(self) -> pa.Schema:
        """The columns and their types, without a row. Raise Conflict for a query that is none, or that may not be read."""
        with self._reading() as connection:
            return self._types(connection)

    def write_file(self, path: Path) -> int:
        """Write all rows to an Arrow file; returns how many there are."""
        import pyarrow as pa
        import pyarrow.csv as pc

        rows = 0
        with self._reading() as connection, connection.transaction():
            types = self._types(connection)
            statement = sql.SQL("COPY ({}\n) TO STDOUT (FORMAT csv)").format(self._query())
            part = path.with_name(f".{path.name}.part")
            options = pc.ConvertOptions(
                column_types=types,
                strings_can_be_null=True,
                quoted_strings_can_be_null=False,
                null_values=[""],
                true_values=["t"],
                false_values=["f"],
            )
            with connection.cursor() as cursor, cursor.copy(statement) as copy:
                pieces = (bytes(piece) for piece in copy)
                first = next(pieces, b"")
                with pa.OSFile(str(part), "wb") as sink, pa.ipc.new_file(sink, types) as writer:
                    if first:
                        stream = io.BufferedReader(_Pieces(first, pieces), _BATCH_BYTES)
                        reader = pc.open_csv(
                            stream,
                            read_options=pc.ReadOptions(column_names=types.names, block_size=_BATCH_BYTES, use_threads=False),
                            parse_options=pc.ParseOptions(newlines_in_values=True),
                            convert_options=options,
                        )
                        for batch in reader:
                            writer.write_batch(batch)
                            rows += batch.num_rows
            part.replace(path)
        return rows

    @contextmanager
    def _reading(self) -> Iterator[Connection]:
        with _connected(self.urls, self.place.name, "--source", _READ_ONLY) as connection:
            yield connection

    def _query(self) -> sql.Composable:
        if self.place.is_query:
            return sql.SQL(self.place.path.strip().rstrip(";"))
        return sql.SQL("SELECT * FROM {}").format(table_name(self.place.path))

    def _types(self, connection: Connection) -> pa.Schema:
        import pyarrow as pa

        query = self._query().as_string(connection).encode()
        # prepared by itself first: a prepared statement is one statement, so that nothing can follow it, or end the transaction
        prepared = connection.pgconn.prepare(b"", query)
        if prepared.status != psycopg.pq.ExecStatus.COMMAND_OK:
            raise psycopg.errors.error_from_result(prepared)
        described = connection.pgconn.describe_prepared(b"")
        if described.nfields == 0:
            raise Conflict("the query gives no columns; a bulk run reads a SELECT")
        names = [(described.fname(at) or b"").decode() for at in range(described.nfields)]
        if twice := [name for name in names if names.count(name) > 1]:
            raise Conflict(f"the query gives the column {twice[0]!r} more than once; name each differently with AS")
        return pa.schema([pa.field(name, _arrow_type(described.ftype(at))) for at, name in enumerate(names)])


class _Pieces(io.RawIOBase):
    """Pieces of bytes as a file to read."""

    def __init__(self, first: bytes, pieces: Iterator[bytes]) -> None:
        self._held = memoryview(first)
        self._pieces = pieces

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._held:
            piece = next(self._pieces, None)
            if piece is None:
                return 0
            self._held = memoryview(piece)
        size = min(len(buffer), len(self._held))
        buffer[:size] = self._held[:size]
        self._held = self._held[size:]
        return size


def _arrow_type(oid: int) -> pa.DataType:
    import pyarrow as pa

    types = {
        "bool": pa.bool_(),
        "int2": pa.int16(),
        "int4": pa.int32(),
        "int8": pa.int64(),
        "float4": pa.float32(),
        "float8": pa.float64(),
        "numeric": pa.float64(),
        "date": pa.date32(),
        "timestamp": pa.timestamp("us"),
        "timestamptz": pa.timestamp("us", "UTC"),
    }
    known = psycopg.adapters.types.get(oid)
    return types.get(known.name if known is not None else "", pa.string())


@dataclass(frozen=True, slots=True)
class TableTarget:
    """A table that the answers of one run go to. Names of columns are those of the output, with ``_`` for what is no letter or digit."""

    urls: Mapping[str, str]
    place: Place
    run: str
    replace: bool
    key: tuple[str, ...]

    @property
    def _staging(self) -> sql.Identifier:
        parts = self.place.path.strip().split(".")
        return sql.Identifier(*parts[:-1], f"lamppost_bulk_{self.run}"[:63])

    def check(self, names: Sequence[str]) -> None:
        """Raise Conflict or BadRequest unless the answers can go there. names : of the output's columns."""
        columns = [column_of_table(name) for name in names]
        if twice := [name for name in columns if columns.count(name) > 1]:
            raise BadRequest(
                f"two columns of the output would be called {twice[0]!r} in the table; keep fewer, or name the questions differently"
            )
        if lost := [name for name in self.key if name not in columns]:
            like = closest_name(lost[0], columns)
            raise BadRequest(
                f"the key {lost[0]!r} is no column of the output" + (f"; did you mean {like}?" if like else "; keep it: --keep")
            )
        with self._writing() as connection:
            there = self._columns_there(connection)
            if there is None:
                schema = self.place.path.strip().rpartition(".")[0] or "public"
                may = connection.execute("SELECT has_schema_privilege(%s, 'CREATE')", (schema,)).fetchone()
                if may != (True,):
                    raise Conflict(
                        f"the role of the target {self.place.name} may not make the table {self.place.path}; make it, or grant CREATE"
                    )
                return
            rights = connection.execute(
                "SELECT has_table_privilege(%(t)s, 'INSERT'), has_table_privilege(%(t)s, 'DELETE')",
                {"t": table_name(self.place.path).as_string(connection)},
            ).fetchone()
            if rights != (True, True):
                raise Conflict(f"the role of the target {self.place.name} may not write {self.place.path}; GRANT INSERT, DELETE ON it")
            if not self.replace and not self.key:
                raise Conflict(
                    f"the table {self.place.path} exists; say by which columns its rows are replaced (--key), or that all are (--replace)"
                )
            if unknown := [name for name in columns if name not in there]:
                like = closest_name(unknown[0], there)
                raise Conflict(
                    f"the table {self.place.path} has no column {unknown[0]!r}"
                    + (f"; did you mean {like}?" if like else "")
                    + f". Add it, or give another table; the output's columns are {', '.join(columns[:20])}"
                )

    def begin(self, types: pa.Schema) -> None:
        """Make the staging table, where it is not there yet."""
        with self._writing() as connection, connection.transaction():
            there = self._columns_there(connection)
            if there is None:
                columns = [
                    sql.SQL("{} {}").format(sql.Identifier(column_of_table(field.name)), sql.SQL(_table_type(field.type)))
                    for field in types
                ]
            else:
                columns = [
                    sql.SQL("{} {}").format(sql.Identifier(name), sql.SQL(there[name])) for name in map(column_of_table, types.names)
                ]
            columns.append(sql.SQL("{} integer NOT NULL").format(sql.Identifier(BLOCK_COLUMN)))
            connection.execute(sql.SQL("CREATE TABLE IF NOT EXISTS {} ({})").format(self._staging, sql.SQL(", ").join(columns)))

    def add_block(self, block: int, table: pa.Table) -> None:
        """Put the answers of a block into the staging table, in the place of any that an interrupted attempt left there."""
        names = [*map(column_of_table, table.column_names), BLOCK_COLUMN]
        copy = sql.SQL("COPY {} ({}) FROM STDIN (FORMAT csv)").format(self._staging, sql.SQL(", ").join(map(sql.Identifier, names)))
        data = _copy_lines(table, block)
        with self._writing() as connection, connection.transaction(), connection.cursor() as cursor:
            cursor.execute(sql.SQL("DELETE FROM {} WHERE {} = %s").format(self._staging, sql.Identifier(BLOCK_COLUMN)), (block,))
            with cursor.copy(copy) as sink:
                for start in range(0, len(data), _BATCH_BYTES):
                    sink.write(data[start : start + _BATCH_BYTES])

    def finish(self) -> None:
        """Bring all staged rows into the target, in one transaction that also drops the staging table; nothing if that was done."""
        with self._writing() as connection, connection.transaction():
            staged = connection.execute("SELECT to_regclass(%s)", (self._staging.as_string(connection),)).fetchone()
            if staged == (None,):
                return
            target = table_name(self.place.path)
            there = self._columns_there(connection)
            if there is None:
                connection.execute(sql.SQL("ALTER TABLE {} DROP COLUMN {}").format(self._staging, sql.Identifier(BLOCK_COLUMN)))
                connection.execute(
                    sql.SQL("ALTER TABLE {} RENAME TO {}").format(self._staging, sql.Identifier(self.place.path.strip().split(".")[-1]))
                )
                return
            rows = connection.execute(sql.SQL("SELECT * FROM {} LIMIT 0").format(self._staging))
            names = [column.name for column in rows.description or () if column.name != BLOCK_COLUMN]
            listed = sql.SQL(", ").join(map(sql.Identifier, names))
            if self.key:
                same = sql.SQL(" AND ").join(
                    sql.SQL("target.{0} IS NOT DISTINCT FROM staged.{0}").format(sql.Identifier(name)) for name in self.key
                )
                double = connection.execute(
                    sql.SQL("SELECT {0}, count(*) FROM {1} GROUP BY {0} HAVING count(*) > 1 LIMIT 1").format(
                        sql.SQL(", ").join(map(sql.Identifier, self.key)), self._staging
                    )
                ).fetchone()
                if double is not None:
                    raise Conflict(
                        f"{double[-1]} rows of the output have the same {', '.join(self.key)} ({', '.join(map(str, double[:-1]))}); "
                        "a key names one row"
                    )
                connection.execute(sql.SQL("DELETE FROM {} target USING {} staged WHERE {}").format(target, self._staging, same))
            else:
                connection.execute(sql.SQL("DELETE FROM {}").format(target))
            connection.execute(sql.SQL("INSERT INTO {0} ({1}) SELECT {1} FROM {2}").format(target, listed, self._staging))
            connection.execute(sql.SQL("DROP TABLE {}").format(self._staging))

    def clear(self) -> None:
        """Drop the staging table of a run that is forgotten."""
        with self._writing() as connection:
            connection.execute(sql.SQL("DROP TABLE IF EXISTS {}").format(self._staging))

    @contextmanager
    def _writing(self) -> Iterator[Connection]:
        with _connected(self.urls, self.place.name, "--target", "-c timezone=UTC -c datestyle=ISO") as connection:
            yield connection

    def _columns_there(self, connection: Connection) -> dict[str, str] | None:
        """Types by column of the target; None where there is no such table."""
        name = table_name(self.place.path).as_string(connection)
        rows = connection.execute(
            "SELECT attname, format_type(atttypid, atttypmod) FROM pg_attribute"
            " WHERE attrelid = to_regclass(%s) AND attnum > 0 AND NOT attisdropped ORDER BY attnum",
            (name,),
        ).fetchall()
        return dict(rows) or None


def column_of_table(name: str) -> str:
    """The name of an output's column in a table: ``scores.fails`` is ``scores_fails``."""
    return "".join(character if character.isalnum() else "_" for character in name)[:63]


def _table_type(kind: pa.DataType) -> str:
    import pyarrow as pa

    if pa.types.is_boolean(kind):
        return "boolean"
    if pa.types.is_integer(kind):
        return "bigint"
    if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return "double precision"
    if pa.types.is_timestamp(kind):
        return "timestamptz" if kind.tz else "timestamp"
    return "date" if pa.types.is_date(kind) else "text"


def _copy_lines(table: pa.Table, block: int) -> bytes:
    """Rows as CSV for COPY: every value in quotes, what is missing as nothing."""
    import pyarrow as pa
    import pyarrow.csv as pc

    from lamppost.service.bulk.output import plain_table

    lines = io.BytesIO()
    numbered = plain_table(table).append_column(BLOCK_COLUMN, pa.repeat(pa.scalar(block, pa.int32()), table.num_rows))
    pc.write_csv(numbered, lines, pc.WriteOptions(include_header=False, quoting_style="all_valid"))
    return lines.getvalue()
