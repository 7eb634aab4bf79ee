"""Command ``door``."""

from __future__ import annotations

import asyncio
import contextlib
from typing import Annotated

import typer

from lamppost.cli.doors.http_door import LOOPBACK, USUAL, Door, serve_door
from lamppost.cli.out import AMBER, DIM, paint, print_line
from lamppost.cli.parameters import Address
from lamppost.client.config import find_connection
from lamppost.core.errors import SetupError
from lamppost.core.extras import check_extra


def door(
    port: Annotated[int, typer.Option(help="Port on this machine.", min=1, max=65535)] = 9000,
    everything: Annotated[bool, typer.Option("--all", help="Let everything through, and not predictions alone.")] = False,
    grpc_to: Annotated[
        str | None, typer.Option(help="Where the service answers over gRPC, to forward that as well.", metavar="grpc://HOST:PORT")
    ] = None,
    grpc_port: Annotated[int, typer.Option(help="Port on this machine for gRPC.", min=1, max=65535)] = 9001,
    address: Address = None,
) -> None:
    """Command ``door``."""
    connection = find_connection(address)
    if connection.token is None:
        raise SetupError(f"there is no token for {connection.address}; set LAMPPOST_TOKEN, or sign in there first")
    token = connection.token
    opened = Door(port, connection.address, token, None if everything else USUAL)
    if grpc_to is not None:
        check_extra("grpc")

    async def run() -> None:
        try:
            server = await serve_door(opened)
        except OSError as error:
            raise SetupError(f"cannot listen on {LOOPBACK}:{port} ({error.strerror}); choose another port with --port") from error
        async with contextlib.AsyncExitStack() as stack:
            await stack.enter_async_context(server)
            if grpc_to is not None:
                from lamppost.cli.doors.grpc_door import GrpcDoor, read_target, serve_grpc_door

                rpc, channel = await serve_grpc_door(GrpcDoor(grpc_port, *read_target(grpc_to), token, everything))
                stack.push_async_callback(channel.close)
                stack.push_async_callback(rpc.stop, 1.0)
            print_line(f"{paint('●', AMBER)} http://{LOOPBACK}:{port} leads to {connection.address}, with your token; Ctrl-C ends it")
            if grpc_to is not None:
                print_line(f"{paint('●', AMBER)} grpc://{LOOPBACK}:{grpc_port} leads to {grpc_to}, with your token")
            print_line(paint(f"  it lets {'everything' if everything else ', '.join(USUAL)} through, for programs on this machine", DIM))
            await server.serve_forever()

    with contextlib.suppress(KeyboardInterrupt, asyncio.CancelledError):
        asyncio.run(run())
