"""A package as one Python module that imports nothing but the standard library."""

from __future__ import annotations

import re
from itertools import chain

from lamppost.packing.export.answer_shape import ExportedModel, number_outputs
from lamppost.packing.export.c_like import ExpressionWriter, Language
from lamppost.packing.export.expressions import Trees

_PYTHON = Language(
    {
        "number": "n[{0}]",
        "code": "c[{0}]",
        "add": "({0} + {1})",
        "subtract": "({0} - {1})",
        "multiply": "({0} * {1})",
        "divide": "_divide({0}, {1})",
        "negate": "(-{0})",
        "absolute": "abs({0})",
        "exponential": "_exp({0})",
        "logarithm": "_log({0})",
        "root": "_sqrt({0})",
        "power": "_power({0}, {1})",
        "tanh": "math.tanh({0})",
        "sigmoid": "_sigmoid({0})",
        "floor": "_floor({0})",
        "least": "_least({0}, {1})",
        "greatest": "_greatest({0}, {1})",
        "less": "({0} < {1})",
        "less_equal": "({0} <= {1})",
        "equal": "({0} == {1})",
        "and": "({0} and {1})",
        "or": "({0} or {1})",
        "not": "(not {0})",
        "choose": "({1} if {0} else {2})",
        "missing": "_is_nan({0})",
        "single": "_single({0})",
        "whole": "int({0})",
    },
    "{0}[{1}]",
    "{0}[{1}]",
    "True",
    "False",
    "math.inf",
    "math.nan",
)
_HELPERS = '''
def _is_nan(x):
    return x != x


def _divide(a, b):
    if b != 0:
        return a / b
    return math.nan if a == 0 or a != a else math.copysign(math.inf, a) * math.copysign(1.0, b)


def _exp(x):
    try:
        return math.exp(x)
    except OverflowError:
        return math.inf


def _log(x):
    return math.log(x) if x > 0 else -math.inf if x == 0 else math.nan


def _sqrt(x):
    return math.sqrt(x) if x >= 0 else math.nan


def _power(a, b):
    try:
        power = a**b
    except ZeroDivisionError:
        return math.inf
    except OverflowError:
        return math.inf
    return power if isinstance(power, float) else math.nan


def _sigmoid(x):
    if x >= 0:
        return 1.0 / (1.0 + math.exp(-x))
    power = _exp(x)
    return power / (1.0 + power)


def _floor(x):
    return float(math.floor(x)) if math.isfinite(x) else x


def _least(a, b):
    return a if a != a or a < b else b


def _greatest(a, b):
    return a if a != a or a > b else b


def _single(x):
    """The nearest number of 32 bits."""
    try:
        return struct.unpack("<f", struct.pack("<f", x))[0]
    except OverflowError:
        return math.copysign(math.inf, x)


def _trees(nodes, roots, targets, x):
    """Sums of the leaves that a row reaches. A split: (feature, threshold, strict, missing_yes, yes, no); a leaf: (-1, weights)."""
    sums = [0.0] * targets
    for at in roots:
        node = nodes[at]
        while node[0] >= 0:
            value = x[node[0]]
            if value != value:
                yes = node[3]
            else:
                yes = value < node[1] if node[2] else value <= node[1]
            node = nodes[node[4] if yes else node[5]]
        for target, weight in node[1]:
            sums[target] += weight
    return sums


def _read(row):
    """Numbers and codes of a row, a mapping of fields to values. Raises ValueError for a row that the service would refuse."""
    unknown = [name for name in row if name not in FIELDS]
    if unknown:
        raise ValueError("there is no field %r" % unknown[0])
    numbers, codes = [], []
    for name, field in FIELDS.items():
        value = row.get(name, field["default"])
        if value is None and not field["missing"]:
            raise ValueError("%s is missing" % name)
        kind = field["kind"]
        if kind in ("number", "integer"):
            if value is None:
                numbers.append(math.nan)
                continue
            if isinstance(value, bool) or not isinstance(value, (int, float) if kind == "number" else int) or not math.isfinite(value):
                raise ValueError("%s is %r, and must be a %s" % (name, value, kind))
            if (field["low"] is not None and value < field["low"]) or (field["high"] is not None and value > field["high"]):
                raise ValueError("%s is %r, and must be from %s to %s" % (name, value, field["low"], field["high"]))
            numbers.append(float(value))
        elif kind == "yes/no":
            if value is not None and not isinstance(value, bool):
                raise ValueError("%s is %r, and must be true or false" % (name, value))
            codes.append(3 if value is None else int(value))
        else:
            if value is not None and not isinstance(value, str):
                raise ValueError("%s is %r, and must be text" % (name, value))
            if value is not None and value not in field["choices"] and field["unseen"] == "refuse":
                raise ValueError("%s is %r, and must be one of %s" % (name, value, ", ".join(field["choices"])))
            count = len(field["choices"])
            codes.append(count + 1 if value is None else field["choices"].get(value, count))
    return numbers, codes
'''


def write_python(model: ExportedModel) -> str:
    """The text of the module."""
    manifest = model.manifest
    outputs = list(chain.from_iterable(model.program.outputs.values()))
    writer = ExpressionWriter(_PYTHON)
    body = writer.write_statements(
        outputs,
        lambda _, name, text: f"{name} = {text}",
        lambda sums, forest, _, features: [f"{sums} = _trees(*{forest}, ({', '.join(features)},))"],
    )
    answer = _answer(model, writer)
    tables = [f"{name} = {values!r}".replace("nan", "math.nan").replace("inf", "math.inf") for name, values in writer.tables.items()]
    forests = [f"{name} = {_forest(trees)}" for name, trees in writer.forests.values()]
    fields = {
        field.name: {
            "kind": field.kind,
            "low": field.low,
            "high": field.high,
            "missing": field.missing,
            "default": field.default,
            "unseen": field.unseen,
            "choices": {choice: at for at, choice in enumerate(field.choices)},
        }
        for field in model.fields
    }
    head = f'"""{manifest.name}, written by {model.written_by}. ``predict`` answers a row as the service does."""'
    lines = [head, "", "import math", "import struct", "", f"NAME = {manifest.name!r}", f"FIELDS = {fields!r}"]
    lines += [
        *tables,
        *forests,
        "",
        _HELPERS,
        "",
        "def predict(row):",
        f'    """The answer to a row: {", ".join(model.answer_columns)}."""',
    ]
    lines += ["    n, c = _read(row)", *(f"    {line}" for line in body), *(f"    {line}" for line in answer), ""]
    return "\n".join(lines)


def _forest(trees: Trees) -> str:
    nodes = [
        (-1, node.weights) if node.feature < 0 else (node.feature, node.threshold, node.less, node.missing_yes, node.yes, node.no)
        for node in trees.nodes
    ]
    written = re.sub(r"\b(nan|inf)\b", r"math.\1", repr(nodes))
    return f"({written}, {list(trees.roots)!r}, {trees.targets})"


def _answer(model: ExportedModel, writer: ExpressionWriter) -> list[str]:
    """The lines that make the answer of the outputs."""
    program, parts = model.program, []
    lines = []
    if model.label is not None:
        (label,) = program.outputs["label"]
        lines.append(f"label = {writer.write(label)}")
        parts.append(f"{model.label.name!r}: {list(model.label.choices)!r}[label]")
        if model.scores is not None:
            scores = ", ".join(
                f"{choice!r}: {writer.write(one)}" for choice, one in zip(model.scores.choices, program.outputs["scores"], strict=True)
            )
            parts.append(f"{model.scores.name!r}: {{{scores}}}")
    for field, one in zip(model.values, number_outputs(model), strict=True):
        parts.append(f"{field.name!r}: {writer.write(one)}")
    return [*lines, f"return {{{', '.join(parts)}}}"]
