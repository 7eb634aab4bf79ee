"""Predictors of endpoints: one version, several versions by row or together, and look-ups before them.

Each kind takes what a request asked for, in the terms of the endpoint's promise, and gives answers in the terms of the same promise.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal, NamedTuple, Protocol

from lamppost.core.endpoint.endpoint_schema import WHICH, EndpointSchema, fit_rows, part_answers, part_schemas
from lamppost.core.endpoint.setup import EnsembleSetup, VersionChoice
from lamppost.core.errors import BadRequest, Fault, InvalidRows, LampPostError, ModelFault, shift_fault_rows
from lamppost.core.payload.validation_plan import Row, ValidationPlan
from lamppost.core.schema.columns import Column, answer_rows_from_columns, columns_from_rows, rows_from_columns
from lamppost.core.schema.fields import Schema, find_field
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.core.schema.value_kinds import choice_text, shortened_json
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LIVE_REQUEST, LaneAnswer, RequestOptions
from lamppost.service.prediction.lookups import LookupTable
from lamppost.service.remote.hops import Hop, next_hop

if TYPE_CHECKING:
    from lamppost.service.remote.remote_part import RemotePart

Headers = list[tuple[bytes, bytes]]


Form = Literal["row", "rows", "columns"]


class PredictionInput(NamedTuple):
    """What a request asks for, as rows or as columns.

    form : how the caller gave it, and gets the answer in JSON: one row, a list of rows, or a list of values for each field.
    row_count : number of rows. size_bytes : of the body. as_columns : whether the answer is wanted as columns; some predictors
    give rows anyway.
    headers : of the request, names in lower case.
    """

    form: Form
    row_count: int
    rows: list[Row] | None = None
    columns: list[Column] | None = None
    size_bytes: int = 0
    as_columns: bool = False
    headers: Headers = []  # noqa: RUF012 - nobody changes the headers of a request


class PredictionOutput(NamedTuple):
    """An answer, and which versions gave it, comma-separated. rows : as the model took them, None where they came as columns.

    keys : by version, the key that gave it the first of its rows, where keys do.
    """

    answer: LaneAnswer
    version: str
    rows: list[Row] | None = None
    keys: Mapping[str, str] | None = None


class Predictor(Protocol):
    """What answers for an endpoint.

    plan : how requests are read. columns : inputs and options. answers : the schema of answers.
    redaction : what of a call may be recorded. row_schema : the columns of `PredictionOutput.rows`, looked-up fields too.
    """

    plan: ValidationPlan
    columns: Schema
    answers: Schema
    redaction: RedactionPolicy

    row_schema: Schema

    async def predict(self, given: PredictionInput, options: RequestOptions = LIVE_REQUEST) -> PredictionOutput:
        """Answer; raise what the lanes raise, or what is wrong with the rows beyond their schema."""


class SingleVersion:
    """One version: its own schema, its own lane, no detour."""

    def __init__(self, version: str, lane: Lane) -> None:
        self.version = version
        self.name = version.encode()
        self.lane = lane
        self.plan, self.columns, self.answers, self.redaction = lane.plan, lane.columns, lane.answers, lane.redaction
        self.row_schema = lane.columns

    async def predict(self, given: PredictionInput, options: RequestOptions = LIVE_REQUEST) -> PredictionOutput:
        """By columns where the answer is to be columns or the request was."""
        if given.columns is not None:
            return PredictionOutput(
                await self.lane.predict_columns(given.columns, given.row_count, given.size_bytes, options), self.version
            )
        assert given.rows is not None
        if given.as_columns:
            columns = columns_from_rows(self.columns, given.rows)
            return PredictionOutput(await self.lane.predict_columns(columns, given.row_count, given.size_bytes, options), self.version)
        return PredictionOutput(await self.lane.predict(given.rows, given.size_bytes, options), self.version, given.rows)


class MergedSchemaPredictor:
    """What those have in common that work by rows, in the terms of a promise."""

    def __init__(self, schema: EndpointSchema) -> None:
        self.plan = ValidationPlan(schema.inputs, options=schema.options)
        self.columns = Schema((*schema.inputs, *(schema.options or ())))
        self.answers = schema.answers
        self.redaction = RedactionPolicy(schema.inputs, schema.options, schema.answers)
        self.row_schema = self.columns

    def rows_of(self, given: PredictionInput) -> list[Row]:
        """The rows that are asked about, also where they came as columns."""
        return given.rows if given.rows is not None else rows_from_columns(self.columns, given.columns or [])


class RowRouter(MergedSchemaPredictor):
    """Rows of one call that go to several versions. key : a field or option that may only choose. tells : whether answers say by whom."""

    def __init__(self, schema: EndpointSchema, lanes: Mapping[str, Lane], key: str | None, tells: bool) -> None:
        super().__init__(schema)
        self._lanes = lanes
        self._key = key
        self._tells = tells

    async def answer_by_versions(
        self, versions: Sequence[str], rows: list[Row], size_bytes: int, options: RequestOptions
    ) -> PredictionOutput:
        """Each row by its version, the answers in the rows' order."""
        groups: dict[str, list[int]] = {}
        for at, version in enumerate(versions):
            groups.setdefault(version, []).append(at)
        share = size_bytes // max(1, len(rows))
        lane_answers = await asyncio.gather(
            *(self._by(version, places, rows, share, options) for version, places in groups.items()), return_exceptions=True
        )
        answers: list[Row] = [{}] * len(rows)
        for (version, places), answer in zip(groups.items(), lane_answers, strict=True):
            if isinstance(answer, BaseException):
                raise answer
            for at, row in zip(places, answer.rows, strict=True):
                answers[at] = {**row, WHICH: version} if self._tells else row
        return PredictionOutput(
            join_answers([answer for answer in lane_answers if isinstance(answer, LaneAnswer)], answers), ", ".join(groups), rows
        )

    async def _by(self, version: str, places: list[int], rows: list[Row], share: int, options: RequestOptions) -> LaneAnswer:
        lane = self._lanes[version]
        ignored = None if self._key is None or find_field(lane.columns, self._key) else self._key
        try:
            fitted = fit_rows([rows[at] for at in places], lane.columns, self.columns, version, ignored)
            return await lane.predict(fitted, share * len(places), options)
        except LampPostError as error:
            placed = shift_fault_rows(error, places.__getitem__)
            placed.version = version
            raise placed from error


class ChosenVersion(RowRouter):
    """One of several versions for each row, by a field, or for each call, by an option or a header."""

    def __init__(self, choose: VersionChoice, schema: EndpointSchema, lanes: Mapping[str, Lane]) -> None:
        super().__init__(schema, lanes, choose.name, choose.by == "field")
        self._choose = choose
        self._header = choose.name.lower().encode()

    async def predict(self, given: PredictionInput, options: RequestOptions = LIVE_REQUEST) -> PredictionOutput:
        """Each row by its version."""
        rows = self.rows_of(given)
        return await self.answer_by_versions(self._versions(rows, given.headers), rows, given.size_bytes, options)

    def _versions(self, rows: list[Row], headers: Headers) -> list[str]:
        """The version of each row."""
        choose = self._choose
        if choose.by == "header":
            sent = next((value.decode("latin-1") for name, value in headers if name == self._header), None)
            version = choose.cases.get(sent or "", choose.other)
            if version is None:
                came = "it did not come" if sent is None else f"it is {shortened_json(sent)}"
                raise BadRequest(f"the header {choose.name} chooses the version, and {came}; send one of {', '.join(choose.cases)}")
            return [version] * len(rows)
        versions, faults = [], []
        for at, row in enumerate(rows):
            version = choose.cases.get(choice_text(row[choose.name]), choose.other)
            if version is None:
                expected = f"one of {', '.join(choose.cases)}"
                faults.append(Fault(at, choose.name, shortened_json(row[choose.name]), expected, "it chooses the version that answers"))
            versions.append(version or "")
        if faults:
            raise InvalidRows(faults[0].sentence(), faults=[fault.to_dict() for fault in faults[:50]], fault_count=len(faults))
        return versions


class RemoteParts(NamedTuple):
    """The remote endpoints that take part in an answer. parts : by address. endpoint : the one that asks them. mark : of that endpoint,
    by which a call is known that has come here before.
    """

    parts: Mapping[str, RemotePart] = {}
    endpoint: str = ""
    mark: str = ""


NO_REMOTE_PARTS = RemoteParts()


def remote_parts_of(predictor: Predictor) -> RemoteParts:
    """The remote endpoints that a predictor asks, whatever is around the one that asks them."""
    inner: Predictor | None = getattr(predictor, "inner", None)
    if inner is not None:
        return remote_parts_of(inner)
    return predictor.remote if isinstance(predictor, Ensemble) else NO_REMOTE_PARTS


class Ensemble(MergedSchemaPredictor):
    """Several versions, or remote endpoints, that all answer, and one that makes one answer of theirs."""

    def __init__(self, together: EnsembleSetup, schema: EndpointSchema, lanes: Mapping[str, Lane], remote: RemoteParts) -> None:
        super().__init__(schema)
        self._together = together
        self._lanes = lanes
        self.remote = remote
        sources = part_answers(together, part_schemas(together, {name: lane.manifest for name, lane in lanes.items()}))
        self._columns = {name: (remote.parts.get(name) or lanes[name]).columns for name in together.names}
        taken = self._columns[together.combine]
        self._sources = {name: source for name, source in sources.items() if name in taken.names}
        known = {field.name: field for field in self.columns} | {name: source.as_field(name) for name, source in self._sources.items()}
        self._given = Schema(tuple(known[name] for name in taken.names))
        self._own = [name for name in taken.names if name not in self._sources]

    @property
    def _version(self) -> str:
        parts = self.remote.parts
        return ", ".join(dict.fromkeys(parts[name].version if name in parts else name for name in self._together.names))

    async def predict(self, given: PredictionInput, options: RequestOptions = LIVE_REQUEST) -> PredictionOutput:
        """All parts at once, then what combines them."""
        rows, parts, combine = self.rows_of(given), self._together.parts, self._together.combine
        hop = next_hop(given.headers, self.remote.mark, self.remote.endpoint) if self.remote.parts else None
        asked = [[{name: row[name] for name in self._columns[name_of].names} for row in rows] for name_of in parts.values()]
        answers = await asyncio.gather(
            *(self._by(name, part_rows, given.size_bytes, options, hop) for name, part_rows in zip(parts.values(), asked, strict=True))
        )
        by_part = {part: answer.rows for part, answer in zip(parts, answers, strict=True)}
        merged: list[Row] = [{name: row[name] for name in self._own} for row in rows]
        for name, source in self._sources.items():
            for row, part_row in zip(merged, by_part[source.part], strict=True):
                row[name] = source.value(part_row)
        try:
            fitted = fit_rows(merged, self._columns[combine], self._given, combine)
            last = await self._by(combine, fitted, given.size_bytes, options, hop)
        except InvalidRows as error:
            raise ModelFault(f"{combine} cannot take what the parts answered: {error.detail}") from error
        worker_s = max(answer.worker_s for answer in answers) + last.worker_s
        return PredictionOutput(join_answers([*answers, last], last.rows)._replace(worker_s=worker_s), self._version)

    async def _by(self, name: str, rows: list[Row], size_bytes: int, options: RequestOptions, hop: Hop | None) -> LaneAnswer:
        """The answer of one of them, as rows."""
        part = self.remote.parts.get(name)
        if part is not None:
            assert hop is not None
            answer = await part.predict(rows, options, hop)
            return answer._replace(rows=answer_rows_from_columns(part.answers, answer.columns or [], len(rows)))
        lane = self._lanes[name]
        if not any(field.kind == "tensor" for field in lane.answers) or name == self._together.combine:
            return await lane.predict(rows, size_bytes, options)
        answer = await lane.predict_columns(columns_from_rows(lane.columns, rows), len(rows), size_bytes, options)
        return answer._replace(rows=rows_from_columns(lane.answers, answer.columns or []))  # tensors stay arrays


class LookupPredictor(MergedSchemaPredictor):
    """Fields from tables first, then whatever answers. inner : what answers."""

    def __init__(self, inner: Predictor, schema: EndpointSchema, tables: Sequence[LookupTable]) -> None:
        super().__init__(schema)
        self.inner = inner
        self.row_schema = inner.row_schema
        self._tables = tables

    async def predict(self, given: PredictionInput, options: RequestOptions = LIVE_REQUEST) -> PredictionOutput:
        """Keys become fields; raise InvalidRows for a key that no table knows, Unavailable while a database does not answer."""
        return await self.inner.predict(given._replace(rows=await self.fill_rows(self.rows_of(given)), columns=None), options)

    async def fill_rows(self, rows: list[Row]) -> list[Row]:
        """Rows with the fields that tables have for their keys; raises as `predict` does."""
        looked_up = await asyncio.gather(*(table.fetch_rows({row[table.lookup.key] for row in rows}) for table in self._tables))
        names = self.inner.columns.names
        filled = []
        for at, row in enumerate(rows):
            whole = dict(row)
            for table, known in zip(self._tables, looked_up, strict=True):
                whole |= table.fields_of_key(row[table.lookup.key], known, at)
            filled.append({name: whole[name] for name in names})
        return filled


def join_answers(parts: Sequence[LaneAnswer], rows: list[dict[str, Any]]) -> LaneAnswer:
    """One answer of several lanes: the longest waits count, because they ran side by side."""
    return LaneAnswer(
        rows, max(part.queue_s for part in parts), max(part.worker_s for part in parts), max(part.batch_rows for part in parts)
    )
