"""Answers the files of a desk as bulk runs: matches their columns, tries their rows, and keeps their answers on this node."""

from __future__ import annotations

import asyncio
import secrets
import sys
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from pathlib import Path
from typing import Any
from uuid import UUID

import orjson

from lamppost.core.bulk.order import BulkOrder, Question
from lamppost.core.bulk.table_rows import answered_names
from lamppost.core.desk.column_proposal import propose_columns
from lamppost.core.desk.settings import DeskSettings, write_settings
from lamppost.core.desk.settings_check import hidden_values, set_texts
from lamppost.core.endpoint.endpoint_schema import EndpointSchema
from lamppost.core.errors import BadBody, LampPostError, Unavailable
from lamppost.core.schema.fields import Field
from lamppost.service.bulk.run_starting import BulkRuns, DeskPlace
from lamppost.service.bulk.uploads import upload_text
from lamppost.service.desk.result_rows import read_table, result_columns
from lamppost.store.bulk.bulk_runs import BulkRun
from lamppost.store.trail import ChangedBy

_FIRST_ROWS = 8
_TRIED_ROWS = 200_000
_WRITE_S = 300.0
_AT_ONCE = asyncio.Semaphore(2)


@dataclass(frozen=True, slots=True)
class Matching:
    """How a file is understood. matched : by field, its column, None where there is none. first : rows as text."""

    file: UUID
    sheet: str | None
    delimiter: str
    columns: list[str]
    matched: dict[str, str | None]
    first: list[dict[str, Any]]


class DeskFiles:
    """The files of one desk."""

    def __init__(self, runs: BulkRuns, endpoint: str, settings: DeskSettings, schema: EndpointSchema) -> None:
        self._runs = runs
        self._endpoint = endpoint
        self._settings = settings
        self._schema = schema

    async def match(self, file: UUID, columns: Mapping[str, str] | None, sheet: str | None) -> Matching:
        """Which column holds which field. columns : as somebody has set them, None for a proposal. Raise BadBody for an unreadable file."""
        order = BulkOrder((Question(self._endpoint),), upload_text(file), sheet=sheet)
        look = await self._runs.look(order, _FIRST_ROWS)
        names = [field.name for field in self._schema.inputs if self._settings.words_of(field.name).shown]
        if columns is None:
            labels = {name: self._settings.label_of(name) for name in names}
            matched = propose_columns(names, labels, look["columns"])
        else:
            matched = {name: columns.get(name) or None for name in names}
        return Matching(file, sheet, look["delimiter"], look["columns"], matched, look["first"])

    def _order(self, matching: Matching, options: Mapping[str, Any]) -> BulkOrder:
        _, set_options = hidden_values(self._settings, self._schema)
        shown = {name: value for name, value in options.items() if self._settings.words_of(name).shown}
        stated = {name: column for name, column in matching.matched.items() if column is not None}
        constants = {}
        for name, text in set_texts(self._settings, stated).items():  # beside the columns of the file, which may have one of that name
            stated[name] = column = name if name not in matching.columns else f"{name} (set at the desk)"
            constants[column] = text
        answered = answered_names(self._schema.answers)
        if double := [name for name in dict.fromkeys(matching.columns) if matching.columns.count(name) > 1]:
            raise BadBody(f"the column {double[0]!r} stands in the file more than once; rename or remove one of them")
        return BulkOrder(
            questions=(Question(self._endpoint, options={**shown, **set_options}),),
            source=upload_text(matching.file),
            target_format="arrow",
            delimiter=matching.delimiter,
            sheet=matching.sheet,
            columns=stated,
            constants=constants,
            keep=tuple(column for column in matching.columns if column not in answered),
            most_rejects=1.0,
        )

    async def try_rows(self, matching: Matching, options: Mapping[str, Any]) -> dict[str, Any]:
        """Which rows would stay without an answer, and by field the column that holds it. Raise BadBody for columns that do not fit."""
        checked = await self._runs.check(self._order(matching, options), 0, _TRIED_ROWS)
        return {**checked["trial"], "matched": {name: checked["matches"][0]["columns"].get(name) for name in matching.matched}}

    async def begin(self, matching: Matching, options: Mapping[str, Any], by: ChangedBy) -> BulkRun:
        """Have a file answered; raise whatever it is refused for. Its name cannot be guessed, because knowing it opens the answers."""
        trial = await self.try_rows(matching, options)
        rows = trial["rows"] if trial["whole"] else None
        name = f"{self._endpoint[:40]}-{secrets.token_hex(6)}"
        keep_until = datetime.now(UTC) + timedelta(days=self._settings.keep_days)
        return await self._runs.begin(self._order(matching, options), name, by, DeskPlace(self._endpoint, keep_until, rows))

    def output_file(self, run: BulkRun) -> Path:
        """Where the answers to a file are on this node."""
        return self._runs.places.run_folder(run.name) / f"{run.name}.arrow"

    async def file_to_take_home(self, run: BulkRun, answer: Field, form: str) -> Path:
        """The answers as a file of some form; it is written once for the words that the desk has now. Raise what reading them raises."""
        file = self.output_file(run)
        words = write_settings(self._settings)
        target = file.with_name(f"answers-{sha256(orjson.dumps(words)).hexdigest()[:12]}.{form}")
        if await asyncio.to_thread(target.exists):
            return target
        columns = result_columns((await asyncio.to_thread(read_table, file)).column_names, self._schema.answers, answer)
        rejects = (run.result or {}).get("rejects")
        order = {
            "file": str(file),
            "to": str(target),
            "id": secrets.token_hex(4),
            "form": form,
            "settings": words,
            "answer": asdict(answer),
            "kept": columns.kept,
            "scores": columns.scores,
            "rejects": str(file.with_name(str(rejects))) if rejects else None,
        }
        async with _AT_ONCE:
            await _write(order)
        return target


async def _write(order: dict[str, Any]) -> None:
    process = await asyncio.create_subprocess_exec(
        *(sys.executable, "-m", "lamppost.service.desk.result_rows"), stdin=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.PIPE
    )
    try:
        _, error = await asyncio.wait_for(process.communicate(orjson.dumps(order)), _WRITE_S)
    except TimeoutError:
        raise Unavailable(f"the file could not be written within {_WRITE_S:g} s; take it as CSV") from None
    finally:
        if process.returncode is None:
            process.kill()
    if process.returncode:
        raise LampPostError(f"the file could not be written: {error.decode(errors='replace').strip()[-300:]}")
