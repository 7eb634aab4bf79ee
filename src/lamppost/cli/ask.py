"""Command ``ask``: sends rows to an endpoint and prints the answers."""

from __future__ import annotations

import csv
import json
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import typer

from lamppost.cli.out import AMBER, DIM, SLATE, format_ms, paint, print_json, print_line, print_table, short_json
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client, Prediction
from lamppost.core.errors import BadRequest

_POLL_S = 0.5


@dataclass(frozen=True, slots=True)
class AskOptions:
    """What was said on the command line. images : ``FIELD=FILE`` or ``FILE``. options, headers : ``NAME=VALUE``."""

    row: str | None
    file: Path | None
    images: list[str]
    options: list[str]
    headers: list[str]


def ask(
    endpoint: Annotated[str, typer.Argument(help="The endpoint to ask.")],
    row: Annotated[str | None, typer.Option(help="One row as a JSON object.")] = None,
    file: Annotated[Path | None, typer.Option(help="Rows from a .json or .csv file; - reads JSON from standard input.")] = None,
    image: Annotated[list[str] | None, typer.Option(help="A picture: FIELD=FILE, or FILE where there is one such field.")] = None,
    option: Annotated[list[str] | None, typer.Option(help="A parameter of the call: NAME=VALUE (may be repeated).")] = None,
    header: Annotated[list[str] | None, typer.Option(help="A header of the call: NAME=VALUE (may be repeated).")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``ask``."""
    parameters = AskOptions(row, file, image or [], option or [], header or [])
    if parameters.row is not None and parameters.file is not None:
        raise BadRequest("give either --row or --file")
    with Client(address) as client:
        rows, options = rows_to_ask(client, endpoint, parameters)
        headers = {name: value for name, _, value in (header.partition("=") for header in parameters.headers)}
        answer = client.predict(endpoint, rows, options, headers)
    if as_json:
        shown = {"answers": answer.answers, "version": answer.version, "request_id": answer.request_id, "timing_ms": answer.timing_ms}
        print_json({**shown, "changed": answer.changed} if answer.changed else shown)
    else:
        _show(answer)


def rows_to_ask(client: Client, endpoint: str, parameters: AskOptions) -> tuple[Any, dict[str, Any]]:
    """The rows to ask for, and the options."""
    options = read_options(parameters.options)
    if parameters.row is not None:
        rows = _read_json(parameters.row, "--row")
    elif parameters.file is not None:
        rows = read_file(parameters.file, lambda: list(_page(client, endpoint)["inputs"]))
    elif parameters.images:
        rows = {}
    else:
        rows = _page(client, endpoint)["example"]
        print_line(paint(f"asking with the schema's example: {short_json(rows)}", DIM, sys.stderr), sys.stderr)
    if parameters.images:
        if not isinstance(rows, dict):
            raise BadRequest("--image goes with one row, and several were given")
        rows = {**rows, **_pictures(client, endpoint, parameters.images)}
    return rows, options


def read_options(options: Sequence[str]) -> dict[str, Any]:
    """Options of a call. options : ``NAME=VALUE``."""
    return {name: _plain(value) for name, _, value in (option.partition("=") for option in options)}


def _pictures(client: Client, endpoint: str, images: list[str]) -> dict[str, bytes]:
    fields = [field["name"] for field in _page(client, endpoint)["inputs"] if field["kind"] == "image"]
    pictures = {}
    for given in images:
        name, equals, file = given.partition("=")
        if not equals:
            if len(fields) != 1:
                raise BadRequest(f"{endpoint} has {len(fields)} fields for pictures; say which with --image FIELD=FILE")
            name, file = fields[0], given
        try:
            pictures[name] = Path(file).read_bytes()
        except OSError as error:
            raise BadRequest(f"{file} cannot be read: {error.strerror}") from error
    return pictures


def _plain(text: str) -> Any:
    """A value on the command line: JSON where it is some, else text."""
    try:
        return json.loads(text)
    except ValueError:
        return text


def _page(client: Client, endpoint: str) -> dict[str, Any]:
    page: dict[str, Any] = client.fetch("GET", f"/api/endpoints/{quote(endpoint, safe='')}")
    return page


def _read_json(text: str, where: str) -> Any:
    try:
        value = json.loads(text)
    except ValueError as error:
        raise BadRequest(f"{where} is not JSON: {error}") from error
    if isinstance(value, dict) and isinstance(value.get("rows"), list):
        value = value["rows"]
    if not isinstance(value, dict) and not (isinstance(value, list) and all(isinstance(item, dict) for item in value)):
        raise BadRequest(f"{where} is neither a row (an object) nor a list of rows")
    return value


def read_file(file: Path, inputs: Callable[[], list[dict[str, Any]]]) -> Any:
    """Rows of a .json or .csv file, or JSON from standard input for ``-``. inputs : gives the fields, where cells need their kinds."""
    if str(file) == "-":
        return _read_json(sys.stdin.read(), "standard input")
    try:
        text = file.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        raise BadRequest(f"{file} cannot be read: {error}") from error
    if file.suffix.lower() != ".csv":
        return _read_json(text, str(file))
    kinds = {field["name"]: field["kind"] for field in inputs()}
    rows = csv.DictReader(text.splitlines())
    return [{name: _cell(value, kinds.get(name or ""), name, at) for name, value in row.items()} for at, row in enumerate(rows)]


def _cell(text: Any, kind: str | None, name: Any, at: int) -> Any:
    """A CSV cell as its field's kind; what cannot be read as that is sent as text, and the service says what is wrong with it."""
    if name is None or text is None:
        raise BadRequest(f"row {at} of the CSV file has another number of cells than its header")
    if text == "":
        return None
    try:
        if kind == "integer":
            return int(text)
        if kind == "number":
            return float(text)
    except ValueError:
        return text
    if kind == "tensor":
        return _plain(text)
    if kind == "yes/no":
        return {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}.get(text.strip().lower(), text)
    return text


def _show(document: Prediction) -> None:
    took = f"{document.version}  {format_ms(document.timing_ms.get('total'))} ms in the service  {document.request_id}"
    if len(document.answers) == 1:
        for name, value in document.answer.items():
            if isinstance(value, dict):
                _bars(value)
            else:
                print_line(paint(short(value), AMBER) if name == "label" else f"{name} {paint(short(value), AMBER)}")
    else:
        names = list(document.answers[0])
        print_table(
            ["row", *names],
            [[str(at), *(short(answer[name]) for name in names)] for at, answer in enumerate(document.answers)],
            right=frozenset({"row"}),
        )
    for coercion in document.changed:
        taken = "left out" if coercion.get("left_out") else f"taken as {coercion['taken']}"
        print_line(f"row {coercion['row']}, {coercion['field']}: {coercion['given']} was {taken}")
    print_line(paint(took, DIM))


def _bars(scores: dict[str, float]) -> None:
    """Scores as bars of 30 characters, the highest first."""
    width = max(len(name) for name in scores)
    for name, score in sorted(scores.items(), key=lambda item: -item[1]):
        filled = round(30 * min(1.0, max(0.0, score)))
        print_line(f"  {name.ljust(width)}  {score:6.1%}  {paint('█' * filled, AMBER)}{paint('░' * (30 - filled), SLATE)}")


def short(value: Any) -> str:
    """A value of an answer in a few characters."""
    if isinstance(value, dict):
        return "  ".join(f"{name} {score:.3f}" for name, score in value.items())
    return f"{value:.6g}" if isinstance(value, float) else str(value)
