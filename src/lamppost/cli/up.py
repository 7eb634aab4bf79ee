"""Command ``up``: starts PostgreSQL, applies migrations, makes the first token, and runs the service until a signal."""

from __future__ import annotations

import asyncio
import fcntl
import gc
import logging
import os
import re
import signal
import socket
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import uvicorn
import uvloop

from lamppost.cli.logs import set_up_logging
from lamppost.cli.out import AMBER, paint, print_line
from lamppost.client.config import keep_token
from lamppost.core.errors import SetupError
from lamppost.core.names import check_name
from lamppost.package.signing import read_public
from lamppost.runtime.lane_options import LaneSettings
from lamppost.service.app import make_app
from lamppost.service.console import console_folder
from lamppost.service.http.connection import HttpConnection
from lamppost.service.node import Node
from lamppost.service.settings import Settings
from lamppost.store import tokens
from lamppost.store.database import hand_over, migrate
from lamppost.store.postgres import PrivateServer

_SWITCH_S = 0.0005
"""How long a thread that writes records may keep the interpreter from the loop that answers."""


@dataclass(frozen=True, slots=True)
class UpOptions:
    """What was said on the command line."""

    data: Path
    host: str
    port: int
    database: str | None
    allow_pickle: bool
    allow_code: bool
    signed_by: tuple[Path, ...]
    sources: tuple[str, ...]
    environments: bool
    memory: str | None
    spool: str
    grpc_port: int | None
    new_admin_token: bool
    smtp: str | None
    mail_from: str
    otlp: str | None
    log_json: bool
    records: bool


def run(options: UpOptions) -> None:
    """Run until SIGINT or SIGTERM; PostgreSQL ends last."""
    set_up_logging(options.log_json)
    for noisy in ("uvicorn.error", "psycopg.pool", "httpx"):
        logging.getLogger(noisy).setLevel(logging.WARNING)
    data = options.data.resolve()
    signers = frozenset(read_public(path) for path in options.signed_by)
    sources = dict(_source(text) for text in options.sources)
    if options.grpc_port is not None:
        with _listening(options.host, options.grpc_port, "--grpc-port"):
            pass  # only to say it at once when it is taken
    with _listening(options.host, options.port, "--port") as listener, _only_one(data), _database(options, data) as url:
        address = f"http://{options.host}:{listener.getsockname()[1]}"
        migrate(url)
        served_from = url if options.database else hand_over(url)
        secret = tokens.replace_admin(url) if options.new_admin_token else tokens.make_first_admin(url)
        formats = {"skops"} | ({"pickle", "torch"} if options.allow_pickle else set()) | ({"python"} if options.allow_code else set())
        grpc = None if options.grpc_port is None else f"{options.host}:{options.grpc_port}"
        node = Node(
            Settings(
                data,
                served_from,
                LaneSettings(formats=frozenset(formats)),
                memory_bytes=None if options.memory is None else _bytes(options.memory, "--memory"),
                spool_bytes=_bytes(options.spool, "--spool"),
                environments=options.environments,
                signers=signers,
                grpc=grpc,
                sources=sources,
                address=address,
                smtp=options.smtp,
                mail_from=options.mail_from,
                otlp=options.otlp,
                records=options.records,
            )
        )
        config = uvicorn.Config(
            make_app(node),
            http=HttpConnection,
            log_config=None,
            access_log=False,
            server_header=False,
            lifespan="on",
            proxy_headers=False,
            timeout_graceful_shutdown=10,
            timeout_keep_alive=75,
            backlog=2048,
        )
        sys.setswitchinterval(_SWITCH_S)
        server = _Server(config, address, secret)
        with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
            runner.run(server.serve(sockets=[listener]))


def _bytes(text: str, option: str) -> int:
    """Bytes of ``512MB``, ``2GB``."""
    found = re.fullmatch(r"(\d+(?:\.\d+)?) ?(k|M|G)B?", text.strip(), re.IGNORECASE)
    if found is None or float(found[1]) <= 0:
        raise SetupError(f"{option} {text} is no amount of bytes; write 512MB or 2GB")
    return int(float(found[1]) * {"K": 1e3, "M": 1e6, "G": 1e9}[found[2].upper()])


def _source(text: str) -> tuple[str, str]:
    """Name and URL of ``NAME=URL``, where ``NAME=$VARIABLE`` keeps a password out of the command line."""
    name, equals, url = text.partition("=")
    if url.startswith("$"):
        url = os.environ.get(url[1:], "")
    if not equals or not url:
        raise SetupError(f"--source {name}=… needs NAME=URL, or NAME=$VARIABLE with a variable that holds the URL")
    return check_name(name, "source"), url


class _Server(uvicorn.Server):
    """uvicorn, which says where it is once it answers."""

    def __init__(self, config: uvicorn.Config, address: str, secret: str | None) -> None:
        super().__init__(config)
        self._address = address
        self._secret = secret

    @contextmanager
    def capture_signals(self) -> Iterator[None]:
        """Stop in good order on a signal; it is not raised again afterwards, because PostgreSQL is still to be stopped."""
        before = {number: signal.signal(number, self.handle_exit) for number in (signal.SIGINT, signal.SIGTERM)}
        try:
            yield
        finally:
            for number, handler in before.items():
                signal.signal(number, handler)

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets)
        if not self.started:
            return
        gc.freeze()  # what is there now stays: to look through it for cycles, again and again, takes a tenth of a second each time
        print_line(f"{paint('●', AMBER)} Lamp Post answers at {self._address}")
        if self._secret is not None:
            file = keep_token(self._address, self._secret)
            print_line(f"  admin token (shown this once, kept in {file}): {self._secret}")
        if console_folder() is None:
            print_line("  the console is not built; build it with: make console")
        else:
            print_line("  sign a browser in with: lamppost console")


@contextmanager
def _listening(host: str, port: int, option: str) -> Iterator[socket.socket]:
    """The port, taken before anything else is started."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as listener:
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listener.bind((host, port))
            listener.listen(2048)
        except OSError as error:
            raise SetupError(
                f"cannot listen on {host}:{port} ({error.strerror}); choose another port with {option}, for example {option} {port + 1}"
            ) from error
        listener.setblocking(False)
        yield listener


@contextmanager
def _only_one(data: Path) -> Iterator[None]:
    """One service a data folder."""
    data.mkdir(parents=True, exist_ok=True)
    with (data / "lock").open("a+") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            file.seek(0)
            raise SetupError(
                f"a service (process {file.read().strip() or '?'}) runs in {data} already; stop it, or choose another folder with --data"
            ) from error
        file.truncate(0)
        file.write(str(os.getpid()))
        file.flush()
        yield


@contextmanager
def _database(options: UpOptions, data: Path) -> Iterator[str]:
    """The URL of the database: the one given, or that of a private server that ends with us."""
    if options.database:
        yield options.database
        return
    server = PrivateServer(data, durable=os.environ.get("LAMPPOST_DURABLE", "1") != "0")
    try:
        yield server.start()
    finally:
        server.stop()
