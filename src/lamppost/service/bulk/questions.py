"""Opens what a bulk run asks, in lanes of its own: apart from those that answer calls, with larger batches, behind every live answer."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, cast

import orjson

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.bulk.column_match import ColumnMatch, match_columns
from lamppost.core.bulk.order import BulkOrder, Question
from lamppost.core.endpoint.endpoint_schema import EndpointSchema, endpoint_schema
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.engine.batch_queue import BatchPolicy
from lamppost.core.engine.scaling import CopyBounds
from lamppost.core.errors import BadRequest
from lamppost.core.names import VersionName
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.fields import Schema
from lamppost.runtime.cluster_worker import PackageTerms
from lamppost.runtime.fork_server import ForkedServer, Needs
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.worker_supply import needed_worker
from lamppost.service.bulk.block_scoring import OpenQuestion
from lamppost.service.bulk.cluster_lanes import Cluster, ClusterLane
from lamppost.service.bulk.file_reading import BLOCK_ROWS
from lamppost.service.bulk.run_setup import NodeFacts
from lamppost.service.deployment.predictor_assembly import PredictorAssembly
from lamppost.service.deployment.scratch_lanes import ScratchLanes
from lamppost.service.packages.package_cache import PackageCache
from lamppost.service.prediction.lookups import LookupSources
from lamppost.service.records.window_counting import WindowCounting
from lamppost.service.remote.services import RemoteServices
from lamppost.store import packages
from lamppost.store.database import Pool

if TYPE_CHECKING:
    from collections.abc import AsyncIterator, Iterable

_BATCH = BatchPolicy(max_rows=BLOCK_ROWS, queue_rows=1_000_000, queue_bytes=2**30)
_RUN_S = 300.0


@dataclass(frozen=True, slots=True)
class AskedSchema:
    """What one question takes and gives, known from the manifests of its versions, without opening them.

    needs : kinds of workers. lenient : see `lamppost.core.bulk.text_rows.BlockPlace`.
    """

    question: Question
    schema: EndpointSchema
    plan: ValidationPlan
    options: dict[str, Any]
    needs: frozenset[Needs]
    lenient: bool = False


def setup_for_runs(setup: EndpointSetup) -> EndpointSetup:
    """What an endpoint serves as a bulk run asks it: without shadows, and of versions with shares the one with the largest."""
    fixed = replace(setup, shadows=(), rollout=None)
    return fixed.with_version(fixed.versions[0]) if fixed.shares is not None else fixed


async def asked_schemas(pool: Pool, cache: PackageCache, order: BulkOrder, setups: Sequence[EndpointSetup]) -> list[AskedSchema]:
    """What each question takes and gives. Raise NotFound for an unknown version, BadRequest for one that a file cannot answer."""
    asked = []
    for question, setup in zip(order.questions, setups, strict=True):
        if setup.choose is not None and setup.choose.by == "header":
            raise BadRequest(
                f"{question.of} chooses by the header {setup.choose.name}, and a file has none; ask a version: {setup.versions[0]}"
            )
        manifests: dict[str, Manifest] = {}
        for version in setup.versions:
            stored = await packages.get_version(pool, version)
            manifests[str(version)] = (await cache.unpacked_package(stored.digest))[0]
        schema = endpoint_schema(setup, manifests)
        plan = ValidationPlan(schema.inputs, options=schema.options)
        options = plan.read_options(orjson.dumps(question.options) if question.options else None)
        needs = frozenset(needed_worker(manifest, LaneSettings()) for manifest in manifests.values())
        asked.append(AskedSchema(question, schema, plan, options, needs, setup.lenient))
    return asked


def match_questions(asked: Sequence[AskedSchema], order: BulkOrder, columns: Sequence[str], what: str) -> list[ColumnMatch]:
    """How the columns of the source become the fields of each question; raise BadBody."""
    return [match_columns(one.schema.inputs, columns, _stated(order, one.schema.inputs, asked), order.keep, what) for one in asked]


def _stated(order: BulkOrder, inputs: Schema, asked: Sequence[AskedSchema]) -> Mapping[str, str]:
    """The stated columns for one question's fields; a field of another question is no fault of this one."""
    others = {name for one in asked for name in one.schema.inputs.names} - set(inputs.names)
    return {name: column for name, column in order.columns.items() if name not in others}


class RunLanes:
    """Opens lanes for runs; `close` ends every worker. forked : what its workers may be forked from."""

    def __init__(self, pool: Pool, facts: NodeFacts, forked: Iterable[ForkedServer] = ()) -> None:
        copies = CopyBounds(1, os.cpu_count() or 1)
        lane = LaneSettings(formats=frozenset(facts.formats), batch=_BATCH, copies=copies, run_s=_RUN_S)
        self._settings = facts.settings(lane)
        self._scratch = ScratchLanes(pool, self._settings, BLOCK_ROWS, forked)
        self.package_cache = self._scratch.package_cache
        self.window_counting = WindowCounting(pool, self.package_cache)
        self._assembly = PredictorAssembly(LookupSources(facts.sources), RemoteServices(facts.remotes), self.window_counting)

    def expect(self, asked: Sequence[AskedSchema]) -> None:
        """Begin to import what the workers of these questions will need."""
        for needs in {needs for one in asked for needs in one.needs}:
            self._scratch.workers.supply.expect(needs)

    @asynccontextmanager
    async def opened(
        self, setups: Sequence[EndpointSetup], matches: Sequence[ColumnMatch], asked: Sequence[AskedSchema], cluster: Cluster | None = None
    ) -> AsyncIterator[list[OpenQuestion]]:
        """The questions of an order with their versions open and proven. Raise what opening them raises.

        cluster : where the versions answer; None for workers of this node.
        """
        lanes: dict[str, Lane] = {}
        try:
            for version in dict.fromkeys(version for setup in setups for version in setup.versions):
                if cluster is None:
                    lanes[str(version)] = await self._scratch.open_lane(version, self._settings.lane)
                else:
                    lanes[str(version)] = cast(Lane, await self._cluster_lane(cluster, version))
            questions = []
            for one, setup, match in zip(asked, setups, matches, strict=True):
                endpoint = "" if one.question.version is not None else one.question.of
                predictor = await self._assembly.assemble(
                    endpoint, setup, {str(version): lanes[str(version)] for version in setup.versions}
                )
                first = str(setup.versions[0])
                questions.append(OpenQuestion(one.question.prefix, predictor, one.options, match, first, endpoint, setup.lenient))
            yield questions
        finally:
            for lane in lanes.values():
                await lane.close(drain_s=0)

    async def _cluster_lane(self, cluster: Cluster, version: VersionName) -> ClusterLane:
        spec, file = await self._scratch.opener.find_spec(version)
        package = await asyncio.to_thread(file.read_bytes)
        formats = tuple(sorted(self._settings.lane.formats))
        terms = PackageTerms(str(version), spec.folder.name, formats, self._settings.workers.confined, _RUN_S)
        return ClusterLane(cluster, spec, terms, package)

    async def close(self) -> None:
        """End every worker."""
        await self._scratch.close()
        await self._assembly.close()
