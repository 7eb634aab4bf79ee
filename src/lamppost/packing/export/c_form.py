"""A package as one C99 file that allocates nothing and needs nothing but the standard library's mathematics."""

from __future__ import annotations

from itertools import chain

from lamppost.core.names import plain_name
from lamppost.packing.export.answer_shape import ExportedModel, number_outputs
from lamppost.packing.export.c_like import ExpressionWriter, Language
from lamppost.packing.export.expressions import Expression, Trees

_C = Language(
    {
        "number": "n[{0}]",
        "code": "c[{0}]",
        "add": "({0} + {1})",
        "subtract": "({0} - {1})",
        "multiply": "({0} * {1})",
        "divide": "({0} / {1})",
        "negate": "(-{0})",
        "absolute": "fabs({0})",
        "exponential": "exp({0})",
        "logarithm": "log({0})",
        "root": "sqrt({0})",
        "power": "pow({0}, {1})",
        "tanh": "tanh({0})",
        "sigmoid": "lp_sigmoid({0})",
        "floor": "floor({0})",
        "least": "lp_least({0}, {1})",
        "greatest": "lp_greatest({0}, {1})",
        "less": "({0} < {1})",
        "less_equal": "({0} <= {1})",
        "equal": "({0} == {1})",
        "and": "({0} && {1})",
        "or": "({0} || {1})",
        "not": "(!{0})",
        "choose": "({0} ? {1} : {2})",
        "missing": "({0} != {0})",
        "single": "((double)(float){0})",
        "whole": "((int){0})",
    },
    "{0}[{1}]",
    "{0}[{1}]",
    "1",
    "0",
    "INFINITY",
    "NAN",
)
_HELPERS = """
struct lp_node { int feature; double threshold; int strict; int missing_yes; int yes; int no; };
struct lp_leaf { int target; double weight; };

static double lp_sigmoid(double x) {
    if (x >= 0) return 1.0 / (1.0 + exp(-x));
    double power = exp(x);
    return power / (1.0 + power);
}
static double lp_least(double a, double b) { return a != a || a < b ? a : b; }
static double lp_greatest(double a, double b) { return a != a || a > b ? a : b; }

/* Sums of the leaves that a row reaches. A leaf has feature -1; its weights lie from yes to no. */
static void lp_trees(
    const struct lp_node *nodes, const struct lp_leaf *leaves, const int *roots, int trees, const double *x, double *sums) {
    for (int tree = 0; tree < trees; tree++) {
        const struct lp_node *node = nodes + roots[tree];
        while (node->feature >= 0) {
            double value = x[node->feature];
            int yes = value != value ? node->missing_yes : node->strict ? value < node->threshold : value <= node->threshold;
            node = nodes + (yes ? node->yes : node->no);
        }
        for (int at = node->yes; at < node->no; at++) sums[leaves[at].target] += leaves[at].weight;
    }
}
"""


def write_c(model: ExportedModel) -> str:
    """The text of the file."""
    manifest, program = model.manifest, model.program
    name = plain_name(manifest.name).replace("-", "_")
    outputs = list(chain.from_iterable(program.outputs.values()))
    writer = ExpressionWriter(_C)
    body = writer.write_statements(outputs, _assign, _sum_trees)
    body += _answers(model, writer)
    lines = [_introduction(model, name), "#include <math.h>", "#include <string.h>", _HELPERS]
    for table, values in writer.tables.items():
        kind = "int" if all(isinstance(value, int) for value in values) else "double"
        lines.append(f"static const {kind} {table}[] = {{{', '.join(_literal(value) for value in values)}}};")
    for forest, trees in writer.forests.values():
        lines += _forest(forest, trees)
    lines += [*_codes(model, name), f"int {name}_predict(const double n[], const int c[], double answers[]) {{"]
    lines += [*(f"    {line}" for line in body), "}", ""]
    return "\n".join(lines)


def _assign(kind: str, name: str, text: str) -> str:
    return f"const {'double' if kind == 'float' else 'int'} {name} = {text};"


def _sum_trees(sums: str, forest: str, trees: Trees, features: list[str]) -> list[str]:
    return [
        f"const double x{sums}[] = {{{', '.join(features)}}};",
        f"double {sums}[{trees.targets}] = {{0}};",
        f"lp_trees({forest}_nodes, {forest}_leaves, {forest}_roots, {len(trees.roots)}, x{sums}, {sums});",
    ]


def _literal(value: float) -> str:
    return "NAN" if value != value else "INFINITY" if value == float("inf") else "-INFINITY" if value == -float("inf") else repr(value)


def _forest(forest: str, trees: Trees) -> list[str]:
    leaves: list[str] = []
    nodes: list[str] = []
    for node in trees.nodes:
        if node.feature < 0:
            start = len(leaves)
            leaves += [f"{{{target}, {_literal(weight)}}}" for target, weight in node.weights]
            nodes.append(f"{{-1, 0, 0, 0, {start}, {len(leaves)}}}")
        else:
            flags = f"{int(node.less)}, {int(node.missing_yes)}"
            nodes.append(f"{{{node.feature}, {_literal(node.threshold)}, {flags}, {node.yes}, {node.no}}}")
    return [
        f"static const struct lp_node {forest}_nodes[] = {{{', '.join(nodes)}}};",
        f"static const struct lp_leaf {forest}_leaves[] = {{{', '.join(leaves)}}};",
        f"static const int {forest}_roots[] = {{{', '.join(map(str, trees.roots))}}};",
    ]


def _text(value: str) -> str:
    """A C string: bytes of UTF-8, of which all but plain ones are written as octal numbers."""
    plain = "".join(chr(byte) if 32 <= byte < 127 and chr(byte) not in '"\\?' else f"\\{byte:03o}" for byte in value.encode())
    return f'"{plain}"'


def _codes(model: ExportedModel, name: str) -> list[str]:
    """The function from a choice to its code, and the labels."""
    fields = model.by_name
    lines = [f"int {name}_code(int place, const char *text) {{", "    /* text : UTF-8, NULL for a missing one */", "    switch (place) {"]
    for place, field_name in enumerate(model.program.codes):
        field = fields[field_name]
        choices = ("false", "true") if field.kind == "yes/no" else field.choices
        count = 3 if field.kind == "yes/no" else len(field.choices)
        missing = 3 if field.kind == "yes/no" else count + 1
        lines.append(f"    case {place}: /* {field_name.replace('*/', '* /')} */")
        lines.append(f"        if (text == NULL) return {missing};")
        lines += [f"        if (strcmp(text, {_text(choice)}) == 0) return {at};" for at, choice in enumerate(choices)]
        lines.append(f"        return {count};")
    lines += ["    default: return -1;", "    }", "}", ""]
    if model.label is not None:
        labels = ", ".join(_text(choice) for choice in model.label.choices)
        lines += [f"const char *const {name}_labels[] = {{{labels}}};", ""]
    return lines


def _answers(model: ExportedModel, writer: ExpressionWriter) -> list[str]:
    scores: tuple[Expression, ...] = model.program.outputs["scores"] if model.scores is not None else ()
    lines = [f"answers[{at}] = {writer.write(one)};" for at, one in enumerate((*scores, *number_outputs(model)))]
    label = writer.write(model.program.outputs["label"][0]) if model.label is not None else "0"
    return [*lines, f"return {label};"]


def _introduction(model: ExportedModel, name: str) -> str:
    numbers = [f"   n[{at}]  {field}, {model.by_name[field].expected_text()}" for at, field in enumerate(model.program.numbers)]
    codes = [f"   c[{at}]  {field}: {name}_code({at}, text)" for at, field in enumerate(model.program.codes)]
    given = model.answer_columns[1:] if model.label is not None else model.answer_columns
    answers = [f"   answers[{at}]  {column}" for at, column in enumerate(given)]
    returned = f"It returns the place of the label in {name}_labels." if model.label is not None else "It returns 0."
    text = [
        f"/* {model.manifest.name}, written by {model.written_by}. C99; link with -lm.",
        f"   {name}_predict(n, c, answers) answers one row. {returned} A missing number is NAN.",
        *(line.replace("*/", "* /") for line in (*numbers, *codes, *answers)),
        "   Compile without -ffast-math. Values are not checked here. */",
    ]
    return "\n".join(text)
