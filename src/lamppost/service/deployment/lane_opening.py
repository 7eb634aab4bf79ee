"""Opens a version on this node: fetches its package, checks it and its signatures, and opens and proves a lane."""

from __future__ import annotations

import asyncio
import logging
from contextlib import suppress
from dataclasses import asdict
from pathlib import Path

from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import PackageRefused, ProofFailed
from lamppost.core.names import VersionName
from lamppost.package.signing import Signature, check, demand
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings
from lamppost.runtime.library_environments import LibraryEnvironments, differing_pins
from lamppost.runtime.seat_opening import LaneSpec
from lamppost.runtime.worker_pool import WorkerPool
from lamppost.service.deployment.node_memory import NodeMemory
from lamppost.service.packages.package_cache import PackageCache
from lamppost.service.settings import Settings
from lamppost.store import packages
from lamppost.store.database import AWAY, Pool
from lamppost.store.packages import OpenableVersion

log = logging.getLogger("lamppost.deployment")


class LaneOpener:
    """Opens lanes on one node."""

    def __init__(self, pool: Pool, settings: Settings, package_cache: PackageCache, memory: NodeMemory, workers: WorkerPool[Lane]) -> None:
        self._pool = pool
        self._memory = memory
        self._settings = settings
        self._package_cache = package_cache
        self._workers = workers
        self._environments = LibraryEnvironments(settings.data / "environments", settings.workers) if settings.environments else None

    def installing_for(self, setup: EndpointSetup) -> str | None:
        """The progress of installing libraries for the versions of a setup; None if nothing is being installed."""
        progress = self._environments.progress if self._environments is not None else {}
        return next((f"{version}: {progress[str(version)]}" for version in setup.versions if str(version) in progress), None)

    async def open_lane(self, name: VersionName, rules: LaneSettings, measure_s: float = 0.0, apart: bool = False) -> Lane:
        """An open, proven lane; the verdict of the proof is stored. measure_s : how long a version that was not measured yet is.
        apart : in a worker of its own, whatever the package.

        Raise NotFound, ProofFailed, PackageRefused or Unavailable.
        """
        version = await self._memory.find_version(name)
        spec = await self._spec(version, name, apart)
        lane = Lane(spec, rules, self._workers)
        if version.measured is not None and not lane.light:
            spec.expected_bytes = int(version.measured["memory_bytes"])
        try:
            verdict = await lane.open(measure_s if version.measured is None else 0.0)
        except (ProofFailed, PackageRefused) as error:
            with suppress(*AWAY):
                await packages.note_proof(self._pool, name, "failed", error.detail)
            raise
        with suppress(*AWAY):  # noted with the next opening then
            if version.proof != "passed":
                await packages.note_proof(self._pool, name, "passed", verdict.sentence())
            if lane.measurement is not None:
                await packages.note_measurement(self._pool, name, asdict(lane.measurement))
        log.info("%s is open: %s", name, verdict.sentence())
        return lane

    async def find_spec(self, name: VersionName) -> tuple[LaneSpec, Path]:
        """What a lane of a version is opened from, and its lamp file, for somebody else to open. Raise NotFound or PackageRefused."""
        version = await self._memory.find_version(name)
        spec = await self._spec(version, name, True)
        return spec, await self._package_cache.file_of(version.digest)

    async def _spec(self, version: OpenableVersion, name: VersionName, apart: bool) -> LaneSpec:
        """A checked, unpacked package."""
        manifest, proof, folder = await self._package_cache.unpacked_package(version.digest)
        kept = [Signature(*signature) for signature in version.signatures]
        check(kept, version.digest)
        installs = self._environments is not None and bool(differing_pins(manifest))
        demand(self._settings.signers, kept, manifest.formats | {"python"} if installs else manifest.formats)
        spec = await asyncio.to_thread(LaneSpec, str(name), folder, manifest, proof, dedicated_worker=apart)
        if self._environments is not None:
            spec.overlay = await self._environments.folder_for(str(name), manifest)
        return spec
