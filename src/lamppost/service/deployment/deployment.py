"""What one node serves: puts the parts of this room together, and starts and ends them."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from lamppost.core.errors import Unavailable
from lamppost.core.names import VersionName
from lamppost.runtime.lane import Lane
from lamppost.runtime.worker_pool import WorkerPool
from lamppost.runtime.worker_supply import ForkServers, WorkerSupply
from lamppost.service.deployment.activation import RouteActivation
from lamppost.service.deployment.lane_opening import LaneOpener
from lamppost.service.deployment.lane_tuning import LaneTuning
from lamppost.service.deployment.leases import LaneLeases
from lamppost.service.deployment.node_memory import NodeMemory
from lamppost.service.deployment.predictor_assembly import PredictorAssembly
from lamppost.service.deployment.reconciler import Reconciler
from lamppost.service.deployment.route_table import RouteTable
from lamppost.service.deployment.switching import Switching
from lamppost.service.deployment.waking import Waking
from lamppost.service.packages.package_cache import PackageCache
from lamppost.service.prediction.lookups import LookupSources
from lamppost.service.prediction.predictors import Predictor
from lamppost.service.records.recorder import Recorder
from lamppost.service.records.window_counting import WindowCounting
from lamppost.service.remote.services import RemoteServices
from lamppost.service.settings import Settings
from lamppost.store.database import Pool


class Deployment:
    """The parts, by what they are for.

    table : routes by endpoint. leases : what keeps lanes open. waking : opens what sleeps. reconciler : follows the database.
    switching : changes what is served. opener : opens packages. workers : the processes. remote : other services whose
    endpoints take part in answers.
    """

    def __init__(
        self,
        *,
        pool: Pool,
        settings: Settings,
        packages: PackageCache,
        memory: NodeMemory,
        recorder: Recorder,
        window_counting: WindowCounting,
    ) -> None:
        self.package_cache = packages
        self.table = RouteTable(recorder.trouble)
        supply = WorkerSupply(ForkServers(groups=settings.workers.groups), settings.workers)
        self.workers: WorkerPool[Lane] = WorkerPool(supply, settings.memory_bytes)
        self.opener = LaneOpener(pool, settings, packages, memory, self.workers)
        self.leases = LaneLeases(self._open_lane)
        self._tuning = LaneTuning(settings.lane, self.table, self.workers.cores)
        self._activation = RouteActivation(self.table, self.leases, recorder, window_counting)
        self.remote = RemoteServices(settings.remotes)
        self._assembly = PredictorAssembly(LookupSources(settings.sources), self.remote, window_counting)
        self.waking = Waking(
            pool=pool, table=self.table, leases=self.leases, activation=self._activation, assembly=self._assembly, tuning=self._tuning
        )
        self.reconciler = Reconciler(
            pool=pool, table=self.table, leases=self.leases, activation=self._activation, waking=self.waking, tuning=self._tuning
        )
        self.switching = Switching(
            table=self.table, leases=self.leases, activation=self._activation, assembly=self._assembly, tuning=self._tuning
        )
        self.keep_for_rollback = self._activation.keep_for_rollback
        self.workers.put_to_sleep = self.waking.put_to_sleep

    async def _open_lane(self, version: VersionName, measure_s: float, dedicated: bool) -> Lane:
        return await self.opener.open_lane(version, self._tuning.settings_of(version), measure_s, dedicated)

    @contextmanager
    def kept_open(self, endpoint: str, predictor: Predictor) -> Iterator[None]:
        """Keep the lanes of an endpoint's predictor open for one long answer, whatever the endpoint is pointed at meanwhile.

        Raise Unavailable where the endpoint has another predictor by now.
        """
        route = self.table.find_route(endpoint)
        if route.predictor is not predictor:
            raise Unavailable(f"{endpoint} was pointed at another version this moment; try again", retry_after_s=1)
        with self.leases.kept_open(route.setup.versions):
            yield

    async def take_away(self, endpoint: str) -> None:
        """Serve an endpoint no more."""
        async with self.table.lock(endpoint):
            self.reconciler.take_away(endpoint)

    def start(self) -> None:
        """Begin to start the spare workers, and to look after the lanes."""
        self.workers.start()

    async def close(self) -> None:
        """Finish what the lanes have in hand, and end every lane and worker."""
        await self.waking.close()
        await self._activation.close()
        await self.leases.close()
        await self.workers.close()
        await self._assembly.close()
