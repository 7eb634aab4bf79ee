"""Assembles the predictor of an endpoint: one version, shares or a choice, with look-ups before it and an outlier guard around it."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import replace

from lamppost.core.endpoint.endpoint_schema import endpoint_schema
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.schema.fields import Schema
from lamppost.runtime.lane import Lane
from lamppost.service.prediction.lookups import LookupSources, LookupTable
from lamppost.service.prediction.outlier_guard import OutlierGuard
from lamppost.service.prediction.predictors import NO_REMOTE_PARTS, Predictor, RemoteParts
from lamppost.service.prediction.share_router import make_predictor
from lamppost.service.records.window_counting import WindowCounting
from lamppost.service.remote.services import RemoteServices


class PredictorAssembly:
    """Assembles predictors of one node. sources : databases that fields may be looked up in. remote : other services that may take part."""

    def __init__(self, sources: LookupSources, remote: RemoteServices, window_counting: WindowCounting) -> None:
        self.sources = sources
        self.remote = remote
        self._window_counting = window_counting

    async def with_resolved_lookups(self, setup: EndpointSetup) -> EndpointSetup:
        """The setup with the kind of each look-up's key; raise Conflict unless tables and columns are there and may be read."""
        if not setup.lookups:
            return setup
        return replace(setup, lookups=tuple([await self.sources.resolve_lookup(lookup) for lookup in setup.lookups]))

    async def close(self) -> None:
        """Close every connection."""
        await self.sources.close()
        await self.remote.close()

    async def assemble(self, endpoint: str, setup: EndpointSetup, lanes: Mapping[str, Lane]) -> Predictor:
        """The predictor of an endpoint's setup. lanes : open lanes of its versions. Raise Conflict if the parts do not fit together."""
        remote = NO_REMOTE_PARTS
        if setup.together is not None and setup.together.remotes:
            remote = RemoteParts(self.remote.parts(setup.together), endpoint, self.remote.mark_of(endpoint))
        return await asyncio.to_thread(self._assemble, setup, lanes, remote)  # schemas of thousands of fields take their time

    def _assemble(self, setup: EndpointSetup, lanes: Mapping[str, Lane], remote: RemoteParts) -> Predictor:
        predictor = self._with_lookups(setup, lanes, remote)
        limit = setup.monitoring.refuse_odd
        if limit is None:
            return predictor
        return OutlierGuard(predictor, self._window_counting, str(setup.versions[0]), limit)

    def _with_lookups(self, setup: EndpointSetup, lanes: Mapping[str, Lane], remote: RemoteParts) -> Predictor:
        bare = make_predictor(replace(setup, lookups=()), lanes, remote=remote)
        if not setup.lookups:
            return bare
        promised = endpoint_schema(setup, {name: lane.manifest for name, lane in lanes.items()})
        there = set(bare.columns.names)
        known = Schema((*bare.columns, *(field for field in promised.inputs if field.name not in there)))
        return make_predictor(setup, lanes, [LookupTable(self.sources, lookup, known) for lookup in setup.lookups], remote)
