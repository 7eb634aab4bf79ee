"""A package as one SELECT over a table or query that has a column for each field.

The SQL is that of the standard, with two words that most engines share: ``double precision`` and ``OFFSET 0``, which keeps an engine from
writing a column out again wherever it is used. A missing number is NULL.
"""

from __future__ import annotations

import math
from itertools import chain

from lamppost.core.schema.fields import Field
from lamppost.packing.export.answer_shape import ExportedModel, number_outputs
from lamppost.packing.export.expressions import Expression, Trees, statements
from lamppost.packing.export.row_program import NoSuchForm

MAX_BYTES = 32 * 2**20
MAX_COLUMNS = 1_500
"""PostgreSQL takes 1,664 in one list, the fields and columns that go along among them."""
_DEEPEST = 12
_PATTERNS = {
    "add": "({0} + {1})",
    "subtract": "({0} - {1})",
    "multiply": "({0} * {1})",
    "divide": "({0} / nullif({1}, 0.0))",
    "negate": "(- {0})",
    "absolute": "abs({0})",
    "exponential": "CASE WHEN {0} < -700.0 THEN 0.0 ELSE exp({0}) END",
    "logarithm": "ln(nullif({0}, 0.0))",
    "root": "sqrt({0})",
    "power": "power({0}, {1})",
    "tanh": "(1.0 - 2.0 / (1.0 + exp(CASE WHEN {0} > 350.0 THEN 700.0 WHEN {0} < -350.0 THEN -700.0 ELSE 2.0 * {0} END)))",
    "sigmoid": "CASE WHEN {0} < -700.0 THEN 0.0 ELSE 1.0 / (1.0 + exp(CASE WHEN {0} > 700.0 THEN -700.0 ELSE - {0} END)) END",
    "floor": "floor({0})",
    "least": "CASE WHEN {0} < {1} OR {0} IS NULL THEN {0} ELSE {1} END",
    "greatest": "CASE WHEN {0} > {1} OR {0} IS NULL THEN {0} ELSE {1} END",
    "less": "({0} < {1})",
    "less_equal": "({0} <= {1})",
    "equal": "({0} = {1})",
    "and": "({0} AND {1})",
    "or": "({0} OR {1})",
    "not": "(({0}) IS NOT TRUE)",
    "choose": "CASE WHEN {0} THEN {1} ELSE {2} END",
    "missing": "({0} IS NULL)",
    "single": "CAST(CAST({0} AS real) AS double precision)",
}


SQL_KINDS = {"number": "double precision", "integer": "bigint", "choice": "text", "yes/no": "boolean"}
"""Types of columns by the kinds of fields."""


def quote(name: str) -> str:
    """An identifier in double quotes (SQL:2016, 5.2)."""
    doubled = name.replace('"', '""')
    return f'"{doubled}"'


def quote_text(text: str) -> str:
    """A text in single quotes."""
    doubled = text.replace("'", "''")
    return f"'{doubled}'"


class _Writer:
    def __init__(self, model: ExportedModel) -> None:
        self.names: dict[int, str] = {}
        self._model = model
        self._fields = model.by_name

    def write(self, one: Expression) -> str:
        return self.names.get(id(one)) or self.write_whole(one)

    def write_whole(self, one: Expression) -> str:
        program = self._model.program
        match one.operation:
            case "constant":
                return _literal(one.value)
            case "number":
                return f"CAST({quote(program.numbers[one.value])} AS double precision)"
            case "code":
                return _code(self._fields[program.codes[one.value]])
            case "lookup":
                return self._lookup(one)
            case "trees":
                trees, target = one.value
                return self._trees(trees, target, [self.write(part) for part in one.parts])
            case "whole":
                return f"CAST({self.write(one.parts[0])} AS integer)"
        return _PATTERNS[one.operation].format(*(self.write(part) for part in one.parts))

    def _lookup(self, one: Expression) -> str:
        values = list(one.value.values())
        usual = max(set(values), key=values.count)
        arms = " ".join(f"WHEN {place} THEN {_literal(value)}" for place, value in one.value.items() if value != usual)
        index = self.write(one.parts[0])
        return f"CASE WHEN {index} IS NULL THEN NULL ELSE CASE {index} {arms} ELSE {_literal(usual)} END END"

    def _trees(self, trees: Trees, target: int, features: list[str]) -> str:
        written = [text for root in trees.roots if (text := _tree(trees, root, target, features)) is not None]
        return "(" + " + ".join(f"CAST({text} AS double precision)" for text in written or ["0.0"]) + ")"


def _literal(value: float | int | bool) -> str:
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, float):
        if math.isnan(value):
            return "CAST(NULL AS double precision)"
        if math.isinf(value):
            return f"CAST('{'' if value > 0 else '-'}Infinity' AS double precision)"
        return f"CAST({value!r} AS double precision)" if value >= 0 else f"CAST(({value!r}) AS double precision)"
    return str(value)


def _code(field: Field) -> str:
    column = quote(field.name)
    if field.kind == "yes/no":
        return f"CASE WHEN {column} IS NULL THEN 3 WHEN {column} THEN 1 ELSE 0 END"
    arms = " ".join(f"WHEN {quote_text(choice)} THEN {at}" for at, choice in enumerate(field.choices))
    unseen = "NULL" if field.unseen == "refuse" else str(len(field.choices))
    return f"CASE WHEN {column} IS NULL THEN {len(field.choices) + 1} ELSE CASE {column} {arms} ELSE {unseen} END END"


def _tree(trees: Trees, root: int, target: int, features: list[str]) -> str | None:
    """One tree as nested cases; None where none of its leaves counts for the target."""
    node = trees.nodes[root]
    if node.feature < 0:
        weight = sum(weight for of, weight in node.weights if of == target)
        return _literal(float(weight)) if any(of == target for of, _ in node.weights) else None
    yes, no = (_tree(trees, at, target, features) for at in (node.yes, node.no))
    if yes is None and no is None:
        return None
    if yes == no:
        return yes
    value, sign = features[node.feature], "<" if node.less else "<="
    condition = f"{value} {sign} {node.threshold!r}" + (f" OR {value} IS NULL" if node.missing_yes else "")
    return f"CASE WHEN {condition} THEN {yes or '0.0'} ELSE {no or '0.0'} END"


def write_sql(model: ExportedModel, table: str, keep: tuple[str, ...] = ()) -> str:
    """The SELECT, without a semicolon. table : of the rows, as SQL writes it, or a query in brackets. keep : columns that go along.

    Raise NoSuchForm for a model that would take more than 32 MiB of SQL.
    """
    outputs = list(chain.from_iterable(model.program.outputs.values()))
    writer = _Writer(model)
    levels: dict[int, int] = {}
    columns: dict[int, list[str]] = {}
    size = 0
    named = statements(outputs, deepest=_DEEPEST)
    wide = {id(part) for one in named if one.operation == "trees" for part in one.parts if part.operation != "constant"}
    for one in statements_with(outputs, named, wide):
        level = 1 + max((levels[found] for found in _named_below(one, writer)), default=0)
        text = writer.write_whole(one)
        name = f"lp_{len(writer.names)}"
        columns.setdefault(level, []).append(f"{text} AS {name}")
        writer.names[id(one)], levels[id(one)] = name, level
        size += len(text)
        if size > MAX_BYTES:
            raise NoSuchForm(f"{model.manifest.name} would take more than {MAX_BYTES // 2**20} MiB of SQL; score its rows in a bulk run")
    if (count := len(writer.names)) > MAX_COLUMNS:
        raise NoSuchForm(
            f"{model.manifest.name} computes {count:,} values on the way, and SQL takes {MAX_COLUMNS:,} columns; "
            "score its rows in a bulk run"
        )
    source = f"{table} AS lp_rows"
    for level in sorted(columns):
        source = f"(SELECT *, {', '.join(columns[level])} FROM {source} OFFSET 0) AS lp_step{level}"
    kept = [quote(name) for name in keep]
    answers = [f"{text} AS {quote(name)}" for text, name in zip(_answers(model, writer), model.answer_columns, strict=True)]
    head = f"-- {model.manifest.name}, written by {model.written_by}".replace("\n", " ")
    return f"{head}\nSELECT {', '.join([*kept, *answers])} FROM {source}"


def write_sql_function(model: ExportedModel, name: str) -> str:
    """A function in SQL of PostgreSQL that takes the fields of a row, by their names or in their order, and gives one row of answers."""
    columns = [f"{quote(column)} {kind}" for column, kind in zip(model.answer_columns, _answer_kinds(model), strict=True)]
    if twice := set(model.by_name) & set(model.answer_columns):
        raise NoSuchForm(f"{min(twice)!r} is a field and an answer, and a function cannot have both; make a view")
    row = ", ".join(f"${at} AS {quote(field.name)}" for at, field in enumerate(model.fields, start=1))
    arguments = ", ".join(f"{quote(field.name)} {SQL_KINDS[field.kind]}" for field in model.fields)
    body = write_sql(model, f"(SELECT {row})")
    tag = "lp_body"
    while f"${tag}$" in body:
        tag += "_"
    return (
        f"CREATE OR REPLACE FUNCTION {quote(name)}({arguments})\nRETURNS TABLE ({', '.join(columns)})\n"
        f"LANGUAGE sql IMMUTABLE PARALLEL SAFE\nAS ${tag}$\n{body}\n${tag}$"
    )


def _answer_kinds(model: ExportedModel) -> list[str]:
    return ["double precision" if column != (model.label and model.label.name) else "text" for column in model.answer_columns]


def statements_with(outputs: list[Expression], named: list[Expression], wide: set[int]) -> list[Expression]:
    """The expressions that become columns: those that have a name, and the inputs of trees, which are used in every split."""
    chosen = {id(one) for one in named} | wide
    found: list[Expression] = []
    seen: set[int] = set()
    stack = [(one, False) for one in reversed(outputs)]
    while stack:
        one, done = stack.pop()
        if done:
            if id(one) in chosen:
                found.append(one)
            continue
        if id(one) not in seen:
            seen.add(id(one))
            stack.append((one, True))
            stack += [(part, False) for part in reversed(one.parts)]
    return found


def _named_below(one: Expression, writer: _Writer) -> list[int]:
    """The named expressions that an expression is written with."""
    found, stack, seen = [], list(one.parts), set()
    while stack:
        part = stack.pop()
        if id(part) in seen:
            continue
        seen.add(id(part))
        if id(part) in writer.names:
            found.append(id(part))
        else:
            stack += part.parts
    return found


def _answers(model: ExportedModel, writer: _Writer) -> list[str]:
    texts = []
    if model.label is not None:
        label = writer.write(model.program.outputs["label"][0])
        arms = " ".join(f"WHEN {at} THEN {quote_text(choice)}" for at, choice in enumerate(model.label.choices))
        texts.append(f"CASE {label} {arms} END")
    scores = model.program.outputs["scores"] if model.scores is not None else ()
    return [*texts, *(writer.write(one) for one in (*scores, *number_outputs(model)))]
