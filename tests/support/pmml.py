"""PMML documents for tests, and a second reading of trees: row by row, with None for missing and for unknown."""

import math
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any
from xml.etree import ElementTree as ET

import numpy as np

from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import columns_from_rows, rows_from_columns
from lamppost.core.schema.fields import Field, Schema
from lamppost.package.compiled_model import CompiledModel
from lamppost.packing.pmml.document import parse_document
from lamppost.packing.pmml.reading import PmmlDocument

Row = dict[str, Any]
FIELDS = """
<DataField name="age" optype="continuous" dataType="double"/>
<DataField name="visits" optype="continuous" dataType="integer"/>
<DataField name="kind" optype="categorical" dataType="string"><Value value="led"/><Value value="gas"/><Value value="sodium"/></DataField>
<DataField name="coast" optype="categorical" dataType="boolean"/>
"""
ANSWERS = {
    "regression": '<DataField name="hours" optype="continuous" dataType="double"/>',
    "classification": """<DataField name="hours" optype="categorical" dataType="string"><Value value="few"/><Value value="many"/>
</DataField>""",
    "clustering": '<DataField name="hours" optype="categorical" dataType="string"/>',
}
SCHEMA = """<MiningSchema><MiningField name="age"/><MiningField name="visits"/><MiningField name="kind"/><MiningField name="coast"/>
<MiningField name="hours" usageType="target"/></MiningSchema>"""


def document(model: str, answers: str = "regression", transformations: str = "", fields: str = FIELDS) -> bytes:
    """A whole document. model : its element, with ``SCHEMA`` in it where that is meant."""
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<PMML version="4.4" xmlns="http://www.dmg.org/PMML-4_4"><Header description="lamps of Tallowby"/>
<DataDictionary>{fields}{ANSWERS.get(answers, answers)}</DataDictionary>
{transformations and f"<TransformationDictionary>{transformations}</TransformationDictionary>"}
{model.replace("SCHEMA", SCHEMA)}</PMML>""".encode()


def reader(content: bytes, missing: bool = False) -> tuple[Schema, Callable[[Sequence[Row]], list[Row]]]:
    """The schema of a document's rows, and what answers them. missing : whether every field may be missing."""
    read = PmmlDocument(parse_document(content))
    more = {"missing": True} if missing else {}
    inputs = Schema(tuple(Field(name, **(hint | more)) for name, hint in read.hints().items()))
    graph = read.as_graph(inputs, "graph")
    model = CompiledModel(graph.graph, graph.compiled, inputs)

    def answer(rows: Sequence[Row]) -> list[Row]:
        parsed = ValidationPlan(inputs, max_rows=10_000).read_rows(list(rows))
        return rows_from_columns(graph.gives, model.run(columns_from_rows(inputs, parsed)))

    return inputs, answer


def write(folder: Path, content: bytes, name: str = "hours.pmml") -> Path:
    """A document in a folder."""
    path = folder / name
    path.write_bytes(content)
    return path


def some_rows(count: int, missing: float = 0.0, seed: int = 0) -> list[Row]:
    """Rows of the usual fields. missing : share of the values that are."""
    random = np.random.default_rng(seed)
    rows = []
    for _ in range(count):
        row = {
            "age": float(np.round(random.normal(10, 6), 1)),
            "visits": int(random.integers(0, 9)),
            "kind": ("led", "gas", "sodium")[int(random.integers(3))],
            "coast": bool(random.integers(2)),
        }
        rows.append({name: None if random.random() < missing else value for name, value in row.items()})
    return rows


def leaf(score: Any, kind: str = "regression") -> str:
    """A tree of one leaf."""
    return f'<TreeModel functionName="{kind}">SCHEMA<Node score="{score}"><True/></Node></TreeModel>'


def values(content: bytes, rows: Sequence[Row], missing: bool = False) -> list[Any]:
    """The first part of each answer; None where that is no number or label."""
    _, answer = reader(content, missing)
    first = [next(iter(row.values())) for row in answer(rows)]
    return [None if isinstance(value, float) and math.isnan(value) else value for value in first]


ROWS = some_rows(300)


# -- trees, read a second time ------------------------------------------------------------------------------------------------------


def _tag(element: ET.Element) -> str:
    return element.tag.rpartition("}")[2]


def holds(predicate: ET.Element, row: Row) -> bool | None:
    """What a predicate says of a row; None for unknown."""
    tag = _tag(predicate)
    if tag in ("True", "False"):
        return tag == "True"
    if tag == "CompoundPredicate":
        parts = [holds(child, row) for child in predicate]
        operator = predicate.get("booleanOperator")
        if operator == "and":
            return False if False in parts else None if None in parts else True
        if operator == "or":
            return True if True in parts else None if None in parts else False
        if operator == "xor":
            return None if None in parts else sum(map(bool, parts)) % 2 == 1
        return next((part for part in parts if part is not None), None)
    value = row[predicate.get("field") or ""]
    operator = predicate.get("operator") or predicate.get("booleanOperator")
    if operator in ("isMissing", "isNotMissing"):
        return (value is None) == (operator == "isMissing")
    if value is None:
        return None
    text = str(value).lower() if isinstance(value, bool) else value
    if tag == "SimpleSetPredicate":
        return (text in (predicate[0].text or "").split()) == (operator == "isIn")
    other: Any = predicate.get("value")
    if not isinstance(text, str):
        other = float(other)
    return {
        "equal": lambda: text == other,
        "notEqual": lambda: text != other,
        "lessThan": lambda: text < other,
        "lessOrEqual": lambda: text <= other,
        "greaterThan": lambda: text > other,
        "greaterOrEqual": lambda: text >= other,
    }[operator or ""]()


def follow(model: ET.Element, row: Row) -> str | None:
    """The score that a row reaches in a tree."""
    strategy, last = model.get("missingValueStrategy", "none"), model.get("noTrueChildStrategy") == "returnLastPrediction"
    node = next(child for child in model if _tag(child) == "Node")
    while children := [child for child in node if _tag(child) == "Node"]:
        for child in children:
            known = holds(child[0], row)
            if known is None and strategy != "none":
                if strategy == "lastPrediction":
                    return node.get("score")
                if strategy == "nullPrediction":
                    return None
                child = next(one for one in children if one.get("id") == node.get("defaultChild"))
                known = True
            if known:
                node = child
                break
        else:
            return node.get("score") if last else None
    return node.get("score")


class TreeGrower:
    """Grows random trees of every kind of predicate. strategy : of missing values."""

    def __init__(self, seed: int, strategy: str, last: bool) -> None:
        self._random = np.random.default_rng(seed)
        self._strategy = strategy
        self._last = last
        self._count = 0

    def model(self) -> str:
        last = "returnLastPrediction" if self._last else "returnNullPrediction"
        return (
            f'<TreeModel functionName="regression" missingValueStrategy="{self._strategy}" noTrueChildStrategy="{last}">'
            f"SCHEMA{self._node('<True/>', 4)}</TreeModel>"
        )

    def _node(self, predicate: str, depth: int) -> str:
        self._count += 1
        name, score = f"n{self._count}", round(float(self._random.normal()), 4)
        if depth == 0 or self._random.random() < 0.15:
            return f'<Node id="{name}" score="{score}">{predicate}</Node>'
        width = int(self._random.integers(2, 4))
        if self._random.random() < 0.4:
            left, right = self._opposites()
            predicates = [left, right]
        else:
            predicates = [self._predicate(2) for _ in range(width - 1)] + [self._predicate(2) if self._random.random() < 0.6 else "<True/>"]
        children = [self._node(one, depth - 1) for one in predicates]
        ids = [child.split('"')[1] for child in children]
        default = ids[int(self._random.integers(len(ids)))]
        return f'<Node id="{name}" score="{score}" defaultChild="{default}">{predicate}{"".join(children)}</Node>'

    def _opposites(self) -> tuple[str, str]:
        value = round(float(self._random.normal(10, 6)), 1)
        pair = [("lessOrEqual", "greaterThan"), ("lessThan", "greaterOrEqual"), ("equal", "notEqual")][int(self._random.integers(3))]
        if pair[0] == "equal":
            return tuple(f'<SimplePredicate field="kind" operator="{one}" value="gas"/>' for one in pair)  # type: ignore[return-value]
        return tuple(f'<SimplePredicate field="age" operator="{one}" value="{value}"/>' for one in pair)  # type: ignore[return-value]

    def _predicate(self, depth: int) -> str:
        kind = int(self._random.integers(6 if depth else 4))
        if kind == 0:
            operator = ("lessThan", "lessOrEqual", "greaterThan", "greaterOrEqual")[int(self._random.integers(4))]
            return f'<SimplePredicate field="age" operator="{operator}" value="{round(float(self._random.normal(10, 6)), 1)}"/>'
        if kind == 1:
            operator = ("equal", "notEqual", "lessThan", "isMissing", "isNotMissing")[int(self._random.integers(5))]
            value = "" if "issing" in operator else f' value="{int(self._random.integers(0, 9))}"'
            return f'<SimplePredicate field="visits" operator="{operator}"{value}/>'
        if kind == 2:
            operator = ("isIn", "isNotIn")[int(self._random.integers(2))]
            array = '<Array type="string" n="2">led gas</Array>'
            return f'<SimpleSetPredicate field="kind" booleanOperator="{operator}">{array}</SimpleSetPredicate>'
        if kind == 3:
            return f'<SimplePredicate field="coast" operator="equal" value="{("true", "false")[int(self._random.integers(2))]}"/>'
        operator = ("and", "or", "xor", "surrogate")[int(self._random.integers(4))]
        return (
            f'<CompoundPredicate booleanOperator="{operator}">{self._predicate(depth - 1)}{self._predicate(depth - 1)}</CompoundPredicate>'
        )
