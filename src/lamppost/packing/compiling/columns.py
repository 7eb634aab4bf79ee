"""Writes the graph from the columns of a request to feature tensors.

A column of choices or of yes/no has a small, known set of values. Whatever the fitted transformers do to such columns is
therefore compiled by asking them: every value is sent through them once, at packing time, and the graph looks the outcome up.
That is exact whatever the transformers are: fillers, one-hot, ordinal and target encoders, or somebody's own.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt

from lamppost.core.artifact.steps import FrameColumn, SklearnStep
from lamppost.core.schema.columns import Column, columns_from_rows
from lamppost.core.schema.fields import Field, Schema, Value
from lamppost.package.compiled_model import width_of
from lamppost.package.sklearn_model import model_input
from lamppost.packing.compiling.graph import CODES, NUMBERS, Graph, NotCompiled, Tensor
from lamppost.packing.compiling.transformers import transform

_TOGETHER = 512
"""Most values of a row that are looked up in one go before they are added; more would cost a large batch its memory."""
_NEVER_SEEN = "\ue000 never seen"


def values_of(field: Field) -> list[str]:
    """The choices of a finite field, in the order of their codes."""
    return ["false", "true"] if field.kind == "yes/no" else list(field.choices)


def number_fields(inputs: Schema) -> tuple[str, ...]:
    """Fields that go into the graph's numbers; a tensor of a fixed shape takes a column there for each element."""
    return tuple(field.name for field in inputs if field.kind in _NUMBERS and 0 not in field.shape)


_NUMBERS = frozenset({"number", "integer", "vector", "tensor"})


def code_fields(inputs: Schema) -> tuple[str, ...]:
    """Fields that go into the graph's codes."""
    return tuple(field.name for field in inputs if field.kind in ("choice", "yes/no"))


class Raw:
    """The columns of a request as the graph's inputs.

    A code counts the field's values from 0; the next one stands for a value never seen, the one after that for a missing one.
    """

    def __init__(self, graph: Graph, step: SklearnStep, inputs: Schema) -> None:
        self.graph = graph
        self._reads = step.reads
        self._specs = {spec.name: spec for spec in step.columns}
        self._fields = {field.name: field for field in inputs}
        self._numbers, self._codes = number_fields(inputs), code_fields(inputs)
        if others := [field for field in inputs if field.name not in self._numbers and field.name not in self._codes]:
            raise NotCompiled(f"the {others[0].kind} column {others[0].name}")
        self._at: dict[str, list[int]] = {}
        for name in self._numbers:
            start = self.width
            self._at[name] = list(range(start, start + width_of(self._fields[name])))

    @property
    def width(self) -> int:
        """Columns of the graph's numbers."""
        return sum(map(len, self._at.values()))

    def names(self) -> list[str]:
        """All columns, as the model reads them."""
        return list(self._specs)

    def transform(self, fitted: Any, names: list[str]) -> Tensor:
        """The output of a fitted transformer for some of the columns."""
        kind = type(fitted).__name__
        if isinstance(fitted, str):
            if fitted != "passthrough":
                raise NotCompiled(f"the step {fitted!r}")
            return self.graph.join([self._number(name) for name in names])
        if kind == "ColumnTransformer":
            return self._parts(fitted, names)
        if all(name in self._codes for name in names):
            return self._looked_up(fitted, names)
        if kind == "FeatureUnion" and not fitted.transformer_weights:
            return self.graph.join([self.transform(step, names) for _, step in fitted.transformer_list if step not in ("drop", None)])
        if kind == "Pipeline":
            tensor = self.transform(fitted.steps[0][1], names)
            for _, step in fitted.steps[1:]:
                tensor = transform(self.graph, step, tensor)
            return tensor
        return transform(self.graph, fitted, self.numbers(names))

    def numbers(self, names: list[str]) -> Tensor:
        """Columns as they are, as one tensor."""
        if names and all(name in self._numbers for name in names):
            return self.graph.pick(Tensor(NUMBERS, self.width), [at for name in names for at in self._at[name]])
        return self.graph.join([self._number(name) for name in names])

    def _parts(self, fitted: Any, names: list[str]) -> Tensor:
        if fitted.transformer_weights:
            raise NotCompiled("ColumnTransformer with weights")
        parts = []
        for name, step, _ in fitted.transformers_:
            chosen = [names[index] for index in fitted._transformer_to_input_indices[name]]
            if chosen and not (isinstance(step, str) and step == "drop"):
                parts.append(self.transform(step, chosen))
        return self.graph.join(parts)

    def _number(self, name: str) -> Tensor:
        if name in self._numbers:
            return self.graph.pick(Tensor(NUMBERS, self.width), self._at[name])
        if self._fields[name].kind == "choice":
            raise NotCompiled(f"the choice column {name} used as it is")
        return self._gather(name, np.array([[0.0], [1.0], [np.nan], [np.nan]]))

    def _code(self, name: str) -> str:
        at = self.graph.constant(np.int64(self._codes.index(name)))
        return self.graph.add("Gather", CODES, at, axis=1)

    def _gather(self, name: str, table: npt.NDArray[np.float64]) -> Tensor:
        return Tensor(self.graph.add("Gather", self.graph.constant(table), self._code(name), axis=0), table.shape[1])

    # -- asking the transformer ---------------------------------------------------------------------------------------

    def _looked_up(self, fitted: Any, names: list[str]) -> Tensor:
        """A table per column: each output of the transformer must depend on one of the columns only."""
        base = {name: self._plain(name, 0) for name in names}
        rows, owners = [base], [("", -1)]
        for name in names:
            for code in self._possible(name):
                rows.append(base | {name: self._plain(name, code)})
                owners.append((name, code))
        try:
            transformed = self._ask(fitted, rows, names)
        except Exception as error:
            raise NotCompiled(f"{type(fitted).__name__} over {', '.join(names)}: {error}") from error
        owner_of = np.full(transformed.shape[1], -1)
        for (name, _), outcome in zip(owners[1:], transformed[1:], strict=True):
            moved = ~np.isclose(outcome, transformed[0], rtol=0, atol=0, equal_nan=True)
            if (moved & (owner_of >= 0) & (owner_of != names.index(name))).any():
                raise NotCompiled(f"{type(fitted).__name__}, which mixes {', '.join(names)}")
            owner_of[moved] = names.index(name)
        tables: list[npt.NDArray[np.float64]] = []
        for at, name in enumerate(names):
            mine = (owner_of == at) | ((owner_of == -1) & (at == 0))
            table = np.zeros((len(values_of(self._fields[name])) + 2, transformed.shape[1]))
            table[:, mine] = transformed[0][mine]
            for (owner, code), outcome in zip(owners[1:], transformed[1:], strict=True):
                if owner == name:
                    table[code, mine] = outcome[mine]
            tables.append(table)
        return self._sum_of(names, tables)

    def _sum_of(self, names: list[str], tables: list[npt.NDArray[np.float64]]) -> Tensor:
        """What is looked up in the table of each column, added up. Of narrow tables in one go: a single row costs what its nodes cost."""
        width = tables[0].shape[1]
        if len(names) > 1 and len(names) * width <= _TOGETHER:
            starts = np.cumsum([0, *(len(table) for table in tables[:-1])])
            columns = np.array([self._codes.index(name) for name in names])
            codes = self.graph.pick(Tensor(CODES, len(self._codes)), columns).name
            places = self.graph.add("Add", codes, self.graph.constant(starts))
            looked_up = self.graph.add("Gather", self.graph.constant(np.concatenate(tables)), places, axis=0)
            return Tensor(self.graph.add("ReduceSum", looked_up, self.graph.constant(np.array([1])), keepdims=0), width)
        total, *others = (self._gather(name, table) for name, table in zip(names, tables, strict=True))
        for part in others:
            total = Tensor(self.graph.add("Add", total.name, part.name), width)
        return total

    def _possible(self, name: str) -> list[int]:
        field = self._fields[name]
        count = len(values_of(field))
        unseen = [count] if field.kind == "choice" and field.unseen == "accept" else []
        return [*range(count), *unseen, *([count + 1] if field.missing else [])]

    def _plain(self, name: str, code: int) -> Value:
        field = self._fields[name]
        values = values_of(field)
        if code == len(values) + 1:
            return None
        if field.kind == "yes/no":
            return code == 1
        return values[code] if code < len(values) else _NEVER_SEEN

    def _ask(self, fitted: Any, rows: list[dict[str, Value]], names: list[str]) -> npt.NDArray[np.float64]:
        schema = Schema(tuple(self._fields[name] for name in names))
        specs: tuple[FrameColumn, ...] = tuple(self._specs[name] for name in names)
        columns: list[Column] = columns_from_rows(schema, rows)
        asked = model_input(SklearnStep("-", "skops", specs, schema, self._reads), schema, columns)
        transformed = fitted.transform(asked)
        transformed = transformed.toarray() if hasattr(transformed, "toarray") else np.asarray(transformed)
        return np.asarray(transformed, dtype=np.float64).reshape(len(rows), -1)
