"""Declares the commands about the service, packages, endpoints, calls, tokens and keys. Each imports its implementation when it runs."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

app = typer.Typer(
    name="lamppost",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
    rich_markup_mode=None,
    help="Put a trained model into service: pack it, prove it, push it, point an endpoint at it, ask it.",
)
tokens = typer.Typer(no_args_is_help=True, help="Make, list and revoke tokens.", rich_markup_mode=None)
app.add_typer(tokens, name="token")
keys = typer.Typer(no_args_is_help=True, help="Make and list the keys that sign packages.", rich_markup_mode=None)
app.add_typer(keys, name="key")

Address = Annotated[str | None, typer.Option(help="Address of the service [from the client's file, else http://127.0.0.1:8420].")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON for programs.")]
LampFile = Annotated[Path, typer.Argument(help="The lamp file.", metavar="FILE")]
BreakCallers = Annotated[bool, typer.Option("--anyway", help="Make the change although it would refuse calls like those of the last hour.")]
Override = Annotated[str | None, typer.Option(help="Skip the review, for this reason (admins only).", metavar="REASON")]
DEFAULT_DATA = Path(".lamppost")


@app.command()
def up(
    data: Annotated[Path, typer.Option(help="Folder for everything the service keeps.")] = DEFAULT_DATA,
    host: Annotated[str, typer.Option(help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port to listen on.", min=0, max=65535)] = 8420,
    environments: Annotated[
        bool,
        typer.Option("--environments", help="Serve packages with the library versions they were packed with; pip installs what differs."),
    ] = False,
    memory: Annotated[
        str | None, typer.Option(help="Memory that all models together may hold, such as 2GB [half of the machine's].")
    ] = None,
    spool: Annotated[str, typer.Option(help="Disk space for records while the database is away.")] = "1GB",
    grpc_port: Annotated[int | None, typer.Option(help="Port for gRPC; without this option there is no gRPC.", min=1, max=65535)] = None,
    database: Annotated[str | None, typer.Option(help="URL of an existing PostgreSQL, instead of a private one.")] = None,
    allow_pickle: Annotated[
        bool, typer.Option("--allow-pickle", help="Open packages that are stored as pickle; a pickle can run code.")
    ] = False,
    allow_code: Annotated[bool, typer.Option("--allow-code", help="Open packages that carry Python code of their own.")] = False,
    signed_by: Annotated[
        list[Path] | None,
        typer.Option(help="Public key, one of which must have signed packages that can run code (may be repeated).", metavar="FILE"),
    ] = None,
    source: Annotated[
        list[str] | None,
        typer.Option(
            help="A PostgreSQL database for look-ups (may be repeated); $NAME takes the URL from the environment.", metavar="NAME=URL"
        ),
    ] = None,
    new_admin_token: Annotated[bool, typer.Option("--new-admin-token", help="Give the admin token a new secret first.")] = False,
    smtp: Annotated[str | None, typer.Option(help="Mail server for alerts and reports, HOST:PORT.")] = None,
    mail_from: Annotated[str, typer.Option(help="Sender of those mails.")] = "lamppost@localhost",
    otlp: Annotated[str | None, typer.Option(help="Collector for spans (OTLP over HTTP), such as http://host:4318/v1/traces.")] = None,
    log_json: Annotated[bool, typer.Option("--log-json", help="Log as lines of JSON.")] = False,
    records: Annotated[bool, typer.Option("--records/--no-records", help="Record calls; without records there is no monitoring.")] = True,
) -> None:
    """Start the service, with a private PostgreSQL unless --database names another."""
    from lamppost.cli.up import UpOptions, run

    run(
        UpOptions(
            data,
            host,
            port,
            database,
            allow_pickle,
            allow_code,
            tuple(signed_by or ()),
            tuple(source or ()),
            environments,
            memory,
            spool,
            grpc_port,
            new_admin_token,
            smtp,
            mail_from,
            otlp,
            log_json,
            records,
        )
    )


@app.command()
def pack(
    source: Annotated[Path, typer.Argument(help="A lamp.toml, a model file such as one .onnx, or a folder or ZIP with either.")],
    to: Annotated[Path | None, typer.Option(help="File to write [NAME.lamp beside the source].")] = None,
    rows: Annotated[Path | None, typer.Option(help="Rows for the proof (.json, .csv or .parquet), if there is no lamp.toml.")] = None,
    name: Annotated[str | None, typer.Option(help="Name of the model, if there is no lamp.toml [name of the file].")] = None,
    quantize: Annotated[
        bool, typer.Option("--quantize", help="Store the weights of an ONNX network as 8-bit integers, and print what that changed.")
    ] = False,
    sign: Annotated[str | None, typer.Option(help="Sign the lamp file with this key; see lamppost key.", metavar="KEY")] = None,
    as_json: AsJson = False,
) -> None:
    """Make a lamp file and prove it."""
    from lamppost.cli.packing import PackOptions, pack

    pack(source, PackOptions(to, rows, name, quantize, sign), as_json)


@app.command()
def inspect(file: LampFile, as_json: AsJson = False) -> None:
    """Show what is in a lamp file."""
    from lamppost.cli.packages import inspect

    inspect(file, as_json)


@app.command()
def diff(
    before: Annotated[str, typer.Argument(help="The earlier lamp file, or version such as outage-risk@1.", metavar="BEFORE")],
    after: Annotated[str, typer.Argument(help="The later lamp file, or version.", metavar="AFTER")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show what changed between two lamp files or versions; exit code 1 if it would break callers."""
    from lamppost.cli.packages import diff

    diff(before, after, address, as_json)


@app.command()
def sign(
    file: LampFile, key: Annotated[str, typer.Option(help="Name of the key, or file of the private one.")], as_json: AsJson = False
) -> None:
    """Sign a lamp file; its digest does not change."""
    from lamppost.cli.keys import sign

    sign(file, key, as_json)


@app.command()
def prove(file: LampFile, as_json: AsJson = False) -> None:
    """Replay a lamp file's proof in a fresh process; exit code 1 if any answer differs from training."""
    from lamppost.cli.packages import prove

    prove(file, as_json)


@app.command()
def push(
    file: LampFile,
    model: Annotated[str | None, typer.Option(help="Push under another model name.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Store a lamp file as the next version of its model."""
    from lamppost.cli.manage import push

    push(file, model, address, as_json)


@app.command()
def point(
    endpoint: Annotated[str, typer.Argument(help="The endpoint; a new name makes a new endpoint.")],
    version: Annotated[str, typer.Argument(help="Version, such as outage-risk@2.")],
    break_callers: BreakCallers = False,
    override: Override = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Make an endpoint serve a version, after the version has proved itself."""
    from lamppost.cli.changes import ChangeOverrides
    from lamppost.cli.manage import point

    point(endpoint, version, ChangeOverrides(break_callers, override), address, as_json)


@app.command()
def setup(
    endpoint: Annotated[str, typer.Argument(help="The endpoint.")],
    file: Annotated[Path | None, typer.Option(help="Replace the setup with this TOML file; - reads standard input.")] = None,
    as_of: Annotated[int | None, typer.Option(help="Restore the setup of this revision; see lamppost show.")] = None,
    lane: Annotated[
        list[str] | None,
        typer.Option(
            help="A lane rule, such as target_ms=20 or keep_warm=true (may be repeated); see docs/setups.md.", metavar="NAME=VALUE"
        ),
    ] = None,
    watch: Annotated[
        list[str] | None,
        typer.Option(
            help="A monitoring setting, such as window_minutes=60 or sample=10 (may be repeated); see docs/monitoring.md.",
            metavar="NAME=VALUE",
        ),
    ] = None,
    lenient: Annotated[
        bool | None, typer.Option("--lenient/--strict", help="Take values of another kind whose meaning leaves no doubt, or refuse them.")
    ] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show or change what an endpoint serves, and how: several versions, look-ups, lenient reading, lane rules."""
    from lamppost.cli.setup import SetupOptions, setup

    setup(endpoint, SetupOptions(file, as_of, lenient, tuple(lane or ()), tuple(watch or ())), address, as_json)


@app.command()
def lanes(
    version: Annotated[str | None, typer.Argument(help="Only this version, with its batches.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show the open lanes of the node: copies, queues, batches, memory."""
    from lamppost.cli.lanes import lanes

    lanes(version, address, as_json)


@app.command()
def endpoints(address: Address = None, as_json: AsJson = False) -> None:
    """List endpoints: their state, what they serve, their last hour."""
    from lamppost.cli.manage import endpoints

    endpoints(address, as_json)


@app.command()
def models(
    model: Annotated[str | None, typer.Argument(help="Only this model.")] = None,
    search: Annotated[
        str | None, typer.Option(help="Only versions with these words in names, tags, fields, metrics, notes, people.")
    ] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """List models and their versions."""
    from lamppost.cli.manage import models

    models(model, search, address, as_json)


@app.command()
def show(
    name: Annotated[str, typer.Argument(help="An endpoint (outage-risk) or a version (outage-risk@2).")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show an endpoint or a version: fields, state, history."""
    from lamppost.cli.manage import show

    show(name, address, as_json)


@app.command()
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
    """Ask an endpoint; without a row, the example of its schema is sent."""
    from lamppost.cli.ask import AskOptions, ask

    ask(endpoint, AskOptions(row, file, image or [], option or [], header or []), address, as_json)


@app.command()
def tail(
    endpoint: Annotated[str | None, typer.Argument(help="Only this endpoint.")] = None,
    lines: Annotated[int, typer.Option("--lines", "-n", help="Calls to show first.", min=1, max=1000)] = 20,
    follow: Annotated[bool, typer.Option("--follow", "-f", help="Print further calls as they come.")] = False,
    status: Annotated[int | None, typer.Option(help="Only this status and above, such as 400.", min=100, max=599)] = None,
    slower: Annotated[float | None, typer.Option(help="Only calls that took at least so many milliseconds.", min=0)] = None,
    version: Annotated[str | None, typer.Option(help="Only calls that this version answered.")] = None,
    token: Annotated[str | None, typer.Option(help="Only calls by this token.")] = None,
    odd: Annotated[
        float | None, typer.Option(help="Only calls with an outlier score of at least this; 3 is one row of a thousand.", min=0, max=12)
    ] = None,
    contains: Annotated[str | None, typer.Option(help="Only calls with this text in their input or answer.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show the last calls."""
    from lamppost.cli.calls import CallFilter, tail

    tail(CallFilter(endpoint, status, slower, version, token, odd, contains), lines, follow, address, as_json)


@app.command()
def call(
    request_id: Annotated[str, typer.Argument(help="The call's id, from its answer, from tail or from a page.")],
    version: Annotated[str | None, typer.Option("--replay", help="Ask this version the same rows, and show what differs.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Show one call: input, answer, version, and where the time went."""
    from lamppost.cli.calls import call

    call(request_id, version, address, as_json)


@app.command()
def console(address: Address = None) -> None:
    """Print a link that signs one browser in to the console, once."""
    from lamppost.cli.manage import console

    console(address)


@tokens.command("new")
def token_new(
    name: Annotated[str, typer.Argument(help="A name for it, such as billing-service.")],
    role: Annotated[str, typer.Option(help="caller, viewer, publisher, operator, reviewer or admin.")] = "caller",
    endpoint: Annotated[list[str] | None, typer.Option(help="For a caller: only this endpoint (may be repeated).")] = None,
    expires: Annotated[str | None, typer.Option(help="When the token expires: 90d, 12h, or a date such as 2027-03-31.")] = None,
    rate: Annotated[float | None, typer.Option(help="Most requests a second, on each node.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Make a token; its secret is shown once."""
    from lamppost.cli.tokens import TokenOptions, token_new

    token_new(TokenOptions(name, role, endpoint, expires, rate), address, as_json)


@tokens.command("list")
def token_list(address: Address = None, as_json: AsJson = False) -> None:
    """List tokens."""
    from lamppost.cli.tokens import token_list

    token_list(address, as_json)


@tokens.command("revoke")
def token_revoke(name: Annotated[str, typer.Argument(help="The token's name.")], address: Address = None) -> None:
    """End a token at once."""
    from lamppost.cli.tokens import token_revoke

    token_revoke(name, address)


@keys.command("new")
def key_new(name: Annotated[str, typer.Argument(help="A name for it, such as release.")], as_json: AsJson = False) -> None:
    """Make an Ed25519 key pair; the private half stays in your own folder."""
    from lamppost.cli.keys import key_new

    key_new(name, as_json)


@keys.command("list")
def key_list(as_json: AsJson = False) -> None:
    """List your keys."""
    from lamppost.cli.keys import key_list

    key_list(as_json)
