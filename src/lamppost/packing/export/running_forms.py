"""Runs each form in the thing that will run it: a fresh interpreter, the system's C compiler, PostgreSQL, the ONNX runtime alone."""

from __future__ import annotations

import shutil
import subprocess
import sys
import tempfile
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

import numpy as np
import orjson

from lamppost.core.errors import SetupError
from lamppost.core.schema.fields import Field, Schema
from lamppost.packing.export.answer_shape import ExportedModel
from lamppost.packing.export.checking import Row
from lamppost.packing.export.sql_form import SQL_KINDS, quote
from lamppost.packing.pmml.document import parse_document
from lamppost.packing.pmml.reading import PmmlDocument

OpenDatabase = Callable[[], AbstractContextManager[str]]
_RUN_S = 600
_ASK_PYTHON = """
import importlib.util, json, sys
spec = importlib.util.spec_from_file_location("form", sys.argv[1])
form = importlib.util.module_from_spec(spec)
spec.loader.exec_module(form)
for line in sys.stdin:
    print(json.dumps(form.predict(json.loads(line))))
"""


def run_python(module: Path) -> Callable[[Sequence[Row]], list[Row]]:
    """Answers of a module, in an interpreter that finds nothing but the standard library (``-I -S``)."""

    def answer(rows: Sequence[Row]) -> list[Row]:
        lines = b"\n".join(orjson.dumps(row) for row in rows)
        command = [sys.executable, "-I", "-S", "-c", _ASK_PYTHON, str(module)]
        done = subprocess.run(command, input=lines, capture_output=True, timeout=_RUN_S)
        if done.returncode:
            raise SetupError(f"the Python form does not run: {done.stderr.decode(errors='replace').strip()[-500:]}")
        return [orjson.loads(line) for line in done.stdout.splitlines()]

    return answer


def run_c(source: Path, model: ExportedModel, name: str) -> Callable[[Sequence[Row]], list[Row]]:
    """Answers of a C file, compiled by the system's compiler (``cc -std=c99``). Raise SetupError where there is none."""
    compiler = shutil.which("cc") or shutil.which("gcc") or shutil.which("clang")
    if compiler is None:
        raise SetupError("there is no C compiler to check the file with; install one (cc, gcc or clang)")
    numbers, codes = len(model.program.numbers), len(model.program.codes)
    answers = len(model.answer_columns) - (model.label is not None)
    labelled = f'printf("%s\\n", {name}_labels[label]);' if model.label is not None else 'printf("\\n");'
    harness = f"""
#include <stdio.h>
#include "{source}"
int main(void) {{
    double n[{max(1, numbers)}], answers[{max(1, answers)}];
    int c[{max(1, codes)}];
    for (;;) {{
        if (fread(n, sizeof(double), {numbers}, stdin) < {numbers}) return 0;
        char text[70000]; int length;
        for (int at = 0; at < {codes}; at++) {{
            if (fread(&length, sizeof(int), 1, stdin) < 1) return 0;
            if (length >= 0 && fread(text, 1, (size_t)length, stdin) < (size_t)length) return 1;
            if (length >= 0) text[length] = 0;
            c[at] = {name}_code(at, length < 0 ? NULL : text);
        }}
        int label = {name}_predict(n, c, answers);
        (void)label;
        for (int at = 0; at < {answers}; at++) printf("%.17g ", answers[at]);
        {labelled}
        if ({numbers} == 0 && feof(stdin)) return 0;
    }}
}}
"""

    def answer(rows: Sequence[Row]) -> list[Row]:
        with tempfile.TemporaryDirectory() as folder:
            main, program = Path(folder) / "main.c", Path(folder) / "main"
            main.write_text(harness)
            strict = ["-std=c99", "-Wall", "-Werror", "-Wno-unused-function", "-ffp-contract=off", "-O1"]
            built = subprocess.run(
                [compiler, *strict, str(main), "-o", str(program), "-lm"], capture_output=True, text=True, timeout=_RUN_S
            )
            if built.returncode:
                raise SetupError(f"the C form does not compile: {built.stderr.strip()[-800:]}")
            given = b"".join(_as_bytes(model, row) for row in rows)
            done = subprocess.run([str(program)], input=given, capture_output=True, timeout=_RUN_S)
        if done.returncode:
            raise SetupError(f"the C form ends with status {done.returncode}")
        return [_answer_of_line(model, line) for line in done.stdout.decode().splitlines()]

    return answer


def _as_bytes(model: ExportedModel, row: Row) -> bytes:
    numbers = np.array([np.nan if row[name] is None else row[name] for name in model.program.numbers], dtype=np.float64)
    parts = [numbers.tobytes()]
    for name in model.program.codes:
        value = row[name]
        text = None if value is None else str(value).lower().encode() if isinstance(value, bool) else str(value).encode()
        parts.append(np.array([-1 if text is None else len(text)], dtype=np.int32).tobytes() + (text or b""))
    return b"".join(parts)


def _answer_of_line(model: ExportedModel, line: str) -> Row:
    columns = model.answer_columns[1:] if model.label is not None else model.answer_columns
    numbers = line.split(" ", len(columns))
    values: list[Any] = [float(one) for one in numbers[: len(columns)]]
    return as_answer(model, ([numbers[len(columns)]] if model.label is not None else []) + values)


def as_answer(model: ExportedModel, values: Sequence[Any]) -> Row:
    """An answer in the terms of the package. values : in the order of `ExportedModel.answer_columns`."""
    left = list(values)
    answer: Row = {}
    if model.label is not None:
        answer[model.label.name] = left.pop(0)
    if model.scores is not None:
        answer[model.scores.name] = {choice: left.pop(0) for choice in model.scores.choices}
    for field in model.values:
        answer[field.name] = left.pop(0)
    return answer


def run_sql(
    write: Callable[[str], str], model: ExportedModel, database: OpenDatabase, before: str | None = None
) -> Callable[[Sequence[Row]], list[Row]]:
    """Answers of a SELECT in a PostgreSQL. write : gives the SELECT over a table. database : opens one, and gives its URL. before : a
    statement that the SELECT needs.
    """

    def answer(rows: Sequence[Row]) -> list[Row]:
        import psycopg  # a machine that packs needs it for this form alone

        with database() as url, psycopg.connect(url, autocommit=True) as connection:
            if before is not None:
                connection.execute(before.encode())
            return answers_in_database(connection, write("checked"), model, rows)

    return answer


def select_from_function(model: ExportedModel, function: str, table: str) -> str:
    """A SELECT that asks a function about every row of a table."""
    given = ", ".join(f"lp_rows.{quote(field.name)}" for field in model.fields)
    return f"SELECT lp_place, lp_given.* FROM {table} AS lp_rows, LATERAL {quote(function)}({given}) AS lp_given"


def answers_in_database(connection: Any, select: str, model: ExportedModel, rows: Sequence[Row]) -> list[Row]:
    """The answers to rows that are put into the temporary table ``checked`` of a connection to PostgreSQL, in their order."""
    from psycopg import sql

    fields: list[Field] = list(model.fields)
    kinds = [sql.SQL("{} " + SQL_KINDS[field.kind]).format(sql.Identifier(field.name)) for field in fields]
    connection.execute(sql.SQL("CREATE TEMP TABLE checked (lp_place int, {})").format(sql.SQL(", ").join(kinds)))
    with connection.cursor().copy("COPY checked FROM STDIN") as copy:
        for place, row in enumerate(rows):
            copy.write_row([place, *(row[field.name] for field in fields)])
    found = connection.execute(f"SELECT lp_answers.* FROM ({select}) AS lp_answers ORDER BY lp_place").fetchall()
    return [as_answer(model, row[1:]) for row in found]


def run_onnx(graph: bytes, model: ExportedModel) -> Callable[[Sequence[Row]], list[Row]]:
    """Answers of a graph, by the ONNX runtime alone: rows become tensors as its metadata say."""

    def answer(rows: Sequence[Row]) -> list[Row]:
        import onnxruntime

        session = onnxruntime.InferenceSession(graph, providers=["CPUExecutionProvider"])
        about = orjson.loads(session.get_modelmeta().custom_metadata_map["lamppost"])
        codes = [(one["field"], one["values"]) for one in about["codes"]]
        outputs = _run(session, rows, about["numbers"], codes)
        label = [[about["labels"][place]] for place in outputs["label"]] if model.label is not None else [[] for _ in rows]
        scores = outputs["scores"].tolist() if model.scores is not None else [[] for _ in rows]
        rest = next((outputs[name] for name in ("values", "value") if name in outputs), None)
        if rest is None and model.values:
            rest = outputs["scores"]
        values = np.asarray(rest).reshape(len(rows), -1).tolist() if model.values else [[] for _ in rows]
        return [as_answer(model, [*label[at], *scores[at], *values[at]]) for at in range(len(rows))]

    return answer


def run_pmml(content: bytes, model: ExportedModel) -> Callable[[Sequence[Row]], list[Row]]:
    """Answers of a PMML document, read again by what it says alone."""

    def answer(rows: Sequence[Row]) -> list[Row]:
        import onnxruntime

        document = PmmlDocument(parse_document(content))
        inputs = Schema(tuple(Field(name, **hint) for name, hint in document.hints().items()))
        read = document.as_graph(inputs, "graph", with_columns=True)
        by_name = {field.name: ("false", "true") if field.kind == "yes/no" else field.choices for field in inputs}
        codes = [(name, {choice: at for at, choice in enumerate(by_name[name])}) for name in read.compiled.codes]
        session = onnxruntime.InferenceSession(read.graph, providers=["CPUExecutionProvider"])
        outputs = _run(session, rows, read.compiled.numbers, codes)
        columns = {name: outputs[output].reshape(-1).tolist() for name, output in read.columns.items()}
        if model.label is not None:
            labels = read.gives.fields[0].choices
            columns[model.label.name] = [labels[int(place)] if place < len(labels) else None for place in columns[model.label.name]]
        return [as_answer(model, [columns[name][at] for name in model.answer_columns]) for at in range(len(rows))]

    return answer


def _run(session: Any, rows: Sequence[Row], numbers: Sequence[str], codes: Sequence[tuple[str, dict[str, int]]]) -> dict[str, Any]:
    """The outputs of a graph by name. codes : fields of choices, with the code of each choice; then come one for any other, and missing."""
    feeds: dict[str, Any] = {}
    if numbers:
        feeds["numbers"] = np.array([[np.nan if row[one] is None else row[one] for one in numbers] for row in rows], np.float64)
    if codes:
        feeds["codes"] = np.array([[_code_of(row[name], known) for name, known in codes] for row in rows], np.int64)
    return dict(zip([one.name for one in session.get_outputs()], session.run(None, feeds), strict=True))


def _code_of(value: Any, known: dict[str, int]) -> int:
    if value is None:
        return len(known) + 1
    return known.get(str(value).lower() if isinstance(value, bool) else str(value), len(known))
