"""The remote endpoints that this node asks: finds out what they promise, and looks after that while they take part in an answer."""

from __future__ import annotations

import asyncio
import logging
import os
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any
from uuid import uuid4
from weakref import WeakValueDictionary

from lamppost.core.endpoint.remote_endpoints import RemoteAddress, RemoteDescription, read_description, write_description
from lamppost.core.endpoint.setup import EndpointSetup, EnsembleSetup
from lamppost.core.errors import Conflict, DeadlinePassed, LampPostError, Unavailable
from lamppost.core.extras import check_extra
from lamppost.core.names import unknown_name
from lamppost.service.remote.hops import Hop
from lamppost.service.service_addresses import ServiceAddresses

if TYPE_CHECKING:
    from lamppost.service.remote.connections import RemoteConnections
    from lamppost.service.remote.remote_part import RemoteEndpoint, RemotePart

log = logging.getLogger("lamppost.remote")

_DESCRIBE_S = 20.0
"""Longest that a setup waits for what a remote endpoint promises, which may have to be opened for it."""
_LOOK_S = 2.0
_LOOK_EVERY_S = 3.0


class RemoteServices:
    """The services that the operator named. mark : tells this service from every other one, in the list of those that a call has
    passed; all nodes of a service have the same.
    """

    def __init__(self, addresses: Mapping[str, ServiceAddresses]) -> None:
        self.mark = uuid4().hex[:12]
        self._addresses = addresses
        self._connections: dict[str, RemoteConnections] = {}
        self._endpoints: WeakValueDictionary[RemoteAddress, RemoteEndpoint] = WeakValueDictionary()
        self._looking: asyncio.Task[None] | None = None

    def mark_of(self, endpoint: str) -> str:
        """The mark of an endpoint of this service."""
        return f"{self.mark}/{endpoint}"

    def _connected(self, service: str) -> RemoteConnections:
        if service not in self._addresses:
            raise Conflict(unknown_name("service", service, self._addresses, f"--remote {service}=grpc://HOST:PORT"))
        if service not in self._connections:
            check_extra("grpc")
            os.environ.setdefault("GRPC_ENABLE_FORK_SUPPORT", "0")  # workers are other programs and never use it
            from lamppost.service.remote.connections import RemoteConnections

            self._connections[service] = RemoteConnections(service, self._addresses[service])
        return self._connections[service]

    def _endpoint(self, address: RemoteAddress) -> RemoteEndpoint:
        endpoint = self._endpoints.get(address)
        if endpoint is None:
            connections = self._connected(address.service)
            from lamppost.service.remote.remote_part import RemoteEndpoint

            endpoint = self._endpoints[address] = RemoteEndpoint(connections, address)
        return endpoint

    async def describe(self, address: RemoteAddress, passed: Sequence[str] = ()) -> RemoteDescription:
        """What a remote endpoint promises now. passed : the endpoints that the question has come through.

        Raise Conflict for an unknown service or endpoint, or a circle of endpoints; Unavailable where no node answers.
        """
        connections = self._connected(address.service)
        from lamppost.service.grpc import predict_pb2 as pb
        from lamppost.service.remote.connections import is_unknown

        message = pb.DescribeRequest(endpoint=address.endpoint, wake=True)
        try:
            reply = await connections.ask("Describe", message, _DESCRIBE_S, Hop(None, tuple(passed)).to_metadata(), _DESCRIBE_S / 2)
        except DeadlinePassed as error:
            raise Unavailable(f"{address} did not say within {_DESCRIBE_S:g} s what it answers", retry_after_s=5) from error
        except LampPostError as error:
            away = isinstance(error, Unavailable) and not is_unknown(error)
            raise (Unavailable if away else Conflict)(f"{address}: {error.detail}", **error.extra) from error
        return await asyncio.to_thread(read_description, reply.description, str(address))

    async def with_descriptions(self, setup: EndpointSetup, endpoint: str, present: EndpointSetup | None) -> EndpointSetup:
        """The setup with what its remote endpoints promise now; of one that does not answer, what is known. Raises as `describe` does.

        present : what the endpoint serves now.
        """
        if setup.together is None or not setup.together.remotes:
            return setup
        together, addresses = setup.together, setup.together.remotes
        known = together.described | (present.together.described if present is not None and present.together is not None else {})

        async def described(address: RemoteAddress) -> dict[str, Any]:
            try:
                return write_description(await self.describe(address, [self.mark_of(endpoint)]))
            except Unavailable:
                if str(address) not in known:
                    raise
                return known[str(address)]

        found = await asyncio.gather(*map(described, addresses))
        kept = dict(zip(map(str, addresses), found, strict=True))
        return replace(setup, together=replace(together, described=kept))

    async def check_no_circle(self, together: EnsembleSetup, passed: Sequence[str]) -> None:
        """Ask the remote endpoints of a setup in turn; raise Conflict where the question comes back to one that it has passed."""
        await asyncio.gather(*(self.describe(address, passed) for address in together.remotes))

    def parts(self, together: EnsembleSetup) -> dict[str, RemotePart]:
        """The remote endpoints of a setup, by their addresses; raise Conflict for an unknown service."""
        if not together.remotes:
            return {}
        from lamppost.service.remote.remote_part import RemotePart

        if self._looking is None:
            self._looking = asyncio.create_task(self._look(), name="remote endpoints")
        return {str(address): RemotePart(self._endpoint(address), together.description_of(str(address))) for address in together.remotes}

    async def _look(self) -> None:
        """Ask every node of every service that takes part in an answer, now and then, whether it answers and what it promises."""
        while True:
            endpoints = list(self._endpoints.values())
            await asyncio.gather(*(self._look_at(endpoint, node) for endpoint in endpoints for node in endpoint.connections.nodes))
            del endpoints  # or they would never be let go
            await asyncio.sleep(_LOOK_EVERY_S)

    async def _look_at(self, endpoint: RemoteEndpoint, node: Any) -> None:
        import grpc

        from lamppost.service.grpc import predict_pb2 as pb

        message = pb.DescribeRequest(endpoint=endpoint.address.endpoint, wake=endpoint.stale)
        try:
            reply = await endpoint.connections.ask_node(node, "Describe", message, _LOOK_S)
            known = endpoint.now
            if reply.description:
                if reply.description != endpoint.said:
                    endpoint.now = await asyncio.to_thread(read_description, reply.description, str(endpoint.address))
                    endpoint.said = reply.description
                endpoint.stale = False
            elif known is None or (known.version, known.revision) != (reply.version, reply.revision):
                endpoint.stale = True
        except grpc.aio.AioRpcError:
            pass  # it is noted at the node
        except LampPostError as error:
            log.warning("%s cannot be looked at: %s", endpoint.address, error.detail)
        except Exception:
            log.exception("looking at %s failed on a fault of our own", endpoint.address)

    async def close(self) -> None:
        """End looking, and every connection."""
        if self._looking is not None:
            self._looking.cancel()
            await asyncio.gather(self._looking, return_exceptions=True)
        await asyncio.gather(*(connections.close() for connections in self._connections.values()))
