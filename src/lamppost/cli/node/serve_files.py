"""Command ``serve``: puts lamp files behind addresses, with no database, until a signal."""

from __future__ import annotations

import contextlib
import ipaddress
import logging
import secrets
import tempfile
from pathlib import Path
from typing import Annotated

import typer

from lamppost.cli.node.http_server import listening, run_node
from lamppost.cli.node.hub_connection import OUTPOST_TOKEN, HubCa, link_to_hub
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
from lamppost.cli.out import AMBER, DIM, paint, print_line
from lamppost.core.errors import SetupError
from lamppost.core.extras import check_extra
from lamppost.package.signing import read_public
from lamppost.runtime.confinement.system_calls import keep_memory_private
from lamppost.runtime.lane_options import LaneSettings
from lamppost.service.app import OUTPOST_API, STANDALONE_API, make_app
from lamppost.service.outpost.hub_link import HubLink
from lamppost.service.outpost.lamp_file_endpoints import LampFileEndpoints, read_source
from lamppost.service.outpost.outcome_delivery import OutcomeDelivery
from lamppost.service.outpost.own_file_reports import OwnFileReports
from lamppost.service.outpost.record_delivery import HubSink, PayloadBudget, TakenVersions
from lamppost.service.outpost.standalone_node import StandaloneNode
from lamppost.service.settings import Settings

_LEAST_SECRET = 16


def serve(
    files: Annotated[
        list[str], typer.Argument(help="Lamp files, or folders of them, which are followed; NAME=FILE for another name.", metavar="FILE...")
    ],
    host: Annotated[str, typer.Option(help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port for HTTP.", min=0, max=65535)] = 8421,
    token_file: Annotated[
        Path | None, typer.Option(help="File with the token that callers send [a made and printed one].", metavar="FILE")
    ] = None,
    to: Annotated[
        str | None, typer.Option(help="Address of a hub to report to: how this node does, and the records of its calls.", metavar="URL")
    ] = None,
    name: Annotated[str | None, typer.Option(help="With --to: name of this outpost at the hub.")] = None,
    hub_token_file: Annotated[
        Path | None, typer.Option(help=f"With --to: file with the token of the outpost [the variable {OUTPOST_TOKEN}].", metavar="FILE")
    ] = None,
    hub_ca: HubCa = None,
    no_token: Annotated[bool, typer.Option("--no-token", help="Let everybody on this machine ask without a token.")] = False,
    grpc_port: GrpcPort = None,
    public_url: PublicUrl = None,
    tls_cert: TlsCert = None,
    tls_key: TlsKey = None,
    memory: Memory = None,
    allow_pickle: AllowPickle = False,
    allow_code: AllowCode = False,
    unconfined: Unconfined = False,
    signed_by: SignedBy = None,
    log_json: LogJson = False,
) -> None:
    """Command ``serve``."""
    set_up_logging(log_json)
    keep_memory_private()
    if no_token and token_file is not None:
        raise SetupError("--no-token and --token-file exclude each other")
    if no_token and not _is_loopback(host):
        raise SetupError(
            f"--no-token lets everybody ask who reaches {host}; it goes with an address of this machine alone, 127.0.0.1 or ::1"
        )
    secret = None if no_token else read_secret(token_file, "--token-file") if token_file is not None else secrets.token_urlsafe(32)
    if secret is not None and len(secret) < _LEAST_SECRET:
        raise SetupError(f"--token-file {token_file} holds fewer than {_LEAST_SECRET} characters; take a longer secret")
    if to is None and (name is not None or hub_token_file is not None or hub_ca is not None):
        raise SetupError("--name, --hub-token-file and --hub-ca say how to report to a hub; give its address with --to")
    link = None if to is None else _hub_link(to, name, hub_token_file, hub_ca)
    if grpc_port is not None:
        check_extra("grpc")
    sources = [read_source(text) for text in files]
    tls = tls_files(tls_cert, tls_key)
    formats = package_formats(allow_pickle, allow_code)
    with listening(host, port, "--port") as listener, contextlib.ExitStack() as held:
        data = Path(held.enter_context(tempfile.TemporaryDirectory(prefix="lamppost-serve-")))
        data.chmod(0o711)  # workers may be other users
        shown = f"[{host}]" if ":" in host else host
        address = f"{'http' if tls is None else 'https'}://{shown}:{listener.getsockname()[1]}"
        rules, confinement = held.enter_context(worker_confines(data / "workers", data, unconfined, formats))
        logging.getLogger("lamppost.node").setLevel(logging.WARNING)
        node = StandaloneNode(
            Settings(
                data,
                "",
                name=f"serve:{listener.getsockname()[1]}",
                address=address,
                lane=LaneSettings(formats=formats),
                memory_bytes=None if memory is None else byte_count(memory, "--memory"),
                signers=frozenset(read_public(path) for path in signed_by or ()),
                grpc=None if grpc_port is None else f"{host}:{grpc_port}",
                tls=None if tls is None else tls.files,
                public_urls=tuple(public_address(url) for url in public_url or ()),
                workers=rules,
                confinement=confinement,
            )
        )
        node.let_in(secret)
        node.source = endpoints = LampFileEndpoints(node, sources)
        if link is not None:
            budget, taken = PayloadBudget(data / "payloads-of-day.json"), TakenVersions(node.digest_of)
            node.bring_records_to(HubSink(link, node.window_counting, budget, taken))
            node.outcomes = OutcomeDelivery(data / "outcomes", link, lambda: node.recorder.waiting)
            node.source = OwnFileReports(node, endpoints, link, budget, taken)

        def show_endpoints() -> None:
            for name, route in sorted(node.deployment.table.by_endpoint.items()):
                print_line(f"  {paint('●', AMBER)} {name}  {route.setup.summary()}  {address}/predict/{name}")
            for path, reason in endpoints.refused.items():
                print_line(f"  {paint('○', DIM)} {path} is not served: {reason}")
            if to is not None:
                print_line(f"  reports as {name} to {to}")
            if secret is None:
                print_line(paint("  no token is needed on this machine", DIM))

        logging.getLogger("uvicorn.error").setLevel(logging.CRITICAL + 1)  # it writes a traceback where the start fails
        try:
            run_node(
                node,
                make_app(node, STANDALONE_API if link is None else OUTPOST_API, console=False),
                listener,
                address,
                secret=None if token_file is not None else secret,
                shown_as="caller",
                secret_stays=False,
                has_console=False,
                tls=tls,
                after_start=show_endpoints,
            )
        except SystemExit:
            raise node.failure or SetupError("the service could not be started; the lines above say why") from None


def _hub_link(hub: str, name: str | None, token_file: Path | None, ca: Path | None) -> HubLink:
    if name is None:
        raise SetupError("--to needs the name of this outpost at the hub, --name; add one there with: lamppost outpost new NAME")
    return link_to_hub(hub, name, token_file, "--hub-token-file", ca)


def _is_loopback(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"
