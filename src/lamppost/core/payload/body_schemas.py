"""The forms of a JSON body as schemas of pydantic-core: each once for reading, and once for gathering what is wrong with a body.

Reading ends at the first row or key that is wrong, and does not ask for keys that are missing: the error of a missing key carries the whole
object that it is missing in, converted anew for each such key. Gathering converts the body once, and then looks at the objects.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property

from pydantic_core import SchemaValidator
from pydantic_core import core_schema as cs

from lamppost.core.payload.fault_gathering import closed_object, unless_full
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.value_kinds import value_schema

Entries = dict[str, cs.TypedDictField]


class BodySchemas:
    """Readers and gatherers of one input schema; each is made when it is first needed.

    row, rows, columns : of whole bodies, with options beside. options : of options by themselves.
    rows_alone : of ``{"rows": […]}`` without options. block : of a list of rows. flat : of a list of rows with options among their keys.
    """

    def __init__(self, schema: Schema, options: Schema | None, max_rows: int) -> None:
        self._schema = schema
        self._options = options
        self._max_rows = max_rows

    @cached_property
    def read_row(self) -> SchemaValidator:
        """Reads one row."""
        return SchemaValidator(closed_object(_entries(self._schema, False) | self._beside(False)))

    @cached_property
    def gather_row(self) -> SchemaValidator:
        """Gathers the faults of one row."""
        return SchemaValidator(unless_full(closed_object(_entries(self._schema, True) | self._beside(True))))

    @cached_property
    def read_rows(self) -> SchemaValidator:
        """Reads many rows."""
        return SchemaValidator(closed_object({"rows": cs.typed_dict_field(self._row_list(False))} | self._beside(False)))

    @cached_property
    def gather_rows(self) -> SchemaValidator:
        """Gathers the faults of many rows."""
        return SchemaValidator(unless_full(closed_object({"rows": cs.typed_dict_field(self._row_list(True))} | self._beside(True))))

    @cached_property
    def read_block(self) -> SchemaValidator:
        """Reads a block of rows."""
        return SchemaValidator(cs.list_schema(closed_object(_entries(self._schema, False)), min_length=1, fail_fast=True))

    @cached_property
    def gather_rows_alone(self) -> SchemaValidator:
        """Gathers the faults of many rows without options."""
        return SchemaValidator(unless_full(closed_object({"rows": cs.typed_dict_field(self._row_list(True))})))

    @cached_property
    def read_columns(self) -> SchemaValidator:
        """Reads a list for each field."""
        return SchemaValidator(closed_object({"columns": cs.typed_dict_field(self._lists(False))} | self._beside(False)))

    @cached_property
    def gather_columns(self) -> SchemaValidator:
        """Gathers the faults of lists."""
        return SchemaValidator(unless_full(closed_object({"columns": cs.typed_dict_field(self._lists(True))} | self._beside(True))))

    @cached_property
    def gather_options(self) -> SchemaValidator:
        """Reads options, and gathers their faults."""
        return SchemaValidator(unless_full(closed_object(_entries(self._options or (), True))))

    @cached_property
    def gather_flat(self) -> SchemaValidator:
        """Reads rows with options among their keys, and gathers their faults."""
        row = closed_object(_entries((*self._schema, *(self._options or ())), True))
        return SchemaValidator(unless_full(cs.list_schema(row, min_length=1, max_length=self._max_rows)))

    def _beside(self, gather: bool) -> Entries:
        """The options, where there are some."""
        if self._options is None:
            return {}
        required = gather and any(field.required for field in self._options)
        return {"options": cs.typed_dict_field(closed_object(_entries(self._options, gather)), required=required)}

    def _row_list(self, gather: bool) -> cs.CoreSchema:
        row = closed_object(_entries(self._schema, gather))
        return cs.list_schema(unless_full(row) if gather else row, min_length=1, max_length=self._max_rows, fail_fast=not gather)

    def _lists(self, gather: bool) -> cs.CoreSchema:
        lists: Entries = {}
        for field in self._schema:
            value = value_schema(field)
            values = cs.list_schema(unless_full(value) if gather else value, min_length=1, max_length=self._max_rows, fail_fast=not gather)
            lists[field.name] = cs.typed_dict_field(values, required=gather and field.required)
        return closed_object(lists)


def _entries(schema: Iterable[Field], gather: bool) -> Entries:
    return {field.name: cs.typed_dict_field(value_schema(field), required=gather and field.required) for field in schema}
