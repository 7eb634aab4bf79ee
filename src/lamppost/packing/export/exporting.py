"""Writes a package in another form, after that form was held against the package's own answers in the thing that will run it."""

from __future__ import annotations

import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import Literal

import onnx
import orjson

from lamppost.core.errors import BadRequest
from lamppost.core.names import plain_name
from lamppost.package.read import Lamp
from lamppost.packing.export import running_forms
from lamppost.packing.export.answer_shape import ExportedModel, read_model
from lamppost.packing.export.c_form import write_c
from lamppost.packing.export.checking import CheckedForm, Row, check_form
from lamppost.packing.export.pmml_form import write_pmml
from lamppost.packing.export.python_form import write_python
from lamppost.packing.export.sql_form import quote, write_sql, write_sql_function

Form = Literal["sql", "onnx", "pmml", "python", "c"]
FORMS: tuple[Form, ...] = ("sql", "onnx", "pmml", "python", "c")
Answer = Callable[[Sequence[Row]], list[Row]]


@dataclass(frozen=True, slots=True)
class ExportedForm:
    """A form that was written. checked : how it was held against the package."""

    form: Form
    size_bytes: int
    checked: CheckedForm


@dataclass(frozen=True, slots=True)
class SqlOptions:
    """database : opens the PostgreSQL that the form is checked in. table : of the rows, as SQL writes it, or a query in brackets. keep :
    columns that go along. view : name of a view to make. function : name of a function to make, over no table. With neither of both it is
    a SELECT.
    """

    database: running_forms.OpenDatabase
    table: str | None = None
    keep: tuple[str, ...] = ()
    view: str | None = None
    function: str | None = None


def export_package(
    lamp: Lamp, form: Form, to: Path, formats: frozenset[str], options: SqlOptions | None = None, written_by: str = "Lamp Post"
) -> ExportedForm:
    """Write a package in a form to a file. Nothing is written where the form gives other answers, or cannot be made.

    formats : artifact formats that may be opened. options : for SQL. written_by : what stands in the file as its writer. Raise
    NoSuchForm, DiffersFromPackage, or SetupError where what is needed to check the form is missing.
    """
    with tempfile.TemporaryDirectory(prefix="lamppost-export-") as name:
        folder = Path(name)
        unpacked = lamp.unpack(folder)
        model = replace(read_model(lamp.manifest, unpacked, with_program=form != "onnx"), written_by=written_by)
        content, answer = _write(model, form, unpacked, folder, options)
        checked = check_form(lamp, unpacked, formats, answer, form)
    part = to.with_name(f".{to.name}.part")
    part.write_bytes(content)
    part.replace(to)
    return ExportedForm(form, len(content), checked)


def _write(model: ExportedModel, form: Form, unpacked: Path, folder: Path, options: SqlOptions | None) -> tuple[bytes, Answer]:
    """The content of the file, and what answers by it."""
    if form == "python":
        content = write_python(model).encode()
        (module := folder / "form.py").write_bytes(content)
        return content, running_forms.run_python(module)
    if form == "c":
        content = write_c(model).encode()
        (source := folder / "form.c").write_bytes(content)
        return content, running_forms.run_c(source, model, plain_name(model.manifest.name).replace("-", "_"))
    if form == "pmml":
        content = write_pmml(model)
        return content, running_forms.run_pmml(content, model)
    if form == "onnx":
        content = _with_metadata(model, unpacked)
        return content, running_forms.run_onnx(content, model)
    if options is not None and options.function is not None:
        whole = write_sql_function(model, options.function)
        asking = partial(running_forms.select_from_function, model, options.function)
        return f"{whole};\n".encode(), running_forms.run_sql(asking, model, options.database, whole)
    if options is None or options.table is None:
        raise BadRequest("SQL needs the table of the rows, or the name of a function to make")
    select = write_sql(model, options.table, options.keep)
    whole = f"{select};\n" if options.view is None else f"CREATE OR REPLACE VIEW {quote(options.view)} AS\n{select};\n"
    return whole.encode(), running_forms.run_sql(lambda table: write_sql(model, table, ("lp_place",)), model, options.database)


def _with_metadata(model: ExportedModel, unpacked: Path) -> bytes:
    """The compiled graph with what somebody needs who has the graph alone."""
    step = model.manifest.steps[0]
    graph = onnx.load_from_string((unpacked / step.compiled.file).read_bytes())  # type: ignore[union-attr]
    fields = model.by_name
    codes = []
    for name in model.program.codes:
        field = fields[name]
        choices = ("false", "true") if field.kind == "yes/no" else field.choices
        count = 3 if field.kind == "yes/no" else len(field.choices)
        missing = 3 if field.kind == "yes/no" else count + 1
        codes.append({"field": name, "values": {choice: at for at, choice in enumerate(choices)}, "unseen": count, "missing": missing})
    about = {
        "name": model.manifest.name,
        "numbers": list(model.program.numbers),
        "codes": codes,
        "labels": list(model.label.choices) if model.label is not None else [],
        "answers": model.answer_columns,
        "schema": model.manifest.inputs.to_json_schema(),
        "written_by": model.written_by,
    }
    onnx.helper.set_model_props(graph, {"lamppost": orjson.dumps(about).decode()})
    graph.doc_string = f"{model.manifest.name}; how rows become tensors stands in the metadata, as JSON under lamppost"
    return bytes(graph.SerializeToString(deterministic=True))
