"""Reads a PMML document: the fields of a row, what it answers, rows to ask it, and its model as a compiled graph."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from onnx import TensorProto

from lamppost.core.artifact.schema_inference import classifier_answers
from lamppost.core.artifact.steps import CompiledForm
from lamppost.core.schema.fields import Field, Schema
from lamppost.packing.compiling.columns import code_fields, number_fields
from lamppost.packing.compiling.graph import CODES, NUMBERS, Graph, Tensor
from lamppost.packing.pmml.columns import Columns, ColumnValue
from lamppost.packing.pmml.dictionary import UsedField, read_dictionary, target_of, used_fields
from lamppost.packing.pmml.document import Element, PmmlRefused, read_document
from lamppost.packing.pmml.formulas import Scope, table_rows
from lamppost.packing.pmml.functions import is_number
from lamppost.packing.pmml.mining import ModelReader, labels_in
from lamppost.packing.pmml.outcomes import Outcome

if TYPE_CHECKING:
    import pandas as pd

_HEAD = ("Header", "MiningBuildTask", "DataDictionary", "TransformationDictionary")
DRAWN_ROWS = 400
_FAR = 1e15
_MISSING_AWARE = frozenset({"defaultChild", "lastPrediction", "weightedConfidence", "aggregateNodes"})


class Pmml:
    """A model in a PMML document of version 3 or 4, which is read once."""

    def __init__(self, path: Path) -> None:
        self.path = path

    @cached_property
    def document(self) -> PmmlDocument:
        """What the document says; raise PmmlRefused for what is no PMML, or not supported."""
        return PmmlDocument(read_document(self.path))


@dataclass(frozen=True, slots=True)
class ReadGraph:
    """A document's model as a graph. gives : label and scores, label and distance, or a number. columns : names of the outputs, by the
    names of the columns that the document's Output gives them.
    """

    graph: bytes
    compiled: CompiledForm
    gives: Schema
    columns: dict[str, str]


class PmmlDocument:
    """A document that was read. Raises PmmlRefused for what is no PMML, or not supported."""

    def __init__(self, root: Element) -> None:
        self._root = root
        models = [child for child in root.children if child.tag not in _HEAD and child.tag != "Extension"]
        if not models:
            root.refuse("it holds no model")
        if len(models) > 1:
            models[1].refuse("a second model; a document with one is expected")
        self._model = models[0]
        self._fields = read_dictionary(root)
        schema = self._model.need("MiningSchema")
        self.target = target_of(schema)
        mentioned, missing_known = _mentioned(root), _missing_known(root)
        self.used: dict[str, UsedField] = used_fields(schema, self._fields)
        for name, one in self.used.items():
            one.constants = list(mentioned.get(name, []))
            one.takes_missing = name in missing_known
        if not self.used:
            schema.refuse("it names no field of a row")

    @property
    def kind(self) -> str:
        """The name of the model's element."""
        return self._model.tag

    @property
    def notes(self) -> str:
        """What the header says."""
        header = self._root.find("Header")
        if header is None:
            return ""
        application = header.find("Application")
        by = "" if application is None else f"{application.get('name', '')} {application.get('version', '')}".strip()
        parts = [header.get("description", ""), f"written by {by}" if by else "", header.get("copyright", "")]
        return "; ".join(part for part in parts if part)[:1_000]

    def hints(self) -> dict[str, dict[str, Any]]:
        """Attributes of the fields of a row."""
        return {name: one.hints() for name, one in self.used.items()}

    def answer_named(self, name: str, answer: Mapping[str, Any], gives: Schema) -> Any:
        """The part of an answer that the document calls by a name; None for one that is no part of answers."""
        first = gives.names[0]
        if name == self.target:
            return answer[first]
        output = self._model.find("Output")
        for one in () if output is None else output.all("OutputField"):
            if one.get("name") != name:
                continue
            feature = one.get("feature", "predictedValue")
            if feature in ("predictedValue", "clusterId", "entityId"):
                return answer[first]
            if feature == "probability" and "scores" in answer:
                scores = answer["scores"]
                return scores.get(one.get("value")) if "value" in one.attributes else max(scores.values())
        return None

    # -- rows -------------------------------------------------------------------------------------------------------------------

    @cached_property
    def verification(self) -> list[tuple[dict[str, Any], dict[str, tuple[str, float, float]]]]:
        """Rows that the document verifies itself with: fields, and by column what is expected, the precision and the zero threshold."""
        element = self._model.find("ModelVerification")
        if element is None:
            return []
        fields = list(element.need("VerificationFields").all("VerificationField"))
        rows = []
        for row in table_rows(element):
            given, expected = {}, {}
            for one in fields:
                name = one.get("field")
                text = row.get(one.get("column", name).rpartition(":")[2])
                if name in self.used:
                    given[name] = None if text is None else self._parsed(name, text, one)
                elif text is not None:
                    expected[name] = text, one.number("precision", 1e-6), one.number("zeroThreshold", 1e-16)
            rows.append(({name: given.get(name) for name in self.used}, expected))
        return rows

    def _parsed(self, name: str, text: str, element: Element) -> Any:
        field = self._fields[name]
        if field.data_type == "boolean":
            return text == "true"
        if not field.is_number:
            return text
        number = element.as_number(text)
        return int(number) if field.data_type == "integer" else number

    def rows(self) -> tuple[pd.DataFrame, bool]:
        """Rows to ask the model, and whether they are the document's own; else they are drawn from the values that stand in it."""
        import pandas as pd

        if self.verification:
            return pd.DataFrame([row for row, _ in self.verification], columns=list(self.used)), True
        random = np.random.default_rng(0)
        return pd.DataFrame({name: self._drawn(one, random) for name, one in self.used.items()}), False

    def _drawn(self, one: UsedField, random: np.random.Generator) -> Any:
        import pandas as pd

        field = one.declared
        if not field.is_number:
            values: Any = random.choice(np.array(one.categories, dtype=object), DRAWN_ROWS)
            if field.data_type == "boolean":
                values = values == "true"
        else:
            points = sorted({float(text) for text in one.constants if is_number(text) and abs(float(text)) < _FAR})
            ends = [end for low, high, _, _ in field.intervals for end in (low, high) if math.isfinite(end)]
            inner = [point for point in points if not ends or min(ends) <= point <= max(ends)] or ends or [0.0, 1.0]
            low, high = min(inner), max(inner)
            reach = (high - low) * 0.1 or max(abs(low), 1.0)
            limits = one.hints()
            low, high = max(low - reach, limits.get("low", -math.inf)), min(high + reach, limits.get("high", math.inf))
            values = low + (high - low) * random.random(DRAWN_ROWS)
            near = random.random(DRAWN_ROWS) < 0.5  # thresholds are as often met as passed by
            values = np.where(near, np.clip(random.choice(np.array(inner), DRAWN_ROWS), low, high), values)
            if field.data_type == "integer":
                values = np.floor(values).astype(np.int64)
        if one.hints().get("missing"):
            series = pd.Series(values)
            if field.data_type == "integer":
                series = series.astype("Int64")
            return series.mask(random.random(DRAWN_ROWS) < 0.1)
        return values

    # -- the model ---------------------------------------------------------------------------------------------------------------

    def as_graph(self, inputs: Schema, file: str, with_columns: bool = False) -> ReadGraph:
        """The model over rows of a schema. file : the member that will hold the graph. with_columns : whether what the document's Output
        names is among its outputs.
        """
        try:
            return self._as_graph(inputs, file, with_columns)
        except RecursionError:
            raise PmmlRefused("the document nests conditions or expressions deeper than can be read") from None

    def _as_graph(self, inputs: Schema, file: str, with_columns: bool) -> ReadGraph:
        compiled = CompiledForm(file, number_fields(inputs), code_fields(inputs))
        graph = Graph()
        values = self._inputs(graph, compiled, inputs)
        like = next((one.name for one in values.values() if one.categories is None), None)
        if like is None:
            like = graph.add("Cast", next(iter(values.values())).name, to=TensorProto.DOUBLE)
        columns = Columns(graph, like)
        for name in self.used:
            field = self._fields[name]
            if values[name].categories is None and field.data_type == "float":
                values[name] = columns.single(values[name])
        transformations = self._root.find("TransformationDictionary")
        functions = {} if transformations is None else {one.get("name"): one for one in transformations.all("DefineFunction")}
        scope = Scope(columns, values, functions=functions)
        scope.define(transformations)
        reader = ModelReader(self._fields, self._labels())
        outcome = reader.read(self._model, scope, top=True)
        outputs = _final(graph, columns, outcome)
        named = reader.output_values(self._model, outcome) if with_columns else {}
        names: dict[str, str] = {}
        for at, (name, value) in enumerate(named.items()):
            names[name] = f"column_{at}"
            kind = TensorProto.DOUBLE if value.categories is None else TensorProto.INT64
            outputs[f"column_{at}"] = (value.name, [None, 1], kind)
        gives = self._gives(outcome)
        whole = graph.finish(len(compiled.numbers), len(compiled.codes), outputs)
        return ReadGraph(whole, compiled, gives, names)

    def _inputs(self, graph: Graph, compiled: CompiledForm, inputs: Schema) -> dict[str, ColumnValue]:
        fields = {field.name: field for field in inputs}
        values: dict[str, ColumnValue] = {}
        for at, name in enumerate(compiled.numbers):
            column = graph.pick(Tensor(NUMBERS, len(compiled.numbers)), [at])
            values[name] = ColumnValue(column.name, whole=not fields[name].missing)
        for at, name in enumerate(compiled.codes):
            column = graph.pick(Tensor(CODES, len(compiled.codes)), [at])
            choices = ("false", "true") if fields[name].kind == "yes/no" else fields[name].choices
            ordinal = name in self._fields and self._fields[name].optype == "ordinal"
            values[name] = ColumnValue(column.name, choices, ordered=ordinal, whole=not fields[name].missing)
        return values

    def _labels(self) -> tuple[str, ...]:
        if self._model.get("functionName") != "classification":
            return ()
        listed = self._fields[self.target].values if self.target in self._fields else ()
        return tuple(listed) or labels_in(self._model)

    def _gives(self, outcome: Outcome) -> Schema:
        if outcome.label is not None:
            labels = outcome.label.categories or ()
            if outcome.affinity is None:
                return classifier_answers(labels, scored=True)
            label = Field("label", "choice", choices=labels, meaning="the nearest cluster")
            return Schema((label, Field("distance", "number", meaning="how far its centre is")))
        return Schema((Field(self.target or "value", "number"),))


def _final(graph: Graph, columns: Columns, outcome: Outcome) -> dict[str, tuple[str, list[int | None], int]]:
    """The outputs of the graph. A label is -1 where there is none."""
    flat = graph.constant(np.array([-1]))
    if outcome.label is None:
        return {"value": (graph.add("Reshape", outcome.predicted.name, flat), [None], TensorProto.DOUBLE)}
    count = len(outcome.label.categories or ())
    known = columns.add("Less", outcome.label, columns.code(count))
    label = graph.add("Reshape", columns.choose(known, outcome.label, columns.code(-1)), flat)
    outputs: dict[str, tuple[str, list[int | None], int]] = {"label": (label, [None], TensorProto.INT64)}
    if outcome.affinity is not None:
        return outputs | {"scores": (graph.add("Reshape", outcome.affinity.name, flat), [None], TensorProto.DOUBLE)}
    if outcome.scores is not None:
        outputs["scores"] = (outcome.scores.name, [None, count], TensorProto.DOUBLE)
    return outputs


def _walk(root: Element) -> Iterator[Element]:
    waiting = [root]
    while waiting:
        one = waiting.pop()
        yield one
        waiting += reversed(one.children)


def _mentioned(root: Element) -> Mapping[str, Sequence[str]]:
    """The constants that a document compares each field with."""
    found: dict[str, dict[str, None]] = {}

    def note(name: str | None, texts: Sequence[str]) -> None:
        if name is not None:
            found.setdefault(name, {}).update(dict.fromkeys(texts))

    for one in _walk(root):
        field = one.attributes.get("field")
        if one.tag in ("SimplePredicate", "NormDiscrete", "NormContinuous") and "value" in one.attributes:
            note(field, [one.attributes["value"]])
        if one.tag == "NormContinuous":
            note(field, [norm.attributes.get("orig", "0") for norm in one.all("LinearNorm")])
        elif one.tag == "SimpleSetPredicate" and (array := one.find("Array")) is not None:
            note(field, array.array())
        elif one.tag == "CategoricalPredictor" and "value" in one.attributes:
            note(one.attributes.get("name"), [one.attributes["value"]])
        elif one.tag == "PPCell" and "value" in one.attributes:
            note(one.attributes.get("predictorName"), [one.attributes["value"]])
        elif one.tag == "Discretize":
            margins = [part.attributes for bin_ in one.all("DiscretizeBin") for part in bin_.all("Interval")]
            note(field, [text for given in margins for key, text in given.items() if key.endswith("Margin")])
        elif one.tag == "BayesInput":
            note(one.attributes.get("fieldName"), [pair.attributes.get("value", "") for pair in one.all("PairCounts")])
        elif one.tag == "MapValues" and (table := one.find("InlineTable")) is not None:
            for pair in one.all("FieldColumnPair"):
                column = pair.attributes.get("column")
                note(pair.attributes.get("field"), [cell.text for row in table.all("row") for cell in row.children if cell.tag == column])
        elif one.tag == "Apply":
            texts = [part.text for part in one.all("Constant")]
            for part in one.all("FieldRef"):
                note(part.attributes.get("field"), texts)
    return {name: list(texts) for name, texts in found.items()}


def _missing_known(root: Element) -> frozenset[str]:
    """The fields of which the document says somewhere what is done where they are missing."""
    found: set[str] = set()
    for one in _walk(root):
        if one.tag == "SimplePredicate" and one.attributes.get("operator") in ("isMissing", "isNotMissing"):
            found.add(one.attributes.get("field", ""))
        elif one.tag == "CompoundPredicate" and one.attributes.get("booleanOperator") == "surrogate":
            found |= {part.attributes.get("field", "") for part in _walk(one)}
        elif one.tag == "Apply" and one.attributes.get("function") in ("isMissing", "isNotMissing"):
            found |= {part.attributes.get("field", "") for part in one.all("FieldRef")}
        elif "mapMissingTo" in one.attributes:
            found.add(one.attributes.get("field", ""))
            found |= {part.attributes.get("field", "") for part in one.all("FieldRef", "FieldColumnPair")}
        elif one.tag == "BayesInput":
            found.add(one.attributes.get("fieldName", ""))
        elif one.tag == "TreeModel" and one.attributes.get("missingValueStrategy") in _MISSING_AWARE:
            found |= {part.attributes.get("field", "") for part in _walk(one) if part.tag in ("SimplePredicate", "SimpleSetPredicate")}
        elif one.tag == "MiningField" and "missingValueReplacement" in one.attributes:
            found.add(one.attributes.get("name", ""))
    return frozenset(found)
