"""Command ``outpost join``: a node without a database, which serves what its hub says, until a signal."""

from __future__ import annotations

import contextlib
import logging
import shutil
from pathlib import Path
from typing import Annotated

import typer

from lamppost.cli.node.data_folder import only_one
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
    tls_files,
    worker_confines,
)
from lamppost.cli.out import AMBER, paint, print_line
from lamppost.core.errors import SetupError
from lamppost.core.extras import check_extra
from lamppost.package.signing import read_public
from lamppost.runtime.confinement.system_calls import keep_memory_private
from lamppost.runtime.lane_options import LaneSettings
from lamppost.service.app import OUTPOST_API, make_app
from lamppost.service.outpost.hub_follower import HubFollower
from lamppost.service.outpost.outcome_delivery import OutcomeDelivery
from lamppost.service.outpost.record_delivery import HubSink, PayloadBudget
from lamppost.service.outpost.sealed_packages import SealedPackages, memory_folder
from lamppost.service.outpost.standalone_node import StandaloneNode
from lamppost.service.settings import Settings


def outpost_join(
    hub: Annotated[str, typer.Argument(help="Address of the hub, such as https://lamps.example.", metavar="URL")],
    name: Annotated[str, typer.Option(help="Name of this outpost at the hub.")],
    token_file: Annotated[Path | None, typer.Option(help=f"File with its token [the variable {OUTPOST_TOKEN}].", metavar="FILE")] = None,
    data: Annotated[Path, typer.Option(help="Folder for everything that it keeps.")] = Path(".lamppost-outpost"),
    host: Annotated[str, typer.Option(help="Address to listen on.")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port for HTTP.", min=0, max=65535)] = 8422,
    hub_ca: HubCa = None,
    spool: Annotated[str, typer.Option(help="Disk space for records while the hub is away.")] = "1GB",
    sealed: Annotated[
        bool, typer.Option("--sealed", help="Keep packages in cipher on this disk, with a key that the hub gives at every start.")
    ] = False,
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
    """Command ``outpost join``."""
    set_up_logging(log_json)
    keep_memory_private()
    link = link_to_hub(hub, name, token_file, "--token-file", hub_ca)
    if grpc_port is not None:
        check_extra("grpc")
    tls = tls_files(tls_cert, tls_key)
    formats = package_formats(allow_pickle, allow_code)
    data = data.resolve()
    with listening(host, port, "--port") as listener, only_one(data), contextlib.ExitStack() as held:
        shown = f"[{host}]" if ":" in host else host
        address = f"{'http' if tls is None else 'https'}://{shown}:{listener.getsockname()[1]}"
        opened = memory_folder(data) if sealed else data
        rules, confinement = held.enter_context(worker_confines(opened / "workers", data, unconfined, formats))
        settings = Settings(
            data,
            "",
            name=name,
            address=address,
            lane=LaneSettings(formats=formats),
            memory_bytes=None if memory is None else byte_count(memory, "--memory"),
            spool_bytes=byte_count(spool, "--spool"),
            signers=frozenset(read_public(path) for path in signed_by or ()),
            grpc=None if grpc_port is None else f"{host}:{grpc_port}",
            tls=None if tls is None else tls.files,
            public_urls=tuple(public_address(url) for url in public_url or ()),
            packages=opened / "packages",
            workers=rules,
            confinement=confinement,
        )
        budget = PayloadBudget(data / "payloads-of-day.json")
        node = StandaloneNode(settings)
        node.bring_records_to(HubSink(link, node.window_counting, budget))
        node.outcomes = OutcomeDelivery(data / "outcomes", link, lambda: node.recorder.waiting)
        node.source = HubFollower(node, link, budget, SealedPackages(data / "sealed") if sealed else None)

        def show_endpoints() -> None:
            print_line(f"  the outpost {name} of {hub}")
            for endpoint, route in sorted(node.deployment.table.by_endpoint.items()):
                print_line(f"  {paint('●', AMBER)} {endpoint}  {route.setup.summary()}  {address}/predict/{endpoint}")

        logging.getLogger("uvicorn.error").setLevel(logging.CRITICAL + 1)  # it writes a traceback where the start fails
        try:
            run_node(
                node, make_app(node, OUTPOST_API, console=False), listener, address, has_console=False, tls=tls, after_start=show_endpoints
            )
        except SystemExit:
            raise node.failure or SetupError("the outpost could not be started; the lines above say why") from None
        finally:
            if sealed:
                shutil.rmtree(opened, ignore_errors=True)
