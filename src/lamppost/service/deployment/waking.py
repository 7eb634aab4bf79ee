"""Opens sleeping endpoints when they are asked for, and puts lanes to sleep that nobody needs.

A sleeping endpoint costs no memory. Its next request opens it and waits for that, up to a bound; calls to other endpoints are not slowed
down meanwhile, because only a few endpoints are opened at once.
"""

from __future__ import annotations

import asyncio
import logging
from contextlib import suppress

import psycopg

from lamppost.core.errors import LampPostError, Unavailable
from lamppost.core.names import parse_version
from lamppost.runtime.lane import Lane
from lamppost.service.deployment.activation import RouteActivation
from lamppost.service.deployment.lane_tuning import LaneTuning
from lamppost.service.deployment.leases import LaneLeases
from lamppost.service.deployment.predictor_assembly import PredictorAssembly
from lamppost.service.deployment.route_table import Route, RouteTable
from lamppost.service.prediction.predictors import Predictor
from lamppost.store import records
from lamppost.store.database import AWAY, Pool
from lamppost.store.endpoints import EndpointRevision

log = logging.getLogger("lamppost.deployment")

_WAKE_S = 30.0
_AT_ONCE = 8
_WARM_ENDPOINTS = 16


class Waking:
    """Wakes the endpoints of one node. warm : whether the endpoints used last have been opened since the start."""

    def __init__(
        self,
        *,
        pool: Pool,
        table: RouteTable,
        leases: LaneLeases,
        activation: RouteActivation,
        assembly: PredictorAssembly,
        tuning: LaneTuning,
    ) -> None:
        self.warm = False
        self._pool = pool
        self._table = table
        self._leases = leases
        self._activation = activation
        self._assembly = assembly
        self._tuning = tuning
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._turns = asyncio.Semaphore(_AT_ONCE)

    async def awake(self, endpoint: str) -> tuple[Route, Predictor]:
        """The route of an endpoint and what answers for it, opened if it sleeps; raise NotFound, or Unavailable with the reason."""
        while True:
            route = self._table.find_route(endpoint)
            if route.predictor is not None:
                return route, route.predictor
            if route.stays_down:
                raise Unavailable(f"{endpoint} is down on this node: {route.failure}", retry_after_s=2)
            try:
                await asyncio.wait_for(asyncio.shield(self.wake(endpoint)), _WAKE_S)
            except TimeoutError:
                raise Unavailable(f"{endpoint} is being opened and has taken {_WAKE_S:g} s so far; try again", retry_after_s=2) from None

    def wake(self, endpoint: str) -> asyncio.Task[None]:
        """Begin to open what an endpoint serves, if that has not begun. The task ends either way; the route says how."""
        task = self._tasks.get(endpoint)
        if task is None:
            task = self._tasks[endpoint] = asyncio.create_task(self._wake(endpoint), name=f"wake {endpoint}")
            task.add_done_callback(lambda _: self._tasks.pop(endpoint, None))
            if (route := self._table.by_endpoint.get(endpoint)) is not None:
                route.opening = True
        return task

    async def _wake(self, endpoint: str) -> None:
        async with self._turns, self._table.lock(endpoint):
            route = self._table.by_endpoint.get(endpoint)
            if route is not None and route.predictor is None:
                route.opening = True
                await self.open_revision(route.in_force)

    async def open_revision(self, revision: EndpointRevision) -> None:
        """Open what a revision serves and put it into force; where that fails, the route says why. The caller holds the endpoint's lock."""
        setup = revision.setup
        try:
            async with self._leases.opened(setup.versions) as lanes:
                route = Route(revision, await self._assembly.assemble(revision.endpoint, setup, lanes), tuple(lanes.values()))
                self._activation.put(revision.endpoint, route)
        except LampPostError as error:
            log.error("%s cannot serve %s: %s", revision.endpoint, setup.summary(), error.detail)
            failed_at = asyncio.get_running_loop().time()
            self._activation.put(revision.endpoint, Route(revision, failure=error.detail, failed_at=failed_at))
            return
        self._tuning.apply_to(self._leases, setup.versions)

    def put_to_sleep(self, lane: Lane) -> bool:
        """Close an idle lane, and the routes that use it fall asleep; return False if the lane is needed now."""
        version = parse_version(lane.name)
        routes = [route for route in self._table.routes_naming(version) if lane in route.lanes]
        if not routes:
            return self._forget_for_rollback(lane)
        if any(not lane.idle for route in routes for lane in route.lanes):
            return False
        if any(self._leases.is_held(name, "use", "visit", "shadow") for route in routes for name in route.setup.versions):
            return False
        for route in routes:
            self._activation.put(route.in_force.endpoint, Route(route.in_force))
        return True

    def _forget_for_rollback(self, lane: Lane) -> bool:
        """Close a lane that is kept only for a rollback."""
        version = parse_version(lane.name)
        if not lane.idle or self._leases.is_held(version, "use", "visit", "shadow") or not self._leases.is_held(version, "rollback"):
            return False
        for endpoint, kept in self._leases.held_by("rollback").items():
            if version in kept:
                self._activation.keep_for_rollback(str(endpoint), [])
        return True

    async def warm_up(self) -> None:
        """Open the endpoints that are always to be warm, and those used last."""
        routes = self._table.by_endpoint
        names = [name for name, route in routes.items() if route.setup.lane.keep_warm]
        with suppress(psycopg.Error, *AWAY):
            names += [name for name in await records.recently_called_endpoints(self._pool, _WARM_ENDPOINTS) if name not in names]
        if len(routes) <= _WARM_ENDPOINTS:
            names += [name for name in sorted(routes) if name not in names]
        await asyncio.gather(*(self.wake(name) for name in names if name in routes))
        self.warm = True

    async def close(self) -> None:
        """Stop opening."""
        for task in list(self._tasks.values()):
            task.cancel()
        await asyncio.gather(*self._tasks.values(), return_exceptions=True)
