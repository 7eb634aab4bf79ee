"""The HTTP server of ``lamppost up``: its port, its signals, its end."""

from __future__ import annotations

import asyncio
import errno
import gc
import logging
import signal
import socket
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from types import FrameType
from typing import Any

import uvicorn
import uvloop

from lamppost.cli.out import AMBER, paint, print_line
from lamppost.client.config import keep_token
from lamppost.core.errors import LampPostError, SetupError
from lamppost.service.app import App
from lamppost.service.console import console_folder
from lamppost.service.fronts.moved_connection import MovedConnection
from lamppost.service.http.connection import HttpConnection
from lamppost.service.http.tls import TlsFiles
from lamppost.service.node import Node

log = logging.getLogger("lamppost.node")

_SWITCH_S = 0.0005
"""How long a thread that writes records may keep the interpreter from the loop that answers."""


class HttpServer(uvicorn.Server):
    """uvicorn, which says where it is once it answers, and lets callers go before it ends.

    secret : of a new token, which is shown once. shown_as : whose that token is, in a word. has_console : whether there is a console.
    drain_s : seconds between SIGTERM and the end. after_start : says more, once the service answers.
    """

    def __init__(
        self,
        config: uvicorn.Config,
        node: Node,
        address: str,
        *,
        secret: str | None,
        shown_as: str,
        has_console: bool,
        drain_s: float,
        tls: TlsFiles | None,
        after_start: Callable[[], None],
    ) -> None:
        super().__init__(config)
        self._after_start = after_start
        self._shown_as = shown_as
        self._has_console = has_console
        self._tls = tls
        self._node = node
        self._address = address
        self._secret = secret
        self._drain_s = drain_s
        self._loop: asyncio.AbstractEventLoop | None = None
        self._refreshing: asyncio.Task[None] | None = None
        self._taking: set[asyncio.Future[Any]] = set()

    @contextmanager
    def capture_signals(self) -> Iterator[None]:
        """Stop in good order on a signal; it is not raised again afterwards, because PostgreSQL is still to be stopped."""
        handlers: dict[signal.Signals, Callable[[int, FrameType | None], None]] = {
            signal.SIGINT: self.handle_exit,
            signal.SIGTERM: self._begin_end,
            signal.SIGHUP: self._refresh,
        }
        before = {number: signal.signal(number, handler) for number, handler in handlers.items()}
        try:
            yield
        finally:
            for number, handler in before.items():
                signal.signal(number, handler)

    def _begin_end(self, number: int, frame: FrameType | None) -> None:
        """End after the time for draining; a second signal ends at once."""
        if self._node.ending or not self._drain_s or self._loop is None:
            self.handle_exit(number, frame)
            return
        self._node.ending = True
        log.warning("a signal asks for the end: not ready from now on, and ending in %g s", self._drain_s)
        self._loop.call_soon_threadsafe(self._loop.call_later, self._drain_s, self.handle_exit, number, frame)

    def _refresh(self, *_: object) -> None:
        """SIGHUP: read anew what can be, and go on."""
        log.warning("SIGHUP: tokens, endpoints and certificates are read anew; options of the command need a new start")
        if self._tls is not None:
            try:
                self._tls.load()
            except SetupError as error:
                log.error("%s; the certificate of before stays", error.detail)
        if self._loop is not None:
            self._loop.call_soon_threadsafe(self._start_refreshing)

    def _start_refreshing(self) -> None:
        self._refreshing = asyncio.ensure_future(self._node.refresh())

    def show_secret(self) -> None:
        """Show the secret of a new admin token, and keep it in the client's file where that can be written; nothing the second time."""
        if (secret := self._secret) is None:
            return
        self._secret = None
        try:
            kept = f"kept in {keep_token(self._address, secret)}"
        except (OSError, LampPostError, RuntimeError) as error:  # no HOME, or one that cannot be written
            kept = f"it could not be kept: {error}"
        print_line(f"  {self._shown_as} token (shown this once, {kept}): {secret}")

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        """Say where the service is, once it answers."""
        fronts = self._node.fronts
        await super().startup([] if fronts.count else sockets)
        if not self.started:
            return
        self._loop = asyncio.get_running_loop()
        if fronts.count and sockets is not None:
            host, port = sockets[0].getsockname()[:2]
            await fronts.start((host, port))
        gc.freeze()  # what is there now stays: to look through it for cycles, again and again, takes a tenth of a second each time
        print_line(f"{paint('●', AMBER)} Lamp Post answers at {self._address}")
        self.show_secret()
        if not self._has_console:
            pass
        elif console_folder() is None:
            print_line("  the console is not built; build it with: make console")
        else:
            print_line("  sign a browser in with: lamppost console")
        self._after_start()
        fronts.admit(self._take_connection)

    def _take_connection(self, moved: socket.socket, unanswered: bytes, give_back: Callable[[asyncio.Transport], None]) -> None:
        """Serve a connection that a front has moved here."""
        loop = asyncio.get_running_loop()
        of_uvicorn = {"config": self.config, "server_state": self.server_state, "app_state": self.lifespan.state, "_loop": loop}
        moved.setblocking(False)
        taking = asyncio.ensure_future(loop.connect_accepted_socket(lambda: MovedConnection(unanswered, give_back, **of_uvicorn), moved))
        self._taking.add(taking)
        taking.add_done_callback(self._note_taken)

    def _note_taken(self, taking: asyncio.Future[Any]) -> None:
        self._taking.discard(taking)
        if not taking.cancelled() and (error := taking.exception()) is not None:
            log.debug("a connection was gone before it came from a front: %s", error)

    async def shutdown(self, sockets: list[socket.socket] | None = None) -> None:
        """Let the fronts end first, and then the connections of the node itself."""
        self._node.outpost_hub.end_waits()
        if self._node.fronts.count:
            await self._node.fronts.finish()
        await super().shutdown(sockets)


def run_node(
    node: Node,
    app: App,
    listener: socket.socket,
    address: str,
    *,
    secret: str | None = None,
    shown_as: str = "admin",
    secret_stays: bool = True,
    has_console: bool = True,
    drain_s: float = 0.0,
    tls: TlsFiles | None = None,
    after_start: Callable[[], None] = lambda: None,
) -> None:
    """Serve an app on a port until a signal ends it. The arguments are those of `HttpServer`.

    secret_stays : whether the token is there also when the start fails; it is shown then, because nobody would ever know it.
    """
    config = uvicorn.Config(
        app,
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
    config.load()
    config.ssl = None if tls is None else tls.context
    sys.setswitchinterval(_SWITCH_S)
    server = HttpServer(
        config, node, address, secret=secret, shown_as=shown_as, has_console=has_console, drain_s=drain_s, tls=tls, after_start=after_start
    )
    try:
        with asyncio.Runner(loop_factory=uvloop.new_event_loop) as runner:
            runner.run(server.serve(sockets=[listener]))
    finally:
        if secret_stays:
            server.show_secret()


@contextmanager
def listening(host: str, port: int, option: str, shared: bool = False) -> Iterator[socket.socket]:
    """The port, taken before anything else is started. shared : by front processes, which listen; the socket given only keeps the port."""
    if shared and port:
        with listening(host, port, option):
            pass  # a port that is shared could be taken although another service shares it
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family) as listener:
        listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            if shared:
                listener.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEPORT, 1)
            listener.bind((host, port))
            if not shared:
                listener.listen(2048)
        except OSError as error:
            if isinstance(error, socket.gaierror) or error.errno == errno.EADDRNOTAVAIL:
                raise SetupError(
                    f"cannot listen on {host}, which is none of this machine's addresses; give one of them with --host, or 0.0.0.0 for all"
                ) from error
            raise SetupError(
                f"cannot listen on {host}:{port} ({error.strerror}); choose another port with {option}, for example {option} {port + 1}"
            ) from error
        listener.setblocking(False)
        yield listener
