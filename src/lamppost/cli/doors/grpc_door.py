"""The part of a door that gRPC goes through: every call is made anew at the service, with the client's own token, message by message.

Browsers cannot ask it, because they speak no HTTP/2 without TLS; so there is no origin to look at.
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import dataclass
from functools import partial
from typing import Any
from urllib.parse import urlsplit

import grpc

from lamppost.cli.out import DIM, paint, print_line
from lamppost.core.errors import SetupError

_LOOPBACK = "127.0.0.1"
_USUAL = ("/lamppost.v1.Prediction/", "/grpc.health.v1.Health/", "/grpc.reflection.v1.", "/grpc.reflection.v1alpha.")
_NOT_PASSED_ON = ("authorization", "user-agent")
_OPTIONS = [("grpc.max_receive_message_length", -1), ("grpc.max_send_message_length", -1), ("grpc.enable_http_proxy", 0)]


@dataclass(frozen=True, slots=True)
class GrpcDoor:
    """Where the door leads. port : of the door. target : host and port of the service. tls : whether the way there is encrypted.

    everything : whether other services than predictions, health and reflection are let through.
    """

    port: int
    target: str
    tls: bool
    token: str
    everything: bool


def read_target(text: str) -> tuple[str, bool]:
    """Host and port of ``grpc://HOST:PORT``, and whether it is ``grpcs://``; raise SetupError for what is none."""
    parts = urlsplit(text)
    try:
        good = parts.scheme in ("grpc", "grpcs") and parts.hostname and parts.port and not parts.path.strip("/")
    except ValueError:
        good = False
    if not good:
        raise SetupError(f"--grpc-to {text[:200]} is no address; write grpc://HOST:PORT, or grpcs://HOST:PORT for TLS")
    return parts.netloc, parts.scheme == "grpcs"


class _PassedOn(grpc.GenericRpcHandler):  # type: ignore[misc]
    """Every method, whatever its messages are."""

    def __init__(self, door: GrpcDoor, channel: grpc.aio.Channel) -> None:
        self._door = door
        self._channel = channel

    def service(self, details: grpc.HandlerCallDetails) -> Any:
        """The handler of a call."""
        return grpc.stream_stream_rpc_method_handler(partial(self._pass_on, details.method, details.invocation_metadata))

    async def _pass_on(self, method: str, sent: Any, messages: AsyncIterator[bytes], context: Any) -> AsyncIterator[bytes]:
        if not self._door.everything and not method.startswith(_USUAL):
            print_line(paint(f"  {method}  refused", DIM))
            await context.abort(grpc.StatusCode.PERMISSION_DENIED, "this door lets predictions through; start it with --all for everything")
        kept = [(key, value) for key, value in sent or () if key not in _NOT_PASSED_ON and not key.startswith((":", "grpc-"))]
        call = self._channel.stream_stream(method)(
            messages, metadata=[*kept, ("authorization", f"Bearer {self._door.token}")], timeout=context.time_remaining()
        )
        try:
            async for message in call:
                yield message
        except grpc.aio.AioRpcError as error:
            print_line(paint(f"  {method}  {error.code().name}", DIM))
            await context.abort(error.code(), error.details() or "", tuple(error.trailing_metadata() or ()))
        finally:
            call.cancel()
        context.set_trailing_metadata(tuple(await call.trailing_metadata() or ()))
        print_line(paint(f"  {method}  OK", DIM))


async def serve_grpc_door(door: GrpcDoor) -> tuple[grpc.aio.Server, grpc.aio.Channel]:
    """Listen on loopback; server and channel are to be closed. Raise SetupError where the port is taken."""
    channel = (
        grpc.aio.secure_channel(door.target, grpc.ssl_channel_credentials(), _OPTIONS)
        if door.tls
        else grpc.aio.insecure_channel(door.target, _OPTIONS)
    )
    server = grpc.aio.server(handlers=[_PassedOn(door, channel)], options=[*_OPTIONS, ("grpc.so_reuseport", 0)])
    try:
        server.add_insecure_port(f"{_LOOPBACK}:{door.port}")
    except RuntimeError as error:
        await channel.close()
        raise SetupError(f"cannot listen on {_LOOPBACK}:{door.port}; choose another port with --grpc-port") from error
    await server.start()
    return server, channel
