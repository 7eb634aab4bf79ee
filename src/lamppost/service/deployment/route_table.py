"""What this node serves: endpoints, the split of each, and the lanes that answer.

The database says what should be served; `reconcile` makes it so on this node, at the start, after every NOTIFY and now and
then. A new lane is opened and proven before the route moves to it, and the old one is drained afterwards.
"""

from __future__ import annotations

import asyncio
import logging
from collections import Counter, defaultdict
from collections.abc import AsyncIterator, Awaitable, Callable, Iterable, Sequence
from contextlib import AsyncExitStack, asynccontextmanager, suppress
from dataclasses import dataclass, replace
from typing import Literal

import psycopg
from psycopg_pool import PoolTimeout

from lamppost.core.endpoint.endpoint_schema import endpoint_schema
from lamppost.core.endpoint.rollout_counts import RolloutTally, read_counted_rollout
from lamppost.core.endpoint.setup import EndpointSetup, combine_lane_rules
from lamppost.core.errors import LampPostError, NotFound, Unavailable
from lamppost.core.names import VersionName, closest_name, parse_version
from lamppost.core.schema.fields import Schema
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LaneSettings, lane_settings
from lamppost.runtime.spare_workers import WorkerSupply
from lamppost.runtime.worker_pool import WorkerPool
from lamppost.service.deployment.lane_opening import LaneOpener
from lamppost.service.prediction.answer_hooks import AnswerHooks, ShadowState
from lamppost.service.prediction.lookups import LookupSources, LookupTable
from lamppost.service.prediction.outlier_guard import OutlierGuard
from lamppost.service.prediction.predictors import Predictor
from lamppost.service.prediction.share_router import make_predictor
from lamppost.service.records.recorder import Recorder
from lamppost.service.records.window_counting import WindowCounting
from lamppost.service.settings import Settings
from lamppost.store import endpoints, records
from lamppost.store.database import Pool
from lamppost.store.endpoints import EndpointChange, EndpointRevision

log = logging.getLogger("lamppost.routes")

State = Literal["lit", "flickering", "out", "unlit"]
Made = tuple[EndpointRevision, EndpointRevision | None]
_RETRY_S = 20.0
_VISIT_S = 60.0
_VISITS = 4
_WAKE_S = 30.0
_WAKING = 8
_WARM = 16


@dataclass(slots=True)
class Route:
    """An endpoint on this node. serving : what answers, by the lanes; None while it sleeps, is opening or cannot. why : the reason then.

    after : what happens to calls once they are answered, None where nothing does.
    """

    split: EndpointRevision
    serving: Predictor | None = None
    lanes: tuple[Lane, ...] = ()
    after: AnswerHooks | None = None
    why: str | None = None
    failed_at: float = 0.0

    @property
    def state(self) -> State:
        """lit, flickering (serving, but its worker is being replaced), unlit (opened with the first request), or out."""
        if self.serving is None:
            return "out" if self.why else "unlit"
        if any(lane.state in ("out", "closed") for lane in self.lanes):
            return "out"
        return "lit" if all(lane.state == "lit" for lane in self.lanes) else "flickering"

    @property
    def reason(self) -> str | None:
        """Why it is not lit."""
        return self.why or next((lane.reason for lane in self.lanes if lane.reason), None)


class Routes:
    """All routes and lanes of one node."""

    def __init__(self, pool: Pool, settings: Settings, recorder: Recorder, counting: WindowCounting) -> None:
        self.by_endpoint: dict[str, Route] = {}
        self.settled = False
        self.warm = False
        self._pool = pool
        self._settings = settings
        self._recorder = recorder
        self.pool = WorkerPool(WorkerSupply(spares=True), settings.memory_bytes)
        self.pool.put_to_sleep = self._sleep
        self._counting = counting
        self.shelf = counting.shelf
        self.opener = LaneOpener(pool, settings, self.shelf, self.pool)
        self._sources = LookupSources(settings.sources)
        self._lanes: dict[VersionName, asyncio.Task[Lane]] = {}
        self._holds: Counter[VersionName] = Counter()
        self._uses: Counter[VersionName] = Counter()
        self._behind: dict[str, tuple[VersionName, ...]] = {}
        self._kept: Counter[VersionName] = Counter()
        self._shadowed: dict[str, set[VersionName]] = {}
        self._named: dict[VersionName, set[str]] = defaultdict(set)
        self._locks: dict[str, asyncio.Lock] = defaultdict(asyncio.Lock)
        self._closing: set[asyncio.Task[None]] = set()
        self._reconciling = asyncio.Lock()
        self._waking: dict[str, asyncio.Task[None]] = {}
        self._wakes = asyncio.Semaphore(_WAKING)
        self._visited: dict[VersionName, asyncio.TimerHandle] = {}

    def route(self, endpoint: str) -> Route:
        """The route of an endpoint; raise NotFound with the closest name, or Unavailable while this node does not know all names yet."""
        route = self.by_endpoint.get(endpoint)
        if route is None:
            known = sorted(self.by_endpoint)
            like = closest_name(endpoint, known)
            hint = f"did you mean {like}?" if like else f"there are: {', '.join(known[:10])}" if known else "point one at a version first"
            if not self.settled:
                raise Unavailable(f"this node is starting and does not know {endpoint!r} yet; try again in a second", retry_after_s=1)
            raise NotFound(f"there is no endpoint {endpoint!r}; {hint}")
        return route

    async def serving(self, endpoint: str) -> tuple[Route, Predictor]:
        """The route of an endpoint and what answers for it, woken if it sleeps; raise NotFound or Unavailable."""
        while True:
            route = self.route(endpoint)
            if route.serving is not None:
                return route, route.serving
            await self._woken(endpoint, route)

    def _put(self, endpoint: str, route: Route | None) -> None:
        """Change a route; versions that no route has open any more are closed, but for those that were served until now."""
        before = self.by_endpoint.get(endpoint)
        if before is not None and before.serving is not None:
            same = route is not None and route.split.setup.versions == before.split.setup.versions
            if not same:
                self.keep_behind(endpoint, [before.split.setup] if route is not None and route.serving is not None else [])
        if before is not None:
            for version in before.split.setup.versions:
                self._named[version].discard(endpoint)
        self._watch(endpoint, route)
        if route is None:
            self.by_endpoint.pop(endpoint, None)
        else:
            self.by_endpoint[endpoint] = route
            for version in route.split.setup.versions:
                self._named[version].add(endpoint)
            if route.serving is not None:
                self._uses.update(route.split.setup.versions)
                self._put_after(endpoint, route)
        if (route is None or route.serving is None) and endpoint in self._shadowed:
            for version in self._shadowed.pop(endpoint):
                self._let_go(version)
        if before is not None and before.serving is not None:
            self._uses.subtract(before.split.setup.versions)
            for version in before.split.setup.versions:
                self._close_unused(version)

    def _watch(self, endpoint: str, route: Route | None) -> None:
        """Tell those who keep records how this endpoint is watched."""
        setup = route.split.setup if route is not None else None
        self._recorder.sampling_percent.pop(endpoint, None)
        if setup is not None and setup.watch.sample < 100:
            self._recorder.sampling_percent[endpoint] = setup.watch.sample
        if route is None or route.serving is not None:
            self._counting.configure_endpoint(
                endpoint, setup, route.serving.plan.schema if route is not None and route.serving is not None else None
            )

    def keep_behind(self, endpoint: str, setups: Iterable[EndpointSetup]) -> None:
        """Keep the lanes of setups open for going back to them, as far as they are open and memory allows."""
        before = self._behind.pop(endpoint, ())
        if wanted := tuple({version for setup in setups for version in setup.versions}):
            self._behind[endpoint] = wanted
            self._kept.update(wanted)
        self._kept.subtract(before)
        for version in before:
            self._close_unused(version)

    def _put_after(self, endpoint: str, route: Route) -> None:
        """Set up what happens after answers; shadows are opened beside, and may fail."""
        split = route.split
        serving = route.serving
        assert serving is not None
        tally = None
        if split.watch is not None:
            watch = read_counted_rollout(split.watch)
            tally = RolloutTally(watch, serving.answers)
        shadows = [ShadowState(shadow.version, shadow.share) for shadow in split.setup.shadows]
        wanted = set(split.setup.shadow_versions)
        held = self._shadowed.get(endpoint, set())
        self._shadowed[endpoint] = wanted
        for version in held - wanted:
            self._let_go(version)
        if tally is None and not shadows:
            return
        columns = serving.row_schema
        route.after = AnswerHooks(endpoint, columns, self._recorder, tally, shadows)
        route.after.others = {lane.name: lane for lane in route.lanes}
        for shadow in shadows:
            task = asyncio.create_task(self._open_shadow(shadow, parse_version(shadow.version) in held), name=f"shadow {shadow.version}")
            self._closing.add(task)
            task.add_done_callback(self._closing.discard)

    async def _open_shadow(self, shadow: ShadowState, held: bool) -> None:
        """Open a shadow's lane, apart from those that answer; it is held until the endpoint has the shadow no more."""
        version = parse_version(shadow.version)
        try:
            shadow.lane = await self._hold(version, apart=True)
        except LampPostError as error:
            shadow.reason = error.detail
            log.error("the shadow %s cannot be opened: %s", shadow.version, error.detail)
            self._holds[version] += 1  # what `_hold` took back; it is let go with the shadow
        if held:
            self._let_go(version)

    # -- sleeping and waking ------------------------------------------------------------------------------------------

    async def _woken(self, endpoint: str, route: Route) -> None:
        """Wait until a sleeping endpoint is awake, for a bounded time; raise Unavailable with the reason when it cannot be."""
        now = asyncio.get_running_loop().time()
        if route.why and now - route.failed_at < _RETRY_S:
            raise Unavailable(f"{endpoint} has no lit version on this node: {route.why}", retry_after_s=2)
        try:
            await asyncio.wait_for(asyncio.shield(self.wake(endpoint)), _WAKE_S)
        except TimeoutError:
            raise Unavailable(f"{endpoint} is being opened and has taken {_WAKE_S:g} s so far; try again", retry_after_s=2) from None

    def wake(self, endpoint: str) -> asyncio.Task[None]:
        """Begin to open what an endpoint serves, if that has not begun. The task ends either way; the route says how."""
        task = self._waking.get(endpoint)
        if task is None:
            task = self._waking[endpoint] = asyncio.create_task(self._wake(endpoint), name=f"wake {endpoint}")
            task.add_done_callback(lambda _: self._waking.pop(endpoint, None))
        return task

    async def _wake(self, endpoint: str) -> None:
        async with self._wakes, self._locks[endpoint]:
            route = self.by_endpoint.get(endpoint)
            if route is not None and route.serving is None:
                await self._opened(route.split)

    async def _opened(self, split: EndpointRevision) -> None:
        """Open what a split serves and put it into force; its route says why where that fails."""
        try:
            lanes = await self._hold_all(split.setup)
        except LampPostError as error:
            log.error("%s cannot serve %s: %s", split.endpoint, split.setup.summary(), error.detail)
            self._put(split.endpoint, Route(split, why=error.detail, failed_at=asyncio.get_running_loop().time()))
            return
        try:
            self._put(split.endpoint, Route(split, self._made(split.setup, lanes), tuple(lanes.values())))
        finally:
            self._let_go_all(split.setup)
            self._apply_rules(split.setup.versions)

    def _sleep(self, lane: Lane) -> bool:
        """Let a lane go until it is asked for again, and with it whatever serves with it; False where something needs it now."""
        version = parse_version(lane.name)
        asleep = [route for route in self.naming(version) if lane in route.lanes]
        if not asleep and self._kept[version] > 0 and not self._holds[version] and lane.idle:
            for endpoint in [endpoint for endpoint, behind in self._behind.items() if version in behind]:
                self.keep_behind(endpoint, [])
            return True
        if not asleep or any(not one.idle for route in asleep for one in route.lanes):
            return False
        if any(self._holds[version] for route in asleep for version in route.split.setup.versions):
            return False
        for route in asleep:
            self._put(route.split.endpoint, Route(route.split))
        return True

    async def warm_up(self) -> None:
        """Open what is to be warm always, and what was used last."""
        always = [name for name, route in self.by_endpoint.items() if route.split.setup.lane.keep_warm]
        with suppress(psycopg.Error, PoolTimeout):
            used = await records.recently_called_endpoints(self._pool, _WARM)
            always += [name for name in used if name not in always]
        if len(self.by_endpoint) <= _WARM:
            always += [name for name in sorted(self.by_endpoint) if name not in always]
        await asyncio.gather(*(self.wake(name) for name in always if name in self.by_endpoint))
        self.warm = True

    def setup(self, endpoint: str) -> EndpointSetup | None:
        """The setup in force, None for an endpoint that is not there yet."""
        route = self.by_endpoint.get(endpoint)
        return None if route is None else route.split.setup

    async def change(
        self, changes: Sequence[EndpointChange], commit: Callable[[Sequence[EndpointChange]], Awaitable[list[Made]]]
    ) -> list[Made]:
        """Open and prove all versions here, commit, then serve them. Returns each new split and the one before.

        commit : stores the changes, all or none. Raise NotFound, ProofFailed, PackageRefused, Conflict or Unavailable; every endpoint then
        serves what it served before.
        """
        async with AsyncExitStack() as stack:
            for name in sorted({change.endpoint for change in changes}):
                await stack.enter_async_context(self._locks[name])
            ready: list[tuple[EndpointChange, Predictor, dict[str, Lane]]] = []
            for change in changes:
                setup = change.setup
                if setup.lookups:
                    setup = replace(setup, lookups=tuple([await self._sources.resolve_lookup(lookup) for lookup in setup.lookups]))
                lanes = await self._hold_all(setup, measure=True)
                stack.callback(self._let_go_all, setup)
                ready.append((replace(change, setup=setup), self._made(setup, lanes), lanes))
            made = {split.endpoint: (split, before) for split, before in await commit([change for change, _, _ in ready])}
            for change, serving, lanes in ready:
                split, before = made[change.endpoint]
                self._put(change.endpoint, Route(split, serving, tuple(lanes.values())))
                self._apply_rules((*change.setup.versions, *(before.setup.versions if before else ())))
            return [made[change.endpoint] for change in changes]

    async def go_back(self, endpoint: str, present: EndpointRevision, target: EndpointRevision) -> None:
        """Serve an earlier setup on this node at once, ahead of the database; whoever calls sees to it that the database follows."""
        async with self._locks[endpoint]:
            lanes = await self._hold_all(target.setup)
            try:
                ahead = replace(target, revision=present.revision + 1, restores=target.revision, watch=None, rollout=None)
                self._put(endpoint, Route(ahead, self._made(target.setup, lanes), tuple(lanes.values())))
            finally:
                self._let_go_all(target.setup)
            self._apply_rules((*target.setup.versions, *present.setup.versions))

    async def follow(self, split: EndpointRevision) -> None:
        """Serve what the database says after all, whatever this node has gone ahead with."""
        async with self._locks[split.endpoint]:
            await self._opened(split)

    def _apply_rules(self, versions: Iterable[VersionName]) -> None:
        """Give lanes the bounds that the endpoints using them ask for, at once."""
        for version in set(versions):
            task = self._lanes.get(version)
            if task is not None and task.done() and not task.cancelled() and task.exception() is None:
                task.result().apply_settings(self._rules(version))

    def _rules(self, version: VersionName) -> LaneSettings:
        """How a lane is run, by what the endpoints that use it ask for."""
        asked = combine_lane_rules(route.split.setup.lane for route in self.naming(version))
        return lane_settings(self._settings.lane, asked, self.pool.cores)

    def naming(self, version: VersionName) -> list[Route]:
        """The routes of the endpoints that name a version."""
        return [self.by_endpoint[endpoint] for endpoint in sorted(self._named.get(version, ()))]

    def _made(self, setup: EndpointSetup, lanes: dict[str, Lane]) -> Predictor:
        limit = setup.watch.refuse_odd
        if limit is not None:
            made = self._made(replace(setup, watch=replace(setup.watch, refuse_odd=None)), lanes)
            return OutlierGuard(made, self._counting, str(setup.versions[0]), limit)
        bare = make_predictor(replace(setup, lookups=()), lanes)
        if not setup.lookups:
            return bare
        promised = endpoint_schema(setup, {name: lane.manifest for name, lane in lanes.items()})
        known = Schema((*bare.columns, *(field for field in promised.inputs if field.name not in bare.columns.names)))
        return make_predictor(setup, lanes, [LookupTable(self._sources, lookup, known) for lookup in setup.lookups])

    async def reconcile(self) -> None:
        """Serve what the database says. What is awake is swapped in place; what sleeps is opened when it is asked for.

        Endpoints whose version cannot be opened are out, with the reason, and tried again later.
        """
        async with self._reconciling:
            wanted = {split.endpoint: split for split in await endpoints.list_revisions(self._pool)}
            for endpoint in self.by_endpoint.keys() - wanted.keys():
                self._put(endpoint, None)
            changed = []
            for endpoint, split in wanted.items():
                route = self.by_endpoint.get(endpoint)
                if route is None:
                    self._put(endpoint, Route(split))
                    if self.settled:
                        self.wake(endpoint)
                elif route.split.revision < split.revision or route.why:
                    changed.append(split)
            await asyncio.gather(*(self._settle(split) for split in changed))
            self.settled = True

    async def _settle(self, split: EndpointRevision) -> None:
        async with self._locks[split.endpoint]:
            route = self.by_endpoint[split.endpoint]
            now = asyncio.get_running_loop().time()
            if route.split.revision > split.revision:
                return
            if route.split.revision == split.revision and (route.serving is not None or (route.why and now - route.failed_at < _RETRY_S)):
                return
            before = route.split.setup.versions
            await self._opened(split)
            self._apply_rules(before)

    @asynccontextmanager
    async def kept_open(self, endpoint: str, serving: Predictor) -> AsyncIterator[None]:
        """Keep the lanes that an endpoint uses open for one long answer, whatever the endpoint is pointed at meanwhile."""
        route = self.route(endpoint)
        setup = route.split.setup
        for version in setup.versions:
            self._holds[version] += 1
        try:
            if route.serving is not serving:  # it moved before this was said
                raise Unavailable(f"{endpoint} was pointed at another version this moment; try again", retry_after_s=1)
            yield
        finally:
            self._let_go_all(setup)

    @asynccontextmanager
    async def visit(self, version: VersionName) -> AsyncIterator[Lane]:
        """An open, proven lane of any version, served or not, for looking at its answers. It stays a minute for the next look.

        Raise NotFound, ProofFailed, PackageRefused, or Unavailable while too many versions are visited.
        """
        if version not in self._visited and len(self._visited) >= _VISITS:
            raise Unavailable(
                f"{_VISITS} versions that nothing serves are being looked at already; try again in a minute", retry_after_s=30
            )
        lane = await self._hold(version)
        self._leave(version)  # what the last visit held; this one holds it now
        try:
            yield lane
        finally:
            self._leave(version)  # of another visit at the same time
            self._visited[version] = asyncio.get_running_loop().call_later(_VISIT_S, self._leave, version)

    def _leave(self, version: VersionName) -> None:
        """Let go of what a visit that is over still held."""
        if (leaving := self._visited.pop(version, None)) is not None:
            leaving.cancel()
            self._let_go(version)

    def start(self) -> None:
        """Begin to start the spare workers, and to look after the lanes."""
        self.pool.start()

    async def close(self) -> None:
        """Drain and end every lane."""
        for endpoint in list(self.by_endpoint):
            self._put(endpoint, None)
        for version in list(self._visited):
            self._leave(version)
        await asyncio.gather(*self._closing, return_exceptions=True)
        await self.pool.close()
        await self._sources.close()

    # -- lanes --------------------------------------------------------------------------------------------------------

    async def _hold(self, version: VersionName, measure: bool = False, apart: bool = False) -> Lane:
        """An open, proven lane; it stays until `_let_go`, and as long as a route uses it."""
        self._holds[version] += 1
        task = self._lanes.get(version)
        if task is None:
            task = self._lanes[version] = asyncio.create_task(
                self.opener.open_lane(version, self._rules(version), measure, apart), name=f"open {version}"
            )
        try:
            return await asyncio.shield(task)
        except BaseException:
            if task.done() and self._lanes.get(version) is task:
                del self._lanes[version]
            self._let_go(version)
            raise

    async def _hold_all(self, setup: EndpointSetup, measure: bool = False) -> dict[str, Lane]:
        """The lanes of a setup by the names of their versions; all of them, or none is held."""
        names = setup.versions
        if len(names) == 1:
            return {str(names[0]): await self._hold(names[0], measure)}
        held = await asyncio.gather(*(self._hold(name, measure) for name in names), return_exceptions=True)
        if wrong := next((one for one in held if isinstance(one, BaseException)), None):
            for name, one in zip(names, held, strict=True):
                if isinstance(one, Lane):
                    self._let_go(name)
            raise wrong
        return {str(name): lane for name, lane in zip(names, held, strict=True) if isinstance(lane, Lane)}

    def _let_go_all(self, setup: EndpointSetup) -> None:
        for version in setup.versions:
            self._let_go(version)

    def _let_go(self, version: VersionName) -> None:
        self._holds[version] -= 1
        self._close_unused(version)

    def _close_unused(self, version: VersionName) -> None:
        if self._uses[version] > 0 or self._holds[version] > 0 or self._kept[version] > 0 or version not in self._lanes:
            return
        task = asyncio.create_task(self._close_lane(version, self._lanes.pop(version)))
        self._closing.add(task)
        task.add_done_callback(self._closing.discard)

    async def _close_lane(self, version: VersionName, opening: asyncio.Task[Lane]) -> None:
        try:
            lane = await opening
        except LampPostError:
            return
        await lane.close()
        log.info("%s was let go", version)
