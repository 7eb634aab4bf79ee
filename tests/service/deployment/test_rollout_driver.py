"""The rollout driver over a real database, with two nodes whose calls are counted here and nothing that is served."""

from collections.abc import Awaitable, Callable, Sequence
from types import SimpleNamespace
from typing import Any
from unittest import mock

from lamppost.core.artifact.chunks import chunk_bounds
from lamppost.core.artifact.manifest import write_manifest
from lamppost.core.endpoint.rollout import RolloutPlan, RolloutStep
from lamppost.core.endpoint.rollout_counts import RolloutTally, read_counted_rollout
from lamppost.core.endpoint.rollout_guards import RolloutGuards
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import Conflict, NotFound
from lamppost.core.names import VersionName
from lamppost.package.read import Lamp, read_lamp
from lamppost.service.deployment.changes import ChangeOverrides
from lamppost.service.deployment.rollout_driver import RolloutDriver
from lamppost.store import endpoints, packages, rollouts
from lamppost.store.endpoints import EndpointChange
from lamppost.store.rollouts import StoredRollout
from lamppost.store.trail import ChangedBy
from tests.store.test_store import WithServer
from tests.support.lamps import outage_lamp

ADMIN = ChangedBy("admin")
OLD, NEW = "outage-risk@1", "outage-risk@2"
PLAN = RolloutPlan((RolloutStep(10, calls=40), RolloutStep(50, calls=40)), RolloutGuards(answers=None, disagreement=None, p99=None))
HOLDS = [{"label": "holds"}]


class FakeNode:
    """A node that follows the database and counts what the test says."""

    def __init__(self, pool: Any, lamp: Lamp) -> None:
        self.pool, self.lamp = pool, lamp
        self.routes: dict[str, Any] = {}
        table = SimpleNamespace(by_endpoint=self.routes, find_route=self.routes.__getitem__)
        package_cache = SimpleNamespace(lamp_of=mock.AsyncMock(return_value=lamp))
        deployment: Any = SimpleNamespace(table=table, package_cache=package_cache, switching=self, reconciler=self)
        changes: Any = SimpleNamespace(check_change=mock.AsyncMock(side_effect=lambda change, role, overrides: change))
        self.driver = RolloutDriver(pool, deployment, changes)

    async def switch(self, changes: Sequence[EndpointChange], commit: Callable[[Sequence[EndpointChange]], Awaitable[Any]]) -> None:
        await commit(changes)
        await self.reconcile()

    async def reconcile(self) -> None:
        for revision in await endpoints.list_revisions(self.pool):
            counted = None if revision.counted is None else read_counted_rollout(revision.counted)
            tally = None if counted is None else RolloutTally(counted, self.lamp.manifest.answers)
            self.routes[revision.endpoint] = SimpleNamespace(in_force=revision, hooks=SimpleNamespace(tally=tally))

    def answer(self, version: str, calls: int, failed: int = 0) -> None:
        """Count calls of one version, of which some failed."""
        tally: RolloutTally = self.routes["lamps"].hooks.tally
        for at in range(calls):
            tally.failed(version) if at < failed else tally.answered(version, 2.0, HOLDS)


class Driving(WithServer):
    async def asyncSetUp(self) -> None:
        await super().asyncSetUp()
        lamp = read_lamp(outage_lamp())
        manifest = write_manifest(lamp.manifest).decode()
        for digest in (lamp.digest, "0" * 64):
            bounds = chunk_bounds(lamp.size_bytes)
            await packages.store_version(self.pool, "outage-risk", digest, manifest, lamp.path, ADMIN, bounds)
        await endpoints.change_endpoint(self.pool, EndpointChange("lamps", EndpointSetup(version=OLD)), ADMIN)
        self.nodes = [FakeNode(self.pool, lamp) for _ in range(2)]
        for node in self.nodes:
            await node.reconcile()

    async def begin(self) -> StoredRollout:
        stored, _ = await self.nodes[0].driver.begin_rollout(
            "lamps", VersionName("outage-risk", 2), PLAN, None, ADMIN, "admin", ChangeOverrides()
        )
        await self.nodes[1].reconcile()
        return stored

    async def latest(self) -> StoredRollout:
        return (await rollouts.latest_rollouts(self.pool, "lamps"))[0]

    async def shares(self) -> dict[str, float] | str | None:
        (revision,) = await endpoints.list_revisions(self.pool)
        return dict(revision.setup.shares.of) if revision.setup.shares is not None else revision.setup.version

    async def advance(self) -> StoredRollout:
        for node in self.nodes:
            await node.driver.advance_rollouts()
        for node in self.nodes:
            await node.reconcile()
        return await self.latest()

    async def test_it_begins_with_its_first_share_and_once(self) -> None:
        stored = await self.begin()
        self.assertEqual((stored.rollout.state, stored.rollout.step, stored.before), ("running", 0, 1))
        self.assertEqual(await self.shares(), {OLD: 90.0, NEW: 10.0})
        with self.assertRaises(Conflict):
            await self.begin()

    async def test_counts_of_all_nodes_add_up_and_are_stored_once(self) -> None:
        await self.begin()
        for node, calls in zip(self.nodes, (15, 20), strict=True):
            node.answer(OLD, 100)
            node.answer(NEW, calls)
        for _ in range(2):
            for node in self.nodes:
                await node.driver.advance_rollouts()
        ((stored, (counts,)),) = await self.nodes[0].driver.latest_rollouts("lamps")
        self.assertEqual((stored.rollout.step, counts.calls), (0, [200, 35]), "35 of 40 calls: not enough yet")

    async def test_it_moves_on_step_by_step_and_finishes(self) -> None:
        await self.begin()
        for step, shares in ((1, {OLD: 50.0, NEW: 50.0}), (1, NEW)):
            for node in self.nodes:
                node.answer(OLD, 200)
                node.answer(NEW, 25)
            moved = await self.advance()
            self.assertEqual((moved.rollout.step, await self.shares()), (step, shares), moved.rollout.reason)
        self.assertEqual(moved.rollout.state, "done")
        self.assertIsNotNone(moved.ended_at)
        self.assertEqual(await rollouts.running_rollouts(self.pool), [])

    async def test_a_version_that_fails_is_taken_back_to_the_revision_before(self) -> None:
        stored = await self.begin()
        self.nodes[0].answer(OLD, 900)
        self.nodes[1].answer(NEW, 100, failed=60)
        ended = await self.advance()
        self.assertEqual((ended.rollout.state, await self.shares()), ("back", OLD))
        (revision,) = await endpoints.list_revisions(self.pool)
        self.assertEqual((revision.restores, revision.rollout), (stored.before, None))

    async def test_a_rollout_that_another_node_holds_is_left_alone(self) -> None:
        stored = await self.begin()
        self.nodes[0].answer(OLD, 900)
        self.nodes[0].answer(NEW, 100, failed=60)
        async with rollouts.hold_rollout(self.pool, stored.number):
            await self.nodes[0].driver.advance_rollouts()
        self.assertEqual((await self.latest()).rollout.state, "running")
        self.assertEqual((await self.advance()).rollout.state, "back")

    async def test_paused_it_stays_and_resumed_it_goes_on(self) -> None:
        await self.begin()
        await self.nodes[0].driver.act_on_rollout("lamps", "pause", ADMIN)
        self.nodes[0].answer(OLD, 500)
        self.nodes[0].answer(NEW, 60)
        self.assertEqual(((await self.advance()).rollout.state, await self.shares()), ("paused", {OLD: 90.0, NEW: 10.0}))
        await self.nodes[0].driver.act_on_rollout("lamps", "resume", ADMIN)
        self.assertEqual((await self.advance()).rollout.step, 1)

    async def test_finishing_and_taking_back_by_hand(self) -> None:
        await self.begin()
        stored, _ = await self.nodes[1].driver.act_on_rollout("lamps", "back", ADMIN)
        self.assertEqual((stored.rollout.state, await self.shares()), ("back", OLD))
        with self.assertRaises(NotFound):
            await self.nodes[1].driver.act_on_rollout("lamps", "finish", ADMIN)
        for node in self.nodes:
            await node.reconcile()
        await self.begin()
        stored, _ = await self.nodes[1].driver.act_on_rollout("lamps", "finish", ADMIN)
        self.assertEqual((stored.rollout.state, await self.shares()), ("done", NEW))


del WithServer  # its own tests are those of test_store
