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
from lamppost.service.prediction.predictors import Predictor
from lamppost.service.prediction.share_router import make_predictor
from lamppost.service.records.window_counting import WindowCounting


class PredictorAssembly:
    """Assembles predictors of one node. sources : databases that fields may be looked up in."""

    def __init__(self, sources: LookupSources, window_counting: WindowCounting) -> None:
        self.sources = sources
        self._window_counting = window_counting

    async def with_resolved_lookups(self, setup: EndpointSetup) -> EndpointSetup:
        """The setup with the kind of each look-up's key; raise Conflict unless tables and columns are there and may be read."""
        if not setup.lookups:
            return setup
        return replace(setup, lookups=tuple([await self.sources.resolve_lookup(lookup) for lookup in setup.lookups]))

    async def assemble(self, setup: EndpointSetup, lanes: Mapping[str, Lane]) -> Predictor:
        """The predictor of a setup. lanes : open lanes of its versions. Raise Conflict if the versions do not fit together."""
        return await asyncio.to_thread(self._assemble, setup, lanes)  # schemas of thousands of fields take their time

    def _assemble(self, setup: EndpointSetup, lanes: Mapping[str, Lane]) -> Predictor:
        predictor = self._with_lookups(setup, lanes)
        limit = setup.monitoring.refuse_odd
        if limit is None:
            return predictor
        return OutlierGuard(predictor, self._window_counting, str(setup.versions[0]), limit)

    def _with_lookups(self, setup: EndpointSetup, lanes: Mapping[str, Lane]) -> Predictor:
        bare = make_predictor(replace(setup, lookups=()), lanes)
        if not setup.lookups:
            return bare
        promised = endpoint_schema(setup, {name: lane.manifest for name, lane in lanes.items()})
        there = set(bare.columns.names)
        known = Schema((*bare.columns, *(field for field in promised.inputs if field.name not in there)))
        return make_predictor(setup, lanes, [LookupTable(self.sources, lookup, known) for lookup in setup.lookups])
