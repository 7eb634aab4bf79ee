"""A node without a database: lanes, predictions, metrics and logs, and nothing that is kept elsewhere."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Protocol

from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import LampPostError
from lamppost.core.names import VersionName
from lamppost.core.roles import Principal
from lamppost.service.deployment.switching import MadeChange
from lamppost.service.node import Node, import_arrow
from lamppost.service.outpost.outcome_delivery import OutcomeDelivery
from lamppost.service.records.record_writer import RecordSink
from lamppost.service.settings import Settings
from lamppost.store.endpoints import EndpointChange, EndpointRevision
from lamppost.store.spool import SpoolPortion
from lamppost.store.tokens import hash_of


class ServedSource(Protocol):
    """Where a node has from what it serves."""

    async def start(self) -> None:
        """Serve what there is, and follow it."""

    async def close(self) -> None:
        """Follow it no more."""


class NoSink:
    """Takes no records: those of a node that only counts its calls."""

    async def __call__(self, portion: SpoolPortion) -> int:
        """Nothing is brought here."""
        return portion.calls

    async def close(self) -> None:
        """Nothing is to be done."""


class StandaloneNode(Node):
    """See the module. Calls are only counted, unless something takes their records. source : is started and closed with the node.

    outcomes : keeps those that are reported here, None where nobody takes them.
    failure : the error on which the start failed, None where it did not.
    """

    def __init__(self, settings: Settings) -> None:
        super().__init__(settings, sink=NoSink())
        self.pool.there_is_none = True
        self.window_counting.find_digest = self.digest_of
        self.recorder.only_counted = True
        self.source: ServedSource | None = None
        self.outcomes: OutcomeDelivery | None = None
        self.failure: LampPostError | None = None

    def bring_records_to(self, sink: RecordSink) -> None:
        """Keep records, and bring them to a sink."""
        self.recorder.sink = sink
        self.recorder.only_counted = False

    async def digest_of(self, version: VersionName) -> str:
        """The digest of the package of a version, as this node calls it; raise NotFound."""
        return (await self.memory.find_version(version)).digest

    def let_in(self, secret: str | None) -> None:
        """Let callers in who know a secret, and may ask and look. With None, everybody who reaches the node."""
        if secret is None:
            self.auth.anonymous = Principal("anyone", "publisher")
        else:
            self.auth.put_in_force({hash_of(secret): Principal("serve", "publisher")})

    async def switch(self, endpoint: str, setup: EndpointSetup, changed_by: str, revision: int | None = None) -> None:
        """Open and prove what an endpoint is to serve, then serve it. Raise what opening raises; what answers goes on then.

        revision : its number, the one after the present revision's by default.
        """
        route = self.deployment.table.by_endpoint.get(endpoint)
        before = None if route is None else route.in_force
        number = revision or (1 if before is None else before.revision + 1)

        async def commit(changes: Sequence[EndpointChange]) -> list[MadeChange]:
            return [(EndpointRevision(change.endpoint, number, change.setup, datetime.now(UTC), changed_by), before) for change in changes]

        await self.deployment.switching.switch([EndpointChange(endpoint, setup)], commit)
        self.deployment.keep_for_rollback(endpoint, [])

    async def start(self) -> None:
        """Serve what the source has. Raise its error."""
        self.log_files.start()
        self.deployment.start()
        self.deployment.table.settled = True
        self._importing = asyncio.create_task(import_arrow(), name="import of Arrow")
        await self._start_grpc()
        if self.source is not None:
            try:
                await self.source.start()
            except LampPostError as error:
                self.failure = error
                await self.stop()
                raise
        if self.outcomes is not None:
            self.outcomes.start()
        self.recorder.start()  # by now it is known where the packages are by which waiting rows are counted
        self.deployment.waking.warm = True

    async def stop(self) -> None:
        """Finish what is in hand."""
        if self.source is not None:
            await self.source.close()
        if self.outcomes is not None:
            await self.outcomes.close()
        if self._importing is not None:
            self._importing.cancel()
            await asyncio.gather(self._importing, return_exceptions=True)
        if self._rpc is not None:
            await self._rpc.stop()
        await self.memory.close()
        await self.explainer.close()
        await self.deployment.close()
        await self.recorder.stop()
        await asyncio.to_thread(self.log_files.close)
