"""Command ``up``: starts PostgreSQL, applies migrations, makes the first token, and runs the service until a signal."""

from __future__ import annotations

import contextlib
import logging
import os
import re
import socket
import tomllib
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Annotated, Any
from urllib.parse import urlsplit

import psycopg
import typer

from lamppost.cli.node.data_folder import database_url, only_one
from lamppost.cli.node.http_server import listening, run_node
from lamppost.cli.node.logging_setup import set_up_logging
from lamppost.cli.node.options import (
    AllowCode,
    AllowPickle,
    GrpcPort,
    LogJson,
    Memory,
    PublicUrl,
    SignedBy,
    TlsCert,
    TlsKey,
    Unconfined,
    byte_count,
    package_formats,
    public_address,
    read_secret,
    tls_files,
    worker_confines,
)
from lamppost.core.errors import SetupError
from lamppost.core.extras import check_extra
from lamppost.core.names import check_name, closest_name
from lamppost.package.signing import read_public
from lamppost.runtime.confinement.system_calls import keep_memory_private
from lamppost.runtime.lane_options import LaneSettings
from lamppost.service.app import make_app
from lamppost.service.deployment.node_memory import FILE as MEMORY_FILE
from lamppost.service.forwarding import read_network
from lamppost.service.node import Node
from lamppost.service.service_addresses import read_service
from lamppost.service.settings import Settings
from lamppost.store import tokens
from lamppost.store.database import hand_over, is_away, migrate

log = logging.getLogger("lamppost.workers")

_CORES_OF_FRONT = 4
_SCHEDULER = re.compile(r"(tcp|tls|ws|wss)://[^\s/]+:\d+")


def _read_settings(context: typer.Context, file: Path | None) -> Path | None:
    """Take options from a file of TOML, where neither the command line nor the environment gives them."""
    if file is None:
        return None
    try:
        given = tomllib.loads(file.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise SetupError(f"--settings {file} cannot be read: {error}") from error
    known = {parameter.name for parameter in context.command.params} - {"settings", "help"}
    named = {key.replace("-", "_"): value for key, value in given.items()}
    if unknown := sorted(named.keys() - known):
        like = closest_name(unknown[0], {str(name) for name in known})
        raise SetupError(f"{file}: there is no option {unknown[0]!r}" + (f"; did you mean {like}?" if like else "; see lamppost up --help"))
    context.default_map = {**(context.default_map or {}), **named}
    return file


_NOT_IN_BACKUPS = frozenset(
    (
        "settings",
        "name",
        "node_address",
        "data",
        "database",
        "database_file",
        "admin_token_file",
        "source",
        "target",
        "folder",
        "new_admin_token",
    )
)
"""Options that belong to one machine, or hold passwords."""


def _options_given(context: typer.Context) -> dict[str, Any]:
    """The options that are not at their default, named and written as in a file of settings."""
    given = {}
    for name, value in context.params.items():
        source = context.get_parameter_source(name)
        if name in _NOT_IN_BACKUPS or value is None or source is None or source.name == "DEFAULT":
            continue
        plain = [str(part) for part in value] if isinstance(value, list | tuple) else value
        given[name.replace("_", "-")] = str(plain) if isinstance(plain, Path) else plain
    return given


def up(
    context: typer.Context,
    settings: Annotated[
        Path | None,
        typer.Option(
            help="File of TOML with any of these options, such as port = 8420; the command line and the environment come first.",
            is_eager=True,
            callback=_read_settings,
            metavar="FILE",
        ),
    ] = None,
    data: Annotated[Path, typer.Option(help="Folder for everything the service keeps.")] = Path(".lamppost"),
    host: Annotated[str, typer.Option(help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port to listen on.", min=0, max=65535)] = 8420,
    public_url: PublicUrl = None,
    tls_cert: TlsCert = None,
    tls_key: TlsKey = None,
    trust_proxy: Annotated[
        list[str] | None,
        typer.Option(help="Address or network of a proxy whose X-Forwarded headers are believed (may be repeated).", metavar="NETWORK"),
    ] = None,
    cors_origin: Annotated[
        list[str] | None, typer.Option(help="Origin of pages that may ask from browsers, with a token (may be repeated).", metavar="URL")
    ] = None,
    environments: Annotated[
        bool,
        typer.Option("--environments", help="Serve packages with the library versions they were packed with; pip installs what differs."),
    ] = False,
    memory: Memory = None,
    spool: Annotated[str, typer.Option(help="Disk space for records while the database is away.")] = "1GB",
    grpc_port: GrpcPort = None,
    database: Annotated[str | None, typer.Option(help="URL of an existing PostgreSQL, instead of a private one.")] = None,
    database_file: Annotated[
        Path | None, typer.Option(help="File that holds that URL, so that its password stands nowhere else.", metavar="FILE")
    ] = None,
    allow_pickle: AllowPickle = False,
    allow_code: AllowCode = False,
    unconfined: Unconfined = False,
    signed_by: SignedBy = None,
    source: Annotated[
        list[str] | None,
        typer.Option(
            help="A PostgreSQL database for look-ups and bulk runs to read (may be repeated); $NAME takes the URL from the environment.",
            metavar="NAME=URL",
        ),
    ] = None,
    target: Annotated[
        list[str] | None,
        typer.Option(help="A PostgreSQL database that bulk runs may write to (may be repeated); $NAME as before.", metavar="NAME=URL"),
    ] = None,
    remote: Annotated[
        list[str] | None,
        typer.Option(
            help="Another Lamp Post service whose endpoints may take part in answers (may be repeated); grpcs:// for TLS, several hosts "
            "with commas, ?token=FILE&ca=FILE behind them.",
            metavar="NAME=grpc://HOST:PORT",
        ),
    ] = None,
    cluster: Annotated[
        list[str] | None,
        typer.Option(
            help="A Dask cluster that bulk runs may be spread over, by the address of its scheduler (may be repeated).",
            metavar="NAME=tcp://HOST:PORT",
        ),
    ] = None,
    folder: Annotated[
        list[str] | None,
        typer.Option(
            help="A folder, or a store as a URL such as s3://BUCKET/PATH, for files of bulk runs (may be repeated); $NAME as before.",
            metavar="NAME=PATH",
        ),
    ] = None,
    admin_token_file: Annotated[
        Path | None, typer.Option(help="File with the secret for the first admin token, instead of a made and printed one.", metavar="FILE")
    ] = None,
    new_admin_token: Annotated[bool, typer.Option("--new-admin-token", help="Give the admin token a new secret first.")] = False,
    smtp: Annotated[str | None, typer.Option(help="Mail server for alerts and reports, HOST:PORT.")] = None,
    mail_from: Annotated[str, typer.Option(help="Sender of those mails.")] = "lamppost@localhost",
    otlp: Annotated[str | None, typer.Option(help="Collector for spans (OTLP over HTTP), such as http://host:4318/v1/traces.")] = None,
    drain: Annotated[
        float, typer.Option(help="Seconds between a SIGTERM, from which on the node is not ready, and its end.", min=0, max=600)
    ] = 0.0,
    ready_needs: Annotated[str, typer.Option(help="What /health/ready needs: node, or all (every endpoint answers).")] = "node",
    fronts: Annotated[
        int | None, typer.Option(help="Processes that read requests on the port [a quarter of the cores, at least 1].", min=1, max=64)
    ] = None,
    log_json: LogJson = False,
    name: Annotated[str | None, typer.Option(help="Name of this node among all [the machine's and the port].")] = None,
    node_address: Annotated[str | None, typer.Option(help="Address where other nodes reach this one [--host and --port].")] = None,
    log_size: Annotated[str, typer.Option(help="Disk space for log lines, which lamppost logs reads.")] = "100MB",
    log_days: Annotated[int, typer.Option(help="Days that log lines are kept.", min=1, max=3650)] = 14,
    records: Annotated[bool, typer.Option("--records/--no-records", help="Record calls; without records there is no monitoring.")] = True,
) -> None:
    """Command ``up``. Each option may also come from the environment (``LAMPPOST_PORT``) or from the file that --settings names."""
    del settings  # read by its callback
    set_up_logging(log_json)
    for noisy in ("uvicorn.error", "httpx"):
        logging.getLogger(noisy).setLevel(logging.WARNING)
    logging.getLogger("psycopg.pool").setLevel(logging.CRITICAL)  # the database watch says once what the pool says over and over
    data = data.resolve()
    keep_memory_private()
    if ready_needs not in ("node", "all"):
        raise SetupError(f"--ready-needs {ready_needs} is neither node nor all")
    signers = frozenset(read_public(path) for path in signed_by or ())
    sources = dict(_named_url(text, "--source") for text in source or ())
    targets = dict(_named_url(text, "--target") for text in target or ())
    folders = dict(_folder(text) for text in folder or ())
    clusters = dict(_cluster(text) for text in cluster or ())
    remotes = dict(read_service(text) for text in remote or ())
    if remotes:
        check_extra("grpc")
    if double := sorted(folders.keys() & {*sources, *targets, "upload"}):
        raise SetupError(f"--folder {double[0]}=… has the name of a database, or of uploads; give the folder another name")
    public_urls = tuple(public_address(url) for url in public_url or ())
    if environments and not allow_code:
        raise SetupError("libraries that packages name run code when they are imported; start with --allow-code as well as --environments")
    tls = tls_files(tls_cert, tls_key)
    if tls is not None and fronts is not None and fronts > 1:
        raise SetupError(
            "--fronts and --tls-cert do not go together: a connection with TLS cannot move from one process to another; "
            "let a proxy in front end TLS, or leave --fronts out"
        )
    fronts = fronts or (1 if tls is not None else max(1, (os.cpu_count() or 1) // _CORES_OF_FRONT))
    if grpc_port is not None:
        check_extra("grpc")
        with listening(host, grpc_port, "--grpc-port"):
            pass  # only to say it at once when it is taken
    if database_file is not None:
        database = read_secret(database_file, "--database-file")
    first_secret = os.environ.get("LAMPPOST_ADMIN_TOKEN") or (
        None if admin_token_file is None else read_secret(admin_token_file, "--admin-token-file")
    )
    with contextlib.ExitStack() as held:
        listener = held.enter_context(listening(host, port, "--port", shared=fronts > 1))
        held.enter_context(only_one(data))
        formats = package_formats(allow_pickle, allow_code)
        # before the database starts, which then lies in the group that the service has moved into
        worker_rules, confinement = held.enter_context(worker_confines(data / "workers", data, unconfined, formats))
        url = held.enter_context(database_url(database, data))
        address = f"{'https' if tls_cert else 'http'}://{host}:{listener.getsockname()[1]}"
        served_from, secret, before_database_returns = _prepare_database(url, database is not None, data, new_admin_token, first_secret)
        grpc = None if grpc_port is None else f"{host}:{grpc_port}"
        node = Node(
            Settings(
                data,
                served_from,
                lane=LaneSettings(formats=formats),
                memory_bytes=None if memory is None else byte_count(memory, "--memory"),
                spool_bytes=byte_count(spool, "--spool"),
                environments=environments,
                signers=signers,
                grpc=grpc,
                sources=sources,
                targets=targets,
                folders=folders,
                clusters=clusters,
                remotes=remotes,
                tls=None if tls is None else tls.files,
                name=check_name(name, "node") if name else f"{socket.gethostname()}:{listener.getsockname()[1]}",
                address=node_address.rstrip("/") if node_address else address.replace("//0.0.0.0:", f"//{_own_address(url)}:"),
                log_bytes=byte_count(log_size, "--log-size"),
                log_days=log_days,
                public_urls=public_urls,
                trusted_proxies=tuple(read_network(text) for text in trust_proxy or ()),
                cors_origins=tuple(_origin(text) for text in cors_origin or ()),
                smtp=smtp,
                mail_from=mail_from,
                otlp=otlp,
                ready_needs_all=ready_needs == "all",
                options=_options_given(context),
                records=records,
                fronts=fronts,
                workers=worker_rules,
                confinement=confinement,
            ),
            before_database_returns,
        )
        run_node(node, make_app(node), listener, address, secret=secret, drain_s=drain, tls=tls)


def _prepare_database(
    url: str, theirs: bool, data: Path, new_admin_token: bool, first_secret: str | None
) -> tuple[str, str | None, Callable[[], object] | None]:
    """Bring the database up to date. Returns the URL that the service uses, the secret of a new admin token, and, where a database of
    somebody else's is away and this folder has served before, what is to be done once that is back. Raise SetupError for a wrong URL.
    """
    try:
        migrate(url, own_server=not theirs)
        served_from = url if theirs else hand_over(url)
        secret = tokens.replace_admin(served_from) if new_admin_token else tokens.make_first_admin(served_from, first_secret)
        return served_from, secret, None
    except psycopg.ProgrammingError as error:
        if error.sqlstate is not None:
            raise
        raise SetupError(f"--database is no URL of a PostgreSQL database ({error}); write postgresql://USER@HOST:PORT/NAME") from error
    except psycopg.OperationalError as error:
        if not theirs or not is_away(error) or new_admin_token or not (data / MEMORY_FILE).exists():
            raise SetupError(f"the database cannot be reached: {str(error).strip()}") from error
        return url, None, partial(migrate, url)


def _own_address(database: str) -> str:
    """The address of this machine by which it reaches the database, and by which other nodes probably reach it."""
    host = urlsplit(database).hostname or "127.0.0.1"
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe, contextlib.suppress(OSError):
        probe.connect((host, 1))  # sends nothing
        return str(probe.getsockname()[0])
    return "127.0.0.1"


def _origin(text: str) -> str:
    """An origin without a path; raise SetupError for what is none."""
    parts = urlsplit(text)
    if parts.scheme not in ("http", "https") or not parts.netloc or parts.path.strip("/"):
        raise SetupError(f"--cors-origin {text} is no origin; write https:// and a name, without a path")
    return f"{parts.scheme}://{parts.netloc}"


def _named_url(text: str, option: str) -> tuple[str, str]:
    """Name and URL of ``NAME=URL``, where ``NAME=$VARIABLE`` keeps a password out of the command line."""
    name, equals, url = text.partition("=")
    if url.startswith("$"):
        url = os.environ.get(url[1:], "")
    if not equals or not url:
        raise SetupError(f"{option} {name}=… needs NAME=URL, or NAME=$VARIABLE with a variable that holds the URL")
    return check_name(name, option.strip("-")), url


def _cluster(text: str) -> tuple[str, str]:
    """Name and address of a cluster's scheduler; raise SetupError for what is neither."""
    name, address = _named_url(text, "--cluster")
    if not _SCHEDULER.fullmatch(address):
        raise SetupError(f"--cluster {name}={address} is no address of a scheduler; write tcp://HOST:PORT, or tls://HOST:PORT")
    return name, address


def _folder(text: str) -> tuple[str, str]:
    """Name and absolute path, or URL, of ``NAME=PATH``; raise SetupError for a folder that is not there."""
    name, where = _named_url(text, "--folder")
    if "://" in where:
        return name, where
    if not Path(where).is_dir():
        raise SetupError(f"--folder {name}={where} is no folder; make it first")
    return name, str(Path(where).resolve())
