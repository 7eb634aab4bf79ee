"""Commands ``outcome`` and ``outcomes``: report the truth about answers, and show the quality of answers."""

from __future__ import annotations

import csv
import json
import sys
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import quote

import typer

from lamppost.cli.out import AMBER, DIM, paint, print_json, print_line, print_table
from lamppost.cli.parameters import Address, AsJson, Endpoint, Since, Until
from lamppost.client import Client
from lamppost.core.errors import BadRequest

_AT_ONCE = 5_000


def outcome(
    endpoint: Endpoint,
    request_id: Annotated[str | None, typer.Argument(help="The call's id.")] = None,
    truth: Annotated[str | None, typer.Argument(help="What was true: a label or a number.")] = None,
    row: Annotated[int, typer.Option(help="Which row of the call.", min=0)] = 0,
    file: Annotated[
        Path | None, typer.Option(help="Many outcomes: CSV or NDJSON with request_id (or the key) and truth; - reads standard input.")
    ] = None,
    key: Annotated[
        str | None, typer.Option(help="Field of the input that identifies the answer, instead of request ids.", metavar="FIELD")
    ] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``outcome``."""
    call_truth = None if request_id is None or truth is None else (request_id, truth)
    if (call_truth is None) == (file is None):
        raise BadRequest("say either REQUEST_ID TRUTH, or --file with many")
    rows = (
        _read(file, key)
        if file is not None
        else [{"request_id": call_truth[0], "row": row, "truth": _value(call_truth[1])}]
        if call_truth
        else []
    )
    taken: dict[str, Any] = {"new": 0, "known": 0, "unknown": [], "summary": ""}
    with Client(address, timeout_s=120) as client:
        for at in range(0, len(rows), _AT_ONCE):
            body = {"outcomes": rows[at : at + _AT_ONCE], "key": key}
            answer = client.fetch("POST", f"/api/endpoints/{quote(endpoint, safe='')}/outcomes", body)
            taken["new"] += answer["new"]
            taken["known"] += answer["known"]
            taken["unknown"] += [at + place for place in answer["unknown"]]
            taken["summary"] = answer["summary"]
    if as_json:
        print_json(taken)
        return
    print_line(
        f"{paint('●', AMBER)} {taken['new']:,} outcomes of {endpoint} are new or changed, {taken['known'] - taken['new']:,} were known"
    )
    if taken["unknown"]:
        first = ", ".join(str(place) for place in taken["unknown"][:5])
        print_line(f"  {len(taken['unknown']):,} belong to no recorded answer: number {first}{' …' if len(taken['unknown']) > 5 else ''}")
    print_line(paint(f"  next: lamppost outcomes {endpoint}", DIM))


def _value(text: str) -> Any:
    """A truth on the command line: a number, true or false, or the text itself."""
    try:
        value = json.loads(text)
    except ValueError:
        return text
    return value if isinstance(value, (int, float, bool)) else text


def _read(file: Path, key: str | None) -> list[dict[str, Any]]:
    """Rows of a CSV or NDJSON file with truth, and request_id (with row, if need be) or key."""
    try:
        text = sys.stdin.read() if str(file) == "-" else file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadRequest(f"{file} cannot be read: {error}") from error
    if text.lstrip().startswith("{"):
        try:
            rows = [json.loads(line) for line in text.splitlines() if line.strip()]
        except ValueError as error:
            raise BadRequest(f"{file} is no NDJSON: {error}") from error
    else:
        rows = list(csv.DictReader(text.splitlines()))
    needed = key or "request_id"
    if not rows or needed not in rows[0] or "truth" not in rows[0]:
        raise BadRequest(f"{file} needs the columns {needed} and truth" + (", and may have row" if key is None else ""))
    outcomes_read = []
    for row in rows:
        truth = _value(row["truth"]) if isinstance(row["truth"], str) else row["truth"]
        named = {"key": row[needed]} if key is not None else {"request_id": row[needed], "row": int(row.get("row") or 0)}
        outcomes_read.append({**named, "truth": truth})
    return outcomes_read


def outcomes(
    endpoint: Endpoint,
    since: Since = None,
    until: Until = None,
    at: Annotated[str | None, typer.Option(help="Only of what this outpost answered.", metavar="OUTPOST")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``outcomes``."""
    with Client(address, timeout_s=60) as client:
        answer = client.fetch("GET", f"/api/endpoints/{quote(endpoint, safe='')}/quality", since=since, until=until, at=at)
    if as_json:
        print_json(answer)
        return
    print_line(answer["summary"])
    for version in answer["versions"]:
        print_line()
        shadow = ", as a shadow" if version["shadow"] else ""
        late = version["late_s"]
        words = (
            f"{late / 86_400:.0f} days" if late > 172_800 else f"{late / 3_600:.0f} hours" if late > 7_200 else f"{late / 60:.0f} minutes"
        )
        print_line(
            f"{paint(version['version'], AMBER)}{shadow}: {version['known']:,} of {version['answered']:,} known, "
            f"told {words} later (median)"
        )
        _labels(version) if version["kind"] == "labels" else _numbers(version)
        if version["slices"]:
            title = "accuracy" if version["kind"] == "labels" else "absolute error"
            print_table(["where", title, "rows"], [_slice(slice_page) for slice_page in version["slices"][:8]], right=frozenset({"rows"}))


def _figure(estimate: dict[str, Any] | None, percent: bool = True) -> str:
    if estimate is None:
        return "–"
    if percent:
        return f"{100 * estimate['value']:.1f} % ({100 * estimate['low']:.1f} to {100 * estimate['high']:.1f})"
    return f"{estimate['value']:.3g}" + ("" if estimate["low"] is None else f" ({estimate['low']:.3g} to {estimate['high']:.3g})")


def _slice(slice_page: dict[str, Any]) -> list[str]:
    figure = slice_page["figure"]
    return [f"{slice_page['by']} = {slice_page['value']}", _figure(figure, 0 <= figure["value"] <= 1), f"{figure['of']:,}"]


def _labels(quality: dict[str, Any]) -> None:
    print_line(f"accuracy {_figure(quality['accuracy'])}")
    rows = [[label["label"], _figure(label["precision"]), _figure(label["recall"]), f"{label['true']:,}"] for label in quality["labels"]]
    print_table(["label", "precision", "recall", "true"], rows, right=frozenset({"true"}))
    if quality["calibration"] is not None:
        calibration = quality["calibration"]
        print_line(f"scores are off by {calibration['error']:.3f} on average (Brier {calibration['brier']:.3f})")


def _numbers(quality: dict[str, Any]) -> None:
    error, bias = _figure(quality["absolute_error"], False), _figure(quality["bias"], False)
    print_line(f"absolute error {error}, root mean square {quality['root_mean_square']:.3g}, bias {bias}")
    if quality["near"] is not None:
        print_line(f"within a tenth of training's spread: {_figure(quality['near'])}")
