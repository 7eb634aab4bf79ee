"""Declares the commands about monitoring: drift, traffic, outcomes, alerts, channels, reports."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from lamppost.cli.app import Address, AsJson, app
from lamppost.cli.app_versions import Endpoint

channels = typer.Typer(no_args_is_help=True, help="Add, list and remove channels, where alerts and reports go.", rich_markup_mode=None)
app.add_typer(channels, name="channel")

Since = Annotated[str | None, typer.Option(help="Start, such as 2026-05-01 or 2026-05-01T20:00Z.", metavar="TIME")]
Until = Annotated[str | None, typer.Option(help="End [now].", metavar="TIME")]


@app.command()
def drift(
    endpoint: Endpoint,
    field: Annotated[str | None, typer.Option(help="One watched feature, with its bins in training and now.")] = None,
    version: Annotated[str | None, typer.Option(help="Of this version [the one that is served].")] = None,
    at: Annotated[str | None, typer.Option(help="The window in which this time lies [the newest].", metavar="TIME")] = None,
    against: Annotated[str | None, typer.Option(help="Compare with the window of this time [training].", metavar="TIME")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show whether rows and answers still look like training, and why not."""
    from lamppost.cli.watching import drift

    drift(endpoint, field, version, at, against, address, as_json)


@app.command()
def traffic(endpoint: Endpoint, since: Since = None, until: Until = None, address: Address = None, as_json: AsJson = False) -> None:
    """Show calls, errors and percentiles by phase over time."""
    from lamppost.cli.watching import traffic

    traffic(endpoint, since, until, address, as_json)


@app.command()
def watch(
    endpoint: Annotated[str | None, typer.Argument(help="Only this endpoint, with its last hour.")] = None,
    once: Annotated[bool, typer.Option("--once", help="Print it once.")] = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Watch endpoints live: state, calls, latency, quality, drift, alerts."""
    from lamppost.cli.watching import watch

    watch(endpoint, once, address, as_json)


@app.command()
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
    """Report the truth about an earlier answer."""
    from lamppost.cli.outcomes import outcome

    outcome(endpoint, None if request_id is None or truth is None else (request_id, truth), row, file, key, address, as_json)


@app.command()
def outcomes(endpoint: Endpoint, since: Since = None, until: Until = None, address: Address = None, as_json: AsJson = False) -> None:
    """Show the quality of answers, as far as the truth is known."""
    from lamppost.cli.outcomes import outcomes

    outcomes(endpoint, since, until, address, as_json)


@app.command()
def alerts(
    endpoint: Annotated[str | None, typer.Argument(help="Only this endpoint.")] = None,
    everything: Annotated[bool, typer.Option("--all", help="Resolved alerts too.")] = False,
    take: Annotated[int | None, typer.Option(help="Acknowledge the alert with this number.", metavar="NUMBER", min=1)] = None,
    note: Annotated[str | None, typer.Option(help="What is being done about it.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show open alerts: what, since when, how sure, and the probable cause."""
    from lamppost.cli.alerts import alerts

    alerts(endpoint, everything, take, note, address, as_json)


@app.command()
def mute(
    endpoint: Endpoint,
    span: Annotated[str, typer.Argument(help="How long, such as 30m, 4h or 2d; off ends the mute.")],
    note: Annotated[str | None, typer.Option(help="The reason.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Send no notices about an endpoint for a while."""
    from lamppost.cli.alerts import mute

    mute(endpoint, span, note, address, as_json)


@app.command()
def report(
    endpoint: Endpoint,
    period: Annotated[str, typer.Option(help="day, week or month.")] = "week",
    to: Annotated[Path | None, typer.Option(help="File to write, .html or .pdf [ENDPOINT-PERIOD.html].")] = None,
    address: Address = None,
) -> None:
    """Write a report about an endpoint."""
    from lamppost.cli.alerts import report

    report(endpoint, period, to, address)


@channels.command("add")
def channel_add(
    name: Annotated[str, typer.Argument(help="A name for it, such as night-shift.")],
    webhook: Annotated[str | None, typer.Option(help="URL that gets CloudEvents.", metavar="URL")] = None,
    mail: Annotated[str | None, typer.Option(help="Address that gets mail.", metavar="ADDRESS")] = None,
    endpoint: Annotated[list[str] | None, typer.Option(help="Only about this endpoint (may be repeated).")] = None,
    reports: Annotated[str, typer.Option(help="Reports by mail: none, daily or weekly.")] = "none",
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Add a channel for alerts and reports."""
    from lamppost.cli.alerts import channel_add

    channel_add(name, webhook, mail, endpoint, reports, address, as_json)


@channels.command("list")
def channel_list(address: Address = None, as_json: AsJson = False) -> None:
    """List channels, and the latest notices with how they fared."""
    from lamppost.cli.alerts import channel_list

    channel_list(address, as_json)


@channels.command("remove")
def channel_remove(name: Annotated[str, typer.Argument(help="The channel.")], address: Address = None) -> None:
    """Remove a channel."""
    from lamppost.cli.alerts import channel_remove

    channel_remove(name, address)
