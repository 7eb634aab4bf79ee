"""Commands ``bulk …``: files and tables in, answers out."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Annotated, Any

import typer

from lamppost.cli.ask import read_options
from lamppost.cli.bulk.run_text import rejects_beside, rows_of_run, run_mark, run_progress, show_end, show_run
from lamppost.cli.out import DIM, paint, print_done, print_json, print_line, print_table, time_ago, transfer_progress
from lamppost.cli.pages import form_of_page, write_page
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client
from lamppost.client.bulk import BulkRun, is_place, make_order
from lamppost.core.errors import BadRequest, LampPostError
from lamppost.core.quantities import format_bytes

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
        str | None, typer.Option("--format", help="Format of the source: csv, ndjson, parquet, arrow, xlsx [by its name].")
    ] = None,
    target_format: Annotated[str | None, typer.Option("--to-format", help="Format of the output [by its name].")] = None,
    delimiter: Annotated[str, typer.Option(help="What stands between the cells of a CSV file.")] = ",",
    sheet: Annotated[str | None, typer.Option(help="Sheet of an XLSX file [the only one].")] = None,
    name: Annotated[str | None, typer.Option(help="Name of the run [the endpoint's, and a number].")] = None,
    on: Annotated[
        str | None, typer.Option(help="Dask cluster that answers, by its name or address [the service itself].", metavar="CLUSTER")
    ] = None,
    reasons: Annotated[
        int | None, typer.Option(help="So many fields that moved each answer most, as further columns.", min=1, max=20, metavar="N")
    ] = None,
    reason_rows: Annotated[
        int, typer.Option(help="Most rows that the model is asked about for the reasons of each row.", min=1, max=2_000)
    ] = 64,
    report: Annotated[
        list[str] | None,
        typer.Option(help="Mail channel that gets a report when the run has finished (may be repeated).", metavar="CHANNEL"),
    ] = None,
    report_where: Annotated[
        list[str] | None,
        typer.Option(help="Which rows the report lists: 'label = fails' (may be repeated, all hold).", metavar="CONDITION"),
    ] = None,
    report_sort: Annotated[
        list[str] | None, typer.Option(help="Their order: COLUMN, or -COLUMN for the largest first (may be repeated).", metavar="COLUMN")
    ] = None,
    report_rows: Annotated[int, typer.Option(help="How many rows the report lists.", min=0, max=200)] = 20,
    report_text: Annotated[Path | None, typer.Option(help="Template of the report's first paragraph (Jinja).", metavar="FILE")] = None,
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
        "sheet": sheet,
        "on": on,
        "reasons": reasons,
        "reason_rows": reason_rows,
        "report": report,
        "report_where": report_where,
        "report_sort": report_sort,
        "report_rows": report_rows,
        "report_text": report_text,
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
            print_done(f"{run_mark(run.facts)} {run.name}; follow it with: lamppost bulk follow {run.name}", run.facts, as_json)
            return
        _wait(run, as_json)
        if local is not None:
            with transfer_progress(f"fetching {local.name}", as_json) as progress:
                run.download(local, progress)
            if run.facts["rejects"]:
                run.download_rejects(rejects_beside(local))
        show_end(run.facts, local, as_json)


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
        "sheet": given["sheet"],
        "on": given["on"],
        "reasons": None if given["reasons"] is None else {"fields": given["reasons"], "rows": given["reason_rows"]},
        "report": _report(given),
    }


def _report(given: Mapping[str, Any]) -> dict[str, Any] | None:
    """The report that was asked for; None where no option says anything about one."""
    if not any(given[f"report{name}"] for name in ("", "_where", "_sort", "_text")):
        return None
    text: Path | None = given["report_text"]
    try:
        template = None if text is None else text.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise BadRequest(f"{text} cannot be read: {error}") from error
    lists = {"to": given["report"], "where": given["report_where"], "sort": given["report_sort"]}
    return {**{name: found or [] for name, found in lists.items()}, "rows": given["report_rows"], "text": template}


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
    if (more := found["reason_rows"]) is not None:
        print_line(f"reasons: {more} more rows are asked for each row, so the run takes about {1 + more} times as long")


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
                run_mark(run),
                ", ".join(run["versions"]),
                rows_of_run(run),
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
    show_run(facts)


def bulk_follow(run: Run, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``bulk follow``."""
    with Client(address) as client:
        handle = BulkRun(client, client.fetch("GET", f"/api/bulk/{run}/progress"))
        _wait(handle, as_json)
        show_end(handle.facts, None, as_json)


def bulk_stop(run: Run, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``bulk stop``."""
    with Client(address) as client:
        facts = client.fetch("POST", f"/api/bulk/{run}/stop")
    print_done(f"{run_mark(facts)} {run}\n  go on with: lamppost bulk resume {run}", facts, as_json)


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


def bulk_report(
    run: Run,
    to: Annotated[Path | None, typer.Option(help="File to write, .html or .pdf [RUN.html].", metavar="FILE")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``bulk report``."""
    file = to or Path(f"{run}.html")
    form = form_of_page(file)
    with Client(address, timeout_s=120) as client:
        write_page(file, client.fetch_bytes(f"/api/bulk/{run}/report", form=form), as_json)


def bulk_forget(run: Run, address: Address = None, as_json: AsJson = False) -> None:
    """Command ``bulk forget``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/bulk/{run}")
    print_done(f"{run} is forgotten", {"run": run}, as_json)


def _follow_or_leave(run: BulkRun, wait: bool, as_json: bool) -> None:
    if wait:
        _wait(run, as_json)
        show_end(run.facts, None, as_json)
    else:
        print_done(f"{run_mark(run.facts)} {run.name}; follow it with: lamppost bulk follow {run.name}", run.facts, as_json)


def _wait(run: BulkRun, as_json: bool) -> None:
    """Wait with a bar on a terminal; a run that did not finish is shown and then raised."""
    with run_progress(run.name, as_json) as follow_run:
        run.wait(follow_run)


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
