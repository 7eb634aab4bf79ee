"""Command ``explain``: why an endpoint answers a row as it does."""

from __future__ import annotations

import csv
from pathlib import Path
from typing import Annotated, Any

import typer

from lamppost.cli.ask import AskOptions, rows_to_ask, short
from lamppost.cli.out import AMBER, DIM, SLATE, paint, print_json, print_line, print_table
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client
from lamppost.core.errors import BadRequest
from lamppost.core.explanation.costs import ROWS, SECONDS

_BAR = 24
_STOPPED = {
    "exact": "every order of the fields was asked",
    "certain": "the order of the first fields is certain",
    "budget": "the order of the first fields is not certain; --rows asks more",
    "time": "the time was used up; --seconds gives more",
}
_SEARCHED = {
    "none": "No change of one to three fields that training has seen gives another answer.",
    "budget": "No change that gives another answer was found within the budget; --rows asks more.",
    "time": "No change that gives another answer was found in the time; --seconds gives more.",
}
_CASES = 1_000


def explain(
    endpoint: Annotated[str, typer.Argument(help="The endpoint whose answer is explained.")],
    row: Annotated[str | None, typer.Option(help="One row as a JSON object; without it, the schema's example.")] = None,
    file: Annotated[Path | None, typer.Option(help="The row from a .json or .csv file; - reads JSON from standard input.")] = None,
    image: Annotated[list[str] | None, typer.Option(help="A picture: FIELD=FILE, or FILE where there is one such field.")] = None,
    option: Annotated[list[str] | None, typer.Option(help="A parameter of the call: NAME=VALUE (may be repeated).")] = None,
    call: Annotated[str | None, typer.Option(help="A recorded call instead of a row, by its id; its own version is asked.")] = None,
    version: Annotated[str | None, typer.Option(help="The version that is asked, instead of what is served or has answered.")] = None,
    limit: Annotated[float | None, typer.Option(help="The number that changes should move the answer past.")] = None,
    label: Annotated[str | None, typer.Option(help="The label that changes should give; any other one unless this is said.")] = None,
    together: Annotated[bool, typer.Option("--together", help="Take fields that move together as one.")] = False,
    curve: Annotated[str | None, typer.Option(help="Show the answer as this field goes through its range, and nothing else.")] = None,
    rows: Annotated[int, typer.Option(help="How many rows the model may be asked about.")] = ROWS,
    seconds: Annotated[float, typer.Option(help="How long it may take.")] = SECONDS,
    cases: Annotated[Path | None, typer.Option(help="Write the rows that were tried to this CSV file, the nearest first.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``explain``."""
    given = AskOptions(row, file, image or [], option or [], [])
    if call is not None and (row is not None or file is not None or image or option):
        raise BadRequest("give either --call or a row")
    with Client(address, timeout_s=seconds + 30) as client:
        one, options = (None, {}) if call is not None else _one_row(client, endpoint, given)
        if curve is not None:
            answer = client.explain_curve(endpoint, curve, one, call, options)
        else:
            terms = {"limit": limit, "label": label, "together": together, "rows": rows, "seconds": seconds, "version": version}
            answer = client.explain(endpoint, one, call, options, cases=0 if cases is None else _CASES, **terms)
    if cases is not None and curve is None:
        _write_cases(cases, answer["cases"])
    if as_json:
        print_json(answer)
    elif curve is not None:
        _show_curve(answer)
    else:
        _show(answer)
        if cases is not None:
            print_line(paint(f"{len(answer['cases']):,} rows that were tried are in {cases}", DIM))


def _one_row(client: Client, endpoint: str, given: AskOptions) -> tuple[Any, dict[str, Any]]:
    rows, options = rows_to_ask(client, endpoint, given)
    if isinstance(rows, list):
        if len(rows) != 1:
            raise BadRequest(f"one row is explained at a time, and {len(rows)} were given")
        rows = rows[0]
    return rows, options


def _show(answer: dict[str, Any]) -> None:
    print_line(answer["summary"])
    largest = max((abs(one["amount"] or 0.0) for one in answer["contributions"]), default=0.0)
    if answer["contributions"] and all(one["amount"] is None for one in answer["contributions"]):
        reason = "training's rows are not in the package" if answer["typical"] is None and answer["asked"] < 2 else _STOPPED["budget"]
        print_line(paint(f"No contributions could be told: {reason}", DIM))
    elif answer["contributions"]:
        print_line()
        print_table(
            ["field", "value", answer["figure"], "±", ""],
            [
                [
                    " + ".join(one["fields"]),
                    ", ".join(_cut(short(value)) for value in one["values"].values()),
                    _signed(one["amount"]),
                    "" if one["error"] is None else f"{one['error']:.2g}",
                    _bar(one["amount"], largest),
                ]
                for one in answer["contributions"]
            ],
            right=frozenset({answer["figure"], "±"}),
        )
        typical, value = (short(answer[name]) for name in ("typical", "value"))
        print_line(paint(f"typical {typical}, here {value}; {_STOPPED.get(answer['stopped'], '')}", DIM))
    for field in answer["within"]:
        _show_pieces(field)
    changes = answer["changes"]
    if changes is not None:
        print_line()
        if not changes["changes"]:
            print_line(_SEARCHED[changes["searched"]])
        for change in changes["changes"]:
            told = next((value for value in change["answer"].values() if not isinstance(value, dict)), "")
            print_line(f"{paint(short(told), AMBER)} if {change['summary']}")
    if answer["rule"] is not None:
        print_line()
        print_line(answer["rule"]["summary"])
    if answer["left_out"]:
        print_line(paint(f"left as they are, because training's rows do not hold them: {', '.join(answer['left_out'])}", DIM))
    failed = f", {answer['failed']:,} of them without an answer" if answer["failed"] else ""
    print_line(paint(f"{answer['version']}  {answer['asked']:,} rows asked{failed}, {answer['took_ms']:.0f} ms", DIM))


def _show_pieces(field: dict[str, Any]) -> None:
    """The parts of a field that moved the answer most."""
    pieces = [piece for piece in field["pieces"] if piece["amount"] is not None]
    largest = max((abs(piece["amount"]) for piece in pieces), default=0.0)
    if not largest:
        return
    ranked = sorted(pieces, key=lambda piece: -abs(piece["amount"]))[:8]
    print_line()
    print_table(
        [f"within {field['field']}", "", "±", " "],
        [[_cut(piece["name"]), _signed(piece["amount"]), f"{piece['error'] or 0:.2g}", _bar(piece["amount"], largest)] for piece in ranked],
        right=frozenset({"", "±"}),
    )


def _show_curve(curve: dict[str, Any]) -> None:
    figures = curve["figures"][curve["figure"]]
    known = [figure for figure in figures if figure is not None]
    low, high = min(known, default=0.0), max(known, default=0.0)
    start = min(low, 0.0)
    print_table(
        [curve["field"], curve["figure"], "", "rows of training"],
        [
            [
                paint(f"{_value(value)} ◂ this row", AMBER) if at == curve["own"] else _value(value),
                "failed" if figure is None else short(figure),
                _bar(None if figure is None else figure - start, (high - start) or 1.0),
                f"{curve['counts'][at]:,}",
            ]
            for at, (value, figure) in enumerate(zip(curve["values"], figures, strict=True))
        ],
        right=frozenset({curve["figure"], "rows of training"}),
    )


def _value(value: Any) -> str:
    return "missing" if value is None else _cut(short(value))


def _cut(text: str) -> str:
    return text if len(text) <= 40 else f"{text[:39]}…"


def _signed(amount: float | None) -> str:
    return "?" if amount is None else f"{amount:+.3g}"


def _bar(amount: float | None, largest: float) -> str:
    """A bar of at most 24 characters; amber for what raises the figure."""
    filled = 0 if amount is None or not largest else round(_BAR * abs(amount) / largest)
    return paint("█" * filled, AMBER if (amount or 0.0) > 0 else SLATE)


def _write_cases(file: Path, cases: list[dict[str, Any]]) -> None:
    """Rows and answers as CSV; parts of an answer have columns such as ``scores.fails``."""
    lines = []
    for case in cases:
        line = {"differs": case["differs"], **case["row"]}
        for name, value in case["answer"].items():
            line |= {f"{name}.{part}": number for part, number in value.items()} if isinstance(value, dict) else {name: value}
        lines.append(line)
    try:
        with file.open("w", encoding="utf-8", newline="") as out:
            writer = csv.DictWriter(out, list(dict.fromkeys(name for line in lines for name in line)))
            writer.writeheader()
            writer.writerows(lines)
    except OSError as error:
        raise BadRequest(f"{file} cannot be written: {error.strerror}") from error
