"""Deleting endpoints and versions in the store."""

import asyncio
from collections.abc import Awaitable
from pathlib import Path

import psycopg

from lamppost.core.artifact.chunks import CHUNK_BYTES, chunk_bounds
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import Conflict, NotAllowed, NotFound
from lamppost.core.names import VersionName
from lamppost.store import endpoints, packages, reviews
from lamppost.store.deletion import endpoint_deletion, version_deletion
from lamppost.store.endpoints import EndpointChange
from lamppost.store.trail import ChangedBy
from tests.store.test_store import WithServer

ADMIN = ChangedBy("admin")


class WithVersions(WithServer):
    async def push(self, digest: str, data: bytes, model: str = "risk") -> VersionName:
        path: Path = self.package(data)
        pushed, _ = await packages.store_version(self.pool, model, digest * 64, "{}", path, ADMIN, chunk_bounds(len(data)))
        return pushed

    async def point(self, endpoint: str, version: str, approvals: int | None = None) -> int:
        change = EndpointChange(endpoint, EndpointSetup(version=version), approvals=approvals)
        return (await endpoints.change_endpoint(self.pool, change, ADMIN))[0].revision

    async def delete(self, endpoint: str, for_good: bool = False) -> None:
        await endpoint_deletion.delete_endpoint(self.pool, endpoint, ADMIN, True, for_good)

    async def let_a_day_pass(self) -> None:
        async with self.pool.connection() as connection:
            await connection.execute("UPDATE endpoints SET restorable_until = restorable_until - interval '1 day'")


class Endpoints(WithVersions):
    async def asyncSetUp(self) -> None:
        await super().asyncSetUp()
        for digest in "ab":
            await self.push(digest, digest.encode())

    async def test_within_a_day_it_comes_back_as_it_was(self) -> None:
        for version in ("risk@1", "risk@2"):
            await self.point("risk", version)
        await self.delete("risk")
        self.assertEqual(await endpoints.list_revisions(self.pool), [])
        (deleted,) = await endpoint_deletion.list_deleted_endpoints(self.pool)
        self.assertEqual((deleted.name, deleted.served, deleted.deleted_by), ("risk", "risk@2", "admin"))
        with self.assertRaisesRegex(NotFound, "there is no endpoint 'risk'"):
            await self.delete("risk")
        restored = await endpoint_deletion.restore_endpoint(self.pool, "risk", ADMIN)
        self.assertEqual((restored.revision, str(restored.version)), (2, "risk@2"))
        self.assertEqual(len(await endpoints.endpoint_history(self.pool, "risk")), 2)
        with self.assertRaisesRegex(Conflict, "is not deleted"):
            await endpoint_deletion.restore_endpoint(self.pool, "risk", ADMIN)

    async def test_whatever_happens_to_an_endpoint_is_seen_by_who_reads_what_was_touched(self) -> None:
        await self.point("quiet", "risk@1")

        async def touched_by(change: Awaitable[object]) -> tuple[list[tuple[str, int]], list[str]]:
            since = await endpoints.database_time(self.pool)
            await change
            found = await endpoints.list_touched(self.pool, since)
            return [(revision.endpoint, revision.revision) for revision in found.revisions], found.gone

        self.assertEqual(await touched_by(self.point("risk", "risk@1")), ([("risk", 1)], []))
        self.assertEqual(await touched_by(self.point("risk", "risk@2")), ([("risk", 2)], []))
        self.assertEqual(await touched_by(self.delete("risk")), ([], ["risk"]))
        self.assertEqual(await touched_by(endpoint_deletion.restore_endpoint(self.pool, "risk", ADMIN)), ([("risk", 2)], []))
        self.assertEqual(await touched_by(asyncio.sleep(0)), ([], []))

    async def test_after_a_day_its_name_is_free_and_the_new_one_has_none_of_its_past(self) -> None:
        for again in (False, True):
            with self.subTest(maintenance=again):
                revision = await self.point("risk", "risk@1", approvals=2)
                await reviews.ask_review(self.pool, "risk", VersionName("risk", 2), "please", ADMIN)
                await self.delete("risk")
                await self.let_a_day_pass()
                self.assertEqual(await endpoint_deletion.list_deleted_endpoints(self.pool), [])
                with self.assertRaisesRegex(Conflict, "over a day ago"):
                    await endpoint_deletion.restore_endpoint(self.pool, "risk", ADMIN)
                if again:
                    self.assertEqual(await endpoint_deletion.free_expired_names(self.pool), 1)
                    self.assertEqual(await endpoint_deletion.free_expired_names(self.pool), 0)
                self.assertEqual(await self.point("risk", "risk@2"), revision + 1, "numbers of revisions are not used again")
                self.assertEqual([str(past.version) for past in await endpoints.endpoint_history(self.pool, "risk")], ["risk@2"])
                self.assertEqual(await endpoints.list_demanded_approvals(self.pool), {})
                self.assertEqual([review.state for review in await reviews.list_reviews(self.pool, "risk")][:1], ["withdrawn"])
                await self.delete("risk", for_good=True)

    async def test_who_may_end_a_demand_for_approvals(self) -> None:
        await self.point("risk", "risk@1", approvals=1)
        with self.assertRaisesRegex(NotAllowed, "only an admin may delete"):
            await endpoint_deletion.delete_endpoint(self.pool, "risk", ChangedBy("operator"), False)
        await self.delete("risk")
        await self.point("risk", "risk@1")
        self.assertEqual(await endpoints.list_demanded_approvals(self.pool), {"risk": 1}, "pointing at it within the day gives it back")

    async def test_a_version_that_was_retired_meanwhile_does_not_come_back(self) -> None:
        await self.point("risk", "risk@1")
        await self.delete("risk")
        await packages.retire_version(self.pool, VersionName("risk", 1), False, ADMIN)
        with self.assertRaisesRegex(Conflict, "risk served risk@1, which is retired"):
            await endpoint_deletion.restore_endpoint(self.pool, "risk", ADMIN)


class Versions(WithVersions):
    async def test_space_is_freed_but_for_what_others_use_and_numbers_are_not_used_again(self) -> None:
        shared, own = b"s" * CHUNK_BYTES, b"o" * CHUNK_BYTES
        await self.push("a", shared + own)
        await self.push("b", shared + b"other")
        freed = await version_deletion.delete_versions(self.pool, "risk", 1, ADMIN)
        self.assertEqual((freed.digests, freed.freed_bytes, freed.shared_bytes), (("a" * 64,), CHUNK_BYTES, CHUNK_BYTES))
        with self.assertRaisesRegex(NotFound, "risk@1 was deleted by admin on "):
            await packages.get_version(self.pool, VersionName("risk", 1))
        self.assertEqual([version.name for version in await packages.list_versions(self.pool)], ["risk@2"])
        freed = await version_deletion.delete_versions(self.pool, "risk", 2, ADMIN)
        self.assertEqual(freed.freed_bytes, CHUNK_BYTES + 5)
        self.assertEqual(await packages.list_models(self.pool), [])
        self.assertEqual(await self.push("b", shared + b"other"), VersionName("risk", 3))

    async def test_a_package_of_two_models_stays_for_the_other(self) -> None:
        await self.push("a", b"lamp")
        await self.push("a", b"lamp", model="twin")
        freed = await version_deletion.delete_versions(self.pool, "risk", 1, ADMIN)
        self.assertEqual((freed.digests, freed.freed_bytes), ((), 0))
        await packages.fetch_package(self.pool, "a" * 64, self.data / "fetched")

    async def test_chunks_that_a_push_on_its_way_counts_on_stay(self) -> None:
        await self.push("a", b"lamp")
        (digest,) = await self._chunks()
        self.assertEqual(await packages.missing_chunks(self.pool, [digest]), [])
        freed = await version_deletion.delete_versions(self.pool, "risk", 1, ADMIN)
        self.assertEqual((freed.freed_bytes, await self._chunks()), (0, [digest]))

    async def _chunks(self) -> list[bytes]:
        async with self.pool.connection() as connection:
            return [bytes(row[0]) for row in await (await connection.execute("SELECT sha256 FROM chunks")).fetchall()]

    async def test_what_refers_to_it_is_named_and_nothing_is_deleted(self) -> None:
        for digest in "abcd":
            await self.push(digest, digest.encode())
        for version in ("risk@1", "risk@2", "risk@3"):
            await self.point("risk", version)
        await self.point("gone", "risk@4")
        await self.delete("gone")
        expected = {
            1: None,
            2: "risk would go back to risk@2 with its next rollback",
            3: "risk serves risk@3 .*retire risk@3 --replace-with",
            4: "gone, which was deleted, can still be given back with risk@4 .*lamppost delete endpoint gone --for-good",
        }
        for number, reason in expected.items():
            with self.subTest(number):
                if reason is None:
                    await version_deletion.delete_versions(self.pool, "risk", number, ADMIN)
                    continue
                with self.assertRaisesRegex(Conflict, reason):
                    await version_deletion.delete_versions(self.pool, "risk", number, ADMIN)
        with self.assertRaisesRegex(Conflict, "nothing was deleted: risk would go back"):
            await version_deletion.delete_versions(self.pool, "risk", None, ADMIN)
        self.assertEqual([version.number for version in await packages.list_versions(self.pool)], [4, 3, 2])
        with self.assertRaisesRegex(Conflict, "risk@1 is deleted, and cannot serve"):
            await self.point("risk", "risk@1")
        await self.delete("gone", for_good=True)
        await version_deletion.delete_versions(self.pool, "risk", 4, ADMIN)

    async def test_a_number_that_no_column_holds_is_just_not_there(self) -> None:
        for number in (2**31, 2**40, 2**62, 2**70):
            with self.assertRaisesRegex(NotFound, "there is no"):
                await version_deletion.delete_versions(self.pool, "risk", number, ADMIN)
            with self.assertRaisesRegex(NotFound, "there is no"):
                await packages.openable_version(self.pool, VersionName("risk", number))

    async def test_pointing_at_a_version_and_deleting_it_at_once(self) -> None:
        """One of both happens, whichever comes first."""
        for turn in range(10):
            version = await self.push("abcdef0123"[turn], f"lamp {turn}".encode())
            results = await asyncio.gather(
                self.point(f"risk-{turn}", str(version)),
                version_deletion.delete_versions(self.pool, "risk", version.number, ADMIN),
                return_exceptions=True,
            )
            self.assertEqual(sum(isinstance(result, Conflict) for result in results), 1, results)

    async def test_the_database_itself_holds_that_a_version_has_a_package_or_is_deleted(self) -> None:
        await self.push("a", b"lamp")
        with psycopg.connect(self.fresh) as connection, self.assertRaises(psycopg.errors.CheckViolation):
            connection.execute("UPDATE versions SET digest = NULL")
