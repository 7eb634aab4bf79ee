"""The route table with what changes it: waking, sleeping, the reconciler and switching, over lanes that open at once."""

import asyncio
import unittest
from collections.abc import Sequence
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

from lamppost.core.errors import Conflict, NotFound, ProofFailed, Unavailable
from lamppost.core.names import VersionName
from lamppost.runtime.lane_options import LaneSettings
from lamppost.service.deployment.activation import RouteActivation
from lamppost.service.deployment.lane_tuning import LaneTuning
from lamppost.service.deployment.leases import LaneLeases
from lamppost.service.deployment.predictor_assembly import PredictorAssembly
from lamppost.service.deployment.reconciler import Reconciler
from lamppost.service.deployment.route_table import RouteTable
from lamppost.service.deployment.switching import MadeChange, Switching
from lamppost.service.deployment.waking import Waking
from lamppost.service.remote.services import RemoteServices
from lamppost.store.endpoints import EndpointChange
from tests.support.lanes import LaneFactory, revision
from tests.support.service import eventually

ONE, TWO = VersionName("lamps", 1), VersionName("lamps", 2)


class Serving(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.factory = LaneFactory()
        self.table = RouteTable()
        self.leases = LaneLeases(self.factory.open)
        self.counted: dict[str, Any] = {}
        counting: Any = SimpleNamespace(configure_endpoint=lambda name, setup, _: self.counted.__setitem__(name, setup))
        recorder: Any = SimpleNamespace(sampling_percent={})
        tuning = LaneTuning(LaneSettings(), self.table, 2)
        self.activation = RouteActivation(self.table, self.leases, recorder, counting)
        assembly = PredictorAssembly(SimpleNamespace(), RemoteServices({}), counting)  # type: ignore[arg-type]
        parts: dict[str, Any] = {"table": self.table, "leases": self.leases, "activation": self.activation, "tuning": tuning}
        self.waking = Waking(pool=None, assembly=assembly, **parts)  # type: ignore[arg-type]
        self.reconciler = Reconciler(pool=None, waking=self.waking, **parts)  # type: ignore[arg-type]
        self.switching = Switching(assembly=assembly, **parts)
        self.addAsyncCleanup(self.leases.close)
        self.addAsyncCleanup(self.activation.close)

    async def serve(self, *revisions: Any) -> None:
        await self.reconciler.serve_revisions(list(revisions))

    def state(self, endpoint: str = "town") -> str:
        return self.table.find_route(endpoint).status.state

    async def test_an_unknown_name_may_be_new_until_all_were_read(self) -> None:
        self.assertRaises(Unavailable, self.table.find_route, "town")
        await self.serve(revision("town", 1, "lamps@1"))
        with self.assertRaises(NotFound) as caught:
            self.table.find_route("twon")
        self.assertIn("did you mean town?", caught.exception.detail)

    async def test_what_is_there_at_the_start_sleeps_and_its_first_caller_wakes_it(self) -> None:
        await self.serve(revision("town", 1, "lamps@1"))
        self.assertEqual((self.state(), self.factory.opened), ("asleep", []))
        (route, predictor), (again, _) = await asyncio.gather(self.waking.awake("town"), self.waking.awake("town"))
        self.assertEqual((self.state(), len(self.factory.opened), route is again), ("serving", 1, True))
        self.assertEqual([one.in_force.endpoint for one in self.table.routes_naming(ONE)], ["town"])
        self.assertIs(predictor, route.predictor)

    async def test_while_it_is_opened_it_says_so(self) -> None:
        self.factory.gates["lamps@1"] = asyncio.Event()
        await self.serve(revision("town", 1, "lamps@1"))
        caller = asyncio.create_task(self.waking.awake("town"))
        await asyncio.sleep(0)
        self.assertEqual(self.state(), "opening")
        self.factory.gates["lamps@1"].set()
        await caller
        self.assertEqual(self.state(), "serving")

    async def test_what_cannot_be_opened_is_down_with_the_reason_and_not_tried_by_every_caller(self) -> None:
        self.factory.broken["lamps@1"] = ProofFailed("it answers otherwise")
        await self.serve(revision("town", 1, "lamps@1"))
        for _ in range(3):
            with self.assertRaises(Unavailable) as caught:
                await self.waking.awake("town")
            self.assertIn("it answers otherwise", caught.exception.detail)
        self.assertEqual((self.state(), len(self.factory.asked)), ("down", 1))
        self.factory.broken.clear()
        await self.serve(revision("town", 2, "lamps@1"))
        self.assertEqual(self.state(), "serving")

    async def test_a_newer_revision_is_swapped_in_place_and_an_older_one_changes_nothing(self) -> None:
        await self.serve(revision("town", 1, "lamps@1"))
        await self.waking.awake("town")
        await self.serve(revision("town", 2, "lamps@2"))
        self.assertEqual(self.table.find_route("town").in_force.revision, 2)
        self.assertFalse(self.factory.opened[0].closed, "what was served until now stays for going back")
        await self.serve(revision("town", 1, "lamps@1"))
        self.assertEqual(self.table.find_route("town").in_force.revision, 2)
        await self.serve(revision("town", 3, "lamps@3"))
        await eventually(lambda: any(lane.closed for lane in self.factory.opened))
        self.assertEqual([lane.name for lane in self.factory.opened if lane.closed], ["lamps@1"], "and nothing older stays")

    async def test_an_endpoint_that_is_gone_closes_its_lanes(self) -> None:
        await self.serve(revision("town", 1, "lamps@1"))
        await self.waking.awake("town")
        await self.serve()
        self.assertRaises(NotFound, self.table.find_route, "town")
        await self.leases.close()
        self.assertTrue(self.factory.opened[0].closed)
        self.assertIsNone(self.counted["town"])

    async def test_an_idle_lane_goes_to_sleep_and_one_that_is_needed_does_not(self) -> None:
        await self.serve(revision("town", 1, "lamps@1"), revision("port", 1, "lamps@1"))
        await asyncio.gather(self.waking.awake("town"), self.waking.awake("port"))
        (lane,) = self.factory.opened
        lane.busy = True
        self.assertFalse(self.waking.put_to_sleep(lane))
        lane.busy = False
        with self.leases.kept_open([ONE]):
            self.assertFalse(self.waking.put_to_sleep(lane))
        self.assertTrue(self.waking.put_to_sleep(lane))
        self.assertEqual((self.state("town"), self.state("port")), ("asleep", "asleep"))
        await eventually(lambda: lane.closed)

    async def test_what_is_kept_for_going_back_gives_way_when_memory_is_short(self) -> None:
        await self.serve(revision("town", 1, "lamps@1"))
        await self.waking.awake("town")
        await self.serve(revision("town", 2, "lamps@2"))
        before, now = self.factory.opened
        self.assertTrue(self.waking.put_to_sleep(before))
        await eventually(lambda: before.closed)
        self.assertEqual((now.closed, self.state()), (False, "serving"))

    async def commit(self, changes: Sequence[EndpointChange]) -> list[MadeChange]:
        made: list[MadeChange] = []
        for change in changes:
            route = self.table.by_endpoint.get(change.endpoint)
            number = route.in_force.revision + 1 if route is not None else 1
            made.append((replace(revision(change.endpoint, number, "lamps@1"), setup=change.setup), route.in_force if route else None))
        return made

    async def test_a_change_is_made_for_all_endpoints_or_for_none(self) -> None:
        await self.serve(revision("town", 1, "lamps@1"))
        changes = [
            EndpointChange("town", revision("town", 2, "lamps@2").setup),
            EndpointChange("port", revision("port", 1, "lamps@3").setup),
        ]
        self.factory.broken["lamps@3"] = ProofFailed("it answers otherwise")
        with self.assertRaises(ProofFailed):
            await self.switching.switch(changes, self.commit)
        self.assertEqual((self.table.find_route("town").in_force.revision, "port" in self.table.by_endpoint), (1, False))
        self.factory.broken.clear()

        async def refuse(_: Sequence[EndpointChange]) -> list[MadeChange]:
            raise Conflict("somebody was faster")

        with self.assertRaises(Conflict):
            await self.switching.switch(changes, refuse)
        self.assertEqual(self.table.find_route("town").in_force.revision, 1)
        made = await self.switching.switch(changes, self.commit)
        self.assertEqual([(one.endpoint, before and before.revision) for one, before in made], [("town", 1), ("port", None)])
        self.assertEqual((self.state("town"), self.state("port")), ("serving", "serving"))
        self.assertTrue(all(measure for _, measure, _ in self.factory.asked), "a first opening measures")

    async def test_going_back_serves_ahead_of_the_database(self) -> None:
        first, second = revision("town", 1, "lamps@1"), revision("town", 2, "lamps@2")
        await self.serve(second)
        await self.waking.awake("town")
        await self.switching.go_back("town", second, first)
        route = self.table.find_route("town")
        self.assertEqual((route.in_force.revision, route.in_force.restores, [lane.name for lane in route.lanes]), (3, 1, ["lamps@1"]))
        await self.serve(second)
        self.assertEqual(self.table.find_route("town").in_force.revision, 3, "the database has not followed yet")

    async def test_shadows_are_opened_beside_and_may_fail(self) -> None:
        await self.serve(self.shadowed("lamps@2"))
        await self.waking.awake("town")
        hooks = self.table.find_route("town").hooks
        assert hooks is not None
        await eventually(lambda: hooks.shadows[0].lane)
        self.assertEqual(
            (hooks.shadows[0].lane and hooks.shadows[0].lane.name, self.factory.asked[-1]), ("lamps@2", ("lamps@2", False, True))
        )
        self.factory.broken["lamps@3"] = ProofFailed("it answers otherwise")
        await self.serve(replace(self.shadowed("lamps@3"), revision=2))
        hooks = self.table.find_route("town").hooks
        assert hooks is not None
        await eventually(lambda: hooks.shadows[0].reason)
        self.assertEqual((hooks.shadows[0].lane, hooks.shadows[0].reason, self.state()), (None, "it answers otherwise", "serving"))
        self.assertEqual([lane.name for lane in self.factory.opened if lane.closed], ["lamps@2"], "the shadow before is let go")

    def shadowed(self, version: str) -> Any:
        from lamppost.core.endpoint.setup import ShadowSetup

        return revision("town", 1, "lamps@1", shadows=(ShadowSetup(version, 50),))
