"""Commands ``bulk …``: files and tables in, answers out."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer

from lamppost.cli.ask import read_options
from lamppost.cli.out import AMBER, BRICK, DIM, SLATE, paint, print_done, print_json, print_line, print_table, time_ago, transfer_progress
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client
from lamppost.client.bulk import BulkRun, is_place, make_order
from lamppost.core.errors import BadRequest, LampPostError
from lamppost.core.quantities import format_bytes

_MARKS = {
    "waiting": ("◌", SLATE),
    "running": ("●", AMBER),
    "publishing": ("●", AMBER),
    "stopping": ("◐", AMBER),
    "stopped": ("○", SLATE),
    "failed": ("⊖", BRICK),
    "finished": ("✓", SLATE),
}
_BAR = 24
_SHOWN_ANSWERS = 12
Run = Annotated[str, typer.Argument(help="The run, by its name.", metavar="RUN")]


def bulk_start(
    of: Annotated[list[str], typer.Argument(help="Endpoint or version; several give columns that begin with NAME: NAME=OF.", metavar="OF")],
    source: Annotated[
        str, typer.Option("--from", help="A file of this machine; or FOLDER:PATH, SOURCE:TABLE, SOURCE:'SELECT …', a URL.", metavar="PLACE")
    ],
    target: Annotated[
        str | None, typer.Option("--to", help="A file of this machine; or FOLDER:PATH, TARGET:TABLE, a URL.", metavar="PLACE")
    ] = None,
    keep: Annotated[list[str] | None, typer.Option(help="Column that goes into the output (may be repeated); * for all.")] = None,
    field: Annotated[
        list[str] | None,
        typer.Option(help="The column that holds a field, where its name is another (may be repeated).", metavar="FIELD=COLUMN"),
    ] = None,
    option: Annotated[list[str] | None, typer.Option(help="A parameter of the calls: NAME=VALUE (may be repeated).")] = None,
    key: Annotated[
        list[str] | None, typer.Option(help="Column by which rows of the target's table are replaced (may be repeated).")
    ] = None,
    replace: Annotated[bool, typer.Option("--replace", help="Replace a target that exists.")] = False,
    most_rejects: Annotated[str, typer.Option(help="Rows that may be rejected, as a share: 1% or 0.01.")] = "1%",
    rows_per_second: Annotated[float | None, typer.Option(help="Most rows in a second [no bound].", min=0.001)] = None,
    source_format: Annotated[
        str | None, typer.Option("--format", help="Format of the source: csv, ndjson, parquet, arrow [by its name].")
    ] = None,
    target_format: Annotated[str | None, typer.Option("--to-format", help="Format of the output [by its name].")] = None,
    delimiter: Annotated[str, typer.Option(help="What stands between the cells of a CSV file.")] = ",",
    name: Annotated[str | None, typer.Option(help="Name of the run [the endpoint's, and a number].")] = None,
    check: Annotated[bool, typer.Option("--check", help="Only say what would be read and written.")] = False,
    wait: Annotated[bool, typer.Option("--wait/--no-wait", help="Wait for the end.")] = True,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``bulk start``."""
    given: dict[str, Any] = {
        "keep": keep,
        "field": field,
        "key": key,
        "replace": replace,
        "most_rejects": most_rejects,
        "delimiter": delimiter,
    }
    given |= {"rows_per_second": rows_per_second, "source_format": source_format, "target_format": target_format}
    questions, settings = _named_questions(of), _settings(given)
    local = None if target is None or is_place(target) else Path(target)
    if local is not None:
        settings["target_format"] = target_format or _format_of(local)
        if local.exists() and not replace and not check:
            raise BadRequest(f"{local} exists; choose another name, or replace it (--replace)")
        if not wait:
            raise BadRequest(
                f"{local} is a file of this machine, which is fetched at the end; leave --no-wait out, or lamppost bulk fetch it later"
            )
    with Client(address) as client:
        with transfer_progress(f"bringing {Path(source).name}", as_json) as progress:
            place = None if local is not None else target
            if check:
                _check(client, questions, source, place, read_options(option or []), settings, as_json)
                return
            named = {**settings, **({"name": name} if name else {})}
            run = client.bulk(questions, source, place, read_options(option or []), progress, **named)
        if not wait:
            print_done(f"{_mark(run.facts)} {run.name}; follow it with: lamppost bulk follow {run.name}", run.facts, as_json)
            return
        _wait(run, as_json)
        if local is not None:
            with transfer_progress(f"fetching {local.name}", as_json) as progress:
                run.download(local, progress)
            if run.facts["rejects"]:
                run.download_rejects(_rejects_beside(local))
        _show_end(run.facts, local, as_json)


def order_of_words(words: list[str]) -> dict[str, Any]:
    """The order that the words after ``bulk start`` give; raise BadRequest for what a service cannot do by itself."""
    from lamppost.cli.command_table import load_command

    given = load_command("bulk start").make_context("bulk start", words).params
    for what in (given["source"], given["target"]):
        if what is not None and not is_place(what):
            raise BadRequest(f"{what} is a file of this machine; a run that starts by itself needs a place on the service: FOLDER:PATH")
    for name in ("name", "check"):
        if given[name]:
            raise BadRequest(f"--{name} goes with a run that is started by hand; leave it out")
    options = read_options(given["option"] or [])
    return make_order(_named_questions(given["of"]), given["source"], given["target"], options, _settings(given))


def _settings(given: Mapping[str, Any]) -> dict[str, Any]:
    """The settings of an order, of what was given on the command line."""
    return {
        "keep": given["keep"] or [],
        "columns": dict(_pair(text, "--field FIELD=COLUMN") for text in given["field"] or ()),
        "key": given["key"] or [],
        "replace": given["replace"],
        "most_rejects": _share(given["most_rejects"]),
        "rows_per_second": given["rows_per_second"],
        "source_format": given["source_format"],
        "target_format": given["target_format"],
        "delimiter": {"\\t": "\t", "tab": "\t"}.get(given["delimiter"], given["delimiter"]),
    }


def _check(
    client: Client,
    questions: dict[str, str],
    source: str,
    target: str | None,
    options: dict[str, Any],
    settings: dict[str, Any],
    as_json: bool,
) -> None:
    if not is_place(source):
        raise BadRequest("a file of this machine is not looked at before it is brought to the service; --check takes places on the service")
    found = client.fetch("POST", "/api/bulk/check", make_order(questions, source, target, options, settings))
    if as_json:
        print_json(found)
        return
    rows = "rows that only reading will count" if found["rows"] is None else f"{found['rows']:,} rows"
    print_line(f"{source}: {rows}, {len(found['columns'])} columns")
    for match in found["matches"]:
        print_table(["field", "column"], [[name, column] for name, column in match["columns"].items()])
        if match["defaults"]:
            print_line(paint(f"no column, so by default or missing: {', '.join(match['defaults'])}", DIM))
    if found["unused"]:
        print_line(paint(f"not used: {', '.join(found['unused'])}", DIM))
    print_line(f"output: {', '.join(found['output'])}")


def bulk_list(
    of: Annotated[str | None, typer.Argument(help="Only runs of this endpoint, version or model.")] = None,
    limit: Annotated[int, typer.Option(help="How many.", min=1, max=500)] = 20,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``bulk list``."""
    with Client(address) as client:
        runs = client.fetch("GET", "/api/bulk", of=of, limit=limit)
    if as_json:
        print_json(runs)
        return
    if not runs:
        print_line("There are no bulk runs. Start one: lamppost bulk start ENDPOINT --from FILE --to FILE")
        return
    print_table(
        ["run", "state", "versions", "rows", "rejects", "rows/s", "began", "from"],
        [
            [
                run["name"],
                _mark(run),
                ", ".join(run["versions"]),
                _rows(run),
                f"{run['rejects']:,}",
                "–" if run["rows_per_second"] is None else f"{run['rows_per_second']:,.0f}",
                time_ago(run["made_at"]),
                run["source"],
            ]
            for run in runs
        ],
        right=frozenset({"rows", "rejects", "rows/s"}),
    )


def bulk_show(
    run: Run,
    against: Annotated[str | None, typer.Option(help="Another run to compare with [the one before].", metavar="RUN")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``bulk show``."""
    with Client(address) as client:
        facts = client.fetch("GET", f"/api/bulk/{run}", against=against)
    if as_json:
        print_json(facts)
        return
    print_line(f"{_mark(facts)} {facts['name']}  {_rows(facts)} rows, {facts['rejects']:,} rejects, by {', '.join(facts['versions'])}")
    if facts["reason"]:
        print_line(f"  {facts['reason']}")
    print_line(paint(f"  {facts['source']} → {facts['target'] or _where(facts)}", DIM))
    print_line(paint(f"  by {facts['made_by']}, {time_ago(facts['made_at'])}, {facts['busy_s']:.1f} s on {facts['node']}", DIM))
    before = facts["answers_before"] or {}
    for column, counts in facts["answers"].items():
        print_line()
        total, earlier = sum(counts.values()), before.get(column, {})
        head = [column, "rows", "%", ""] + ([facts["before"]] if earlier else [])
        print_table(
            head,
            [
                [
                    label,
                    f"{count:,}",
                    f"{100 * count / total:.1f}",
                    paint("█" * round(_BAR * count / total), AMBER),
                    *([f"{100 * earlier.get(label, 0) / sum(earlier.values()):.1f} %"] if earlier else []),
                ]
                for label, count in [*counts.items()][:_SHOWN_ANSWERS]
            ],
            right=frozenset({"rows", "%", facts["before"] or ""}),
        )
    for drift in facts["drift"]:
        print_line()
        print_line(f"against {drift['against']}: {drift['summary']}")
    if facts["first_rejects"]:
        print_line()
        print_table(
            ["row", "line", "field", "fault"],
            [
                [str(reject["row"]), str(reject.get("line", "")), reject.get("field", ""), reject["fault"]]
                for reject in facts["first_rejects"][:10]
            ],
            right=frozenset({"row", "line"}),
        )


def bulk_follow(run: Run, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``bulk follow``."""
    with Client(address) as client:
        handle = BulkRun(client, client.fetch("GET", f"/api/bulk/{run}/progress"))
        _wait(handle, as_json)
        _show_end(handle.facts, None, as_json)


def bulk_stop(run: Run, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``bulk stop``."""
    with Client(address) as client:
        facts = client.fetch("POST", f"/api/bulk/{run}/stop")
    print_done(f"{_mark(facts)} {run}\n  go on with: lamppost bulk resume {run}", facts, as_json)


def bulk_resume(
    run: Run,
    most_rejects: Annotated[str | None, typer.Option(help="Another share of rows that may be rejected: 5% or 0.05.")] = None,
    wait: Annotated[bool, typer.Option("--wait/--no-wait", help="Wait for the end.")] = True,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``bulk resume``."""
    with Client(address) as client:
        body = {"most_rejects": None if most_rejects is None else _share(most_rejects)}
        handle = BulkRun(client, client.fetch("POST", f"/api/bulk/{run}/resume", body))
        _follow_or_leave(handle, wait, as_json)


def bulk_repeat(
    run: Run,
    source: Annotated[str | None, typer.Option("--from", help="Another source.", metavar="PLACE")] = None,
    target: Annotated[str | None, typer.Option("--to", help="Another target.", metavar="PLACE")] = None,
    replace: Annotated[bool, typer.Option("--replace", help="Replace a target that exists.")] = False,
    wait: Annotated[bool, typer.Option("--wait/--no-wait", help="Wait for the end.")] = True,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``bulk repeat``."""
    with Client(address) as client:
        body = {"source": source, "target": target, "replace": replace or None}
        handle = BulkRun(client, client.fetch("POST", f"/api/bulk/{run}/repeat", body))
        _follow_or_leave(handle, wait, as_json)


def bulk_fetch(
    run: Run,
    to: Annotated[Path | None, typer.Option(help="Where the file goes [its own name].", metavar="FILE")] = None,
    rejects: Annotated[bool, typer.Option("--rejects", help="The rows that were left out, instead of the output.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``bulk fetch``."""
    with Client(address) as client:
        handle = BulkRun(client, client.fetch("GET", f"/api/bulk/{run}/progress"))
        result = handle.facts["result"] or {}
        file = to or Path(str((result.get("rejects") if rejects else result.get("path")) or run)).name
        with transfer_progress(f"fetching {Path(file).name}", as_json) as progress:
            path = handle.download_rejects(file) if rejects else handle.download(file, progress)
    print_done(f"{path}  {format_bytes(path.stat().st_size)}", {"path": str(path), "size_bytes": path.stat().st_size}, as_json)


def bulk_forget(run: Run, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``bulk forget``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/bulk/{run}")
    print_done(f"{run} is forgotten", {"run": run}, as_json)


# -- what is shown --------------------------------------------------------------------------------------------------------


def _mark(run: dict[str, Any]) -> str:
    glyph, colour = _MARKS[run["state"]]
    return f"{paint(glyph, colour)} {run['state']}"


def _rows(run: dict[str, Any]) -> str:
    whole = run["row_total"]
    return f"{run['rows']:,}" + (f" of {whole:,}" if whole is not None and run["state"] != "finished" else "")


def _where(run: dict[str, Any]) -> str:
    return f"the service (lamppost bulk fetch {run['name']})" if run["state"] == "finished" else "the service"


def _follow_or_leave(run: BulkRun, wait: bool, as_json: bool) -> None:
    if wait:
        _wait(run, as_json)
        _show_end(run.facts, None, as_json)
    else:
        print_done(f"{_mark(run.facts)} {run.name}; follow it with: lamppost bulk follow {run.name}", run.facts, as_json)


def _wait(run: BulkRun, as_json: bool) -> None:
    """Wait with a bar on a terminal; a run that did not finish is shown and then raised."""
    with _progress(run.name, as_json) as follow_run:
        run.wait(follow_run)


@contextmanager
def _progress(name: str, quiet: bool) -> Iterator[Callable[[dict[str, Any]], None] | None]:
    if quiet or not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn

    columns = (TextColumn(name), BarColumn(complete_style="color(214)"), TextColumn("{task.description}"))
    with Progress(*columns, console=Console(stderr=True), transient=True) as bars:
        task = bars.add_task("waiting", total=None)

        def show_progress(facts: dict[str, Any]) -> None:
            rate = "" if facts["rows_per_second"] is None else f", {facts['rows_per_second']:,.0f} rows/s"
            left = "" if facts["seconds_left"] is None else f", {_seconds(facts['seconds_left'])} left"
            rejects = f", {facts['rejects']:,} rejects" if facts["rejects"] else ""
            text = f"{facts['state']}: {_rows(facts)} rows{rate}{left}{rejects}"
            bars.update(task, total=facts["row_total"], completed=facts["rows"], description=text)

        yield show_progress


def _seconds(seconds: float) -> str:
    return f"{seconds:.0f} s" if seconds < 90 else f"{seconds / 60:.0f} min" if seconds < 5_400 else f"{seconds / 3600:.1f} h"


def _show_end(run: dict[str, Any], local: Path | None, as_json: bool) -> None:
    if as_json:
        print_json(run)
        return
    rate = "" if run["rows_per_second"] is None else f", {run['rows_per_second']:,.0f} rows/s"
    print_line(f"{_mark(run)} {run['name']}  {run['rows']:,} rows by {', '.join(run['versions'])} in {run['busy_s']:.1f} s{rate}")
    result = run["result"] or {}
    where = str(local) if local is not None else run["target"] or _where(run)
    size = f"  {format_bytes(result['size_bytes'])}" if result.get("size_bytes") else ""
    print_line(f"  {where}{size}")
    if run["rejects"]:
        beside = str(_rejects_beside(local)) if local is not None else result.get("rejects") or ""
        print_line(paint(f"  {run['rejects']:,} rows were rejected, see {beside}", BRICK))


def _rejects_beside(file: Path) -> Path:
    return file.with_name(f"{file.name.partition('.')[0] or file.name}.rejects.ndjson")


# -- what is given ----------------------------------------------------------------------------------------------------------


def _named_questions(of: list[str]) -> dict[str, str]:
    questions = dict(_named_question(text) for text in of)
    if len(questions) < len(of):
        raise BadRequest("two of the questions have the same name; name them differently: NAME=OF")
    return questions


def _named_question(text: str) -> tuple[str, str]:
    name, equals, of = text.partition("=")
    return (name, of) if equals else (_plain(text), text)


def _plain(text: str) -> str:
    return text.replace("@", "-")


def _pair(text: str, shape: str) -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals or not name or not value:
        raise BadRequest(f"{text!r} is not {shape}")
    return name, value


def _share(text: str) -> float:
    bare, percent = text.strip().removesuffix("%"), text.strip().endswith("%")
    try:
        return float(bare) / (100 if percent else 1)
    except ValueError as error:
        raise BadRequest(f"{text!r} is no share; write 1% or 0.01") from error


def _format_of(file: Path) -> str:
    from lamppost.core.bulk.order import require_format

    kind, compression = require_format(file.name, None)
    if compression is not None:
        raise LampPostError(f"{file.name}: the service keeps outputs as they are; leave {file.suffix} out, or name a folder of the service")
    return kind
