"""Puts a route into force, with all that follows from it: lanes kept open, hooks after answers, shadows, what is recorded and counted.

Every change of the route table goes through `RouteActivation.put`.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Iterable

from lamppost.core.endpoint.rollout_counts import RolloutTally, read_counted_rollout
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import LampPostError
from lamppost.core.names import parse_version
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.service.deployment.leases import LaneLeases
from lamppost.service.deployment.route_table import Route, RouteTable
from lamppost.service.prediction.answer_hooks import AnswerHooks, ShadowState
from lamppost.service.records.recorder import Recorder
from lamppost.service.records.window_counting import WindowCounting

log = logging.getLogger("lamppost.deployment")


class RouteActivation:
    """Puts routes of one node into force."""

    def __init__(self, table: RouteTable, leases: LaneLeases, recorder: Recorder, window_counting: WindowCounting) -> None:
        self._table = table
        self._leases = leases
        self._recorder = recorder
        self._window_counting = window_counting
        self._shadows: set[asyncio.Task[None]] = set()

    def put(self, endpoint: str, route: Route | None) -> None:
        """Change a route, or remove it with None. The lanes of the replaced route stay open for a rollback, as memory allows."""
        before = self._table.replace(endpoint, route)
        if before is not None and before.predictor is not None:
            same = route is not None and route.setup.versions == before.setup.versions
            if not same:
                self.keep_for_rollback(endpoint, [before.setup] if route is not None and route.predictor is not None else [])
        self._configure_records(endpoint, route)
        if route is not None and route.predictor is not None:
            if not route.predictor.redaction.keeps_everything:
                for lane in route.lanes:
                    lane.keep_private()
            self._leases.hold(("route", endpoint), route.setup.versions)
            self._leases.hold(("shadow", endpoint), route.setup.shadow_versions)
            self._set_hooks(endpoint, route)
        else:
            self._leases.release(("shadow", endpoint))
            self._leases.release(("route", endpoint))

    def keep_for_rollback(self, endpoint: str, setups: Iterable[EndpointSetup]) -> None:
        """Keep the lanes of the setups open that an endpoint may go back to, instead of those that were kept before."""
        self._leases.hold(("rollback", endpoint), {version for setup in setups for version in setup.versions})

    def _configure_records(self, endpoint: str, route: Route | None) -> None:
        """Configure recording and counting for this endpoint."""
        setup = route.setup if route is not None else None
        self._recorder.sampling_percent.pop(endpoint, None)
        if setup is not None and setup.monitoring.sample < 100:
            self._recorder.sampling_percent[endpoint] = setup.monitoring.sample
        if route is None or route.predictor is not None:
            sent = route.predictor.plan.schema if route is not None and route.predictor is not None else None
            self._window_counting.configure_endpoint(endpoint, setup, sent)

    def _set_hooks(self, endpoint: str, route: Route) -> None:
        """Set up what follows an answer: counts of a rollout, and copies to shadows, which are opened beside and may fail."""
        assert route.predictor is not None
        counted = route.in_force.counted
        tally = None if counted is None else RolloutTally(read_counted_rollout(counted), route.predictor.answers)
        shadows = [ShadowState(shadow.version, shadow.share) for shadow in route.setup.shadows]
        if tally is None and not shadows:
            return
        route.hooks = AnswerHooks(endpoint, route.predictor.row_schema, self._recorder, tally, shadows, route.predictor.redaction)
        route.hooks.others = {lane.name: lane for lane in route.lanes}
        for shadow in shadows:
            task = asyncio.create_task(self._open_shadow(shadow, route.predictor.redaction), name=f"shadow {shadow.version}")
            self._shadows.add(task)
            task.add_done_callback(self._shadows.discard)

    async def _open_shadow(self, shadow: ShadowState, redaction: RedactionPolicy) -> None:
        try:
            lane = await self._leases.lane(parse_version(shadow.version), dedicated=True)
            if not redaction.keeps_everything:
                lane.keep_private()
            shadow.lane = lane
        except LampPostError as error:
            shadow.reason = error.detail
            log.error("the shadow %s cannot be opened: %s", shadow.version, error.detail)

    async def close(self) -> None:
        """Remove every route."""
        for endpoint in list(self._table.by_endpoint):
            self.put(endpoint, None)
            self.keep_for_rollback(endpoint, [])
        await asyncio.gather(*self._shadows, return_exceptions=True)
