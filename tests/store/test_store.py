"""The store against a real PostgreSQL."""

import asyncio
import hashlib
import os
import shutil
import stat
import tempfile
import unittest
from datetime import UTC, datetime, timedelta
from pathlib import Path
from uuid import uuid4

import psycopg

from lamppost.core.artifact.chunks import CHUNK_BYTES, chunk_bounds
from lamppost.core.artifact.manifest import write_manifest
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.errors import BodyTooLarge, Conflict, NotFound, PackageRefused, SetupError
from lamppost.core.monitoring.latency_histogram import bucket_of
from lamppost.core.names import VersionName
from lamppost.package.read import read_lamp
from lamppost.service.packages.package_cache import PackageCache
from lamppost.service.records.record_writer import InProcessSink
from lamppost.service.records.recorder import Recorder
from lamppost.service.records.window_counting import WindowCounting
from lamppost.store import call_samples, call_search, database, endpoints, packages, records, tokens
from lamppost.store.call_records import CallRecord, count_calls, pack_calls, write_counts
from lamppost.store.call_search import CallFilter
from lamppost.store.endpoints import EndpointChange
from lamppost.store.postgres import PrivateServer
from lamppost.store.spool import SpoolFrame
from lamppost.store.trail import ChangedBy
from tests.support.lamps import outage_lamp
from tests.support.service import until

MIGRATIONS = len(list(Path(database.__file__).parent.glob("migrations/*.sql")))


class WithServer(unittest.IsolatedAsyncioTestCase):
    server: PrivateServer
    url: str
    base: str

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lamppost-store-")
        cls.addClassCleanup(folder.cleanup)
        cls.data = Path(folder.name)
        cls.server = PrivateServer(cls.data, durable=False)
        cls.addClassCleanup(cls.server.stop)
        cls.url = cls.server.start()
        cls.base = cls.url.rsplit("/", 1)[0]
        with psycopg.connect(cls.url, autocommit=True) as connection:
            connection.execute("CREATE DATABASE migrated")
        assert len(database.migrate(f"{cls.base}/migrated")) == MIGRATIONS

    async def asyncSetUp(self) -> None:
        """An empty database for each test."""
        name = f"test_{uuid4().hex}"
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(f"CREATE DATABASE {name} TEMPLATE migrated".encode())
        self.fresh = f"{self.base}/{name}?options=-csearch_path%3Dlamppost"
        self.pool = database.make_pool(self.fresh)
        await self.pool.open()
        self.addAsyncCleanup(self.pool.close)

    def package(self, data: bytes = b"lamp") -> Path:
        path = self.data / f"{uuid4().hex}.lamp"
        path.write_bytes(data)
        return path


class Migrations(WithServer):
    async def test_they_run_once_and_an_edited_or_newer_one_is_refused(self) -> None:
        self.assertEqual(database.migrate(self.fresh), [])
        with psycopg.connect(self.fresh, autocommit=True) as connection:
            connection.execute("INSERT INTO migrations VALUES ('9999_later.sql', 'x')")
        self.assertRaisesRegex(SetupError, "newer Lamp Post \\(9999_later.sql\\)", database.migrate, self.fresh)
        with psycopg.connect(self.fresh, autocommit=True) as connection:
            connection.execute("DELETE FROM migrations WHERE name = '9999_later.sql'")
            connection.execute("UPDATE migrations SET sha256 = 'other'")
        self.assertRaisesRegex(SetupError, "was edited", database.migrate, self.fresh)


class Server(WithServer):
    async def test_secrets_are_for_their_owner_and_the_server_for_loopback(self) -> None:
        self.assertEqual(stat.S_IMODE((self.data / "postgres.password").stat().st_mode), 0o600)
        self.assertEqual(stat.S_IMODE(self.server.folder.stat().st_mode), 0o700)
        with psycopg.connect(self.fresh) as connection:
            row = connection.execute("SELECT current_setting('listen_addresses'), current_setting('unix_socket_directories')").fetchone()
            self.assertEqual(row, ("127.0.0.1", ""))
        if os.geteuid() == 0:
            self.assertNotEqual(self.server.folder.stat().st_uid, 0)
        wrong = self.fresh.replace(self.fresh.split(":")[2].split("@")[0], "wrong")
        self.assertRaises(psycopg.OperationalError, psycopg.connect, wrong)


class Tokens(WithServer):
    async def test_the_first_admin_is_made_once_and_secrets_are_not_stored(self) -> None:
        secret = tokens.make_first_admin(self.fresh)
        assert secret is not None
        self.assertIsNone(tokens.make_first_admin(self.fresh))
        who = await tokens.principals_by_hash(self.pool)
        self.assertEqual(who[tokens.hash_of(secret)].role, "admin")
        with psycopg.connect(self.fresh) as connection:
            self.assertNotIn(secret, str(connection.execute("SELECT * FROM tokens").fetchall()))

    async def test_revoking_ends_token_and_sessions_but_never_the_last_admin(self) -> None:
        tokens.make_first_admin(self.fresh)
        await tokens.make_token(self.pool, "second", "admin", None, ChangedBy("admin"))
        session = await tokens.open_session(self.pool, "second")
        self.assertIsNotNone(await tokens.session_token(self.pool, session))
        await tokens.revoke_token(self.pool, "second", ChangedBy("admin"))
        self.assertIsNone(await tokens.session_token(self.pool, session))
        with self.assertRaises(Conflict):
            await tokens.revoke_token(self.pool, "admin", ChangedBy("admin"))
        with self.assertRaises(NotFound):
            await tokens.revoke_token(self.pool, "second", ChangedBy("admin"))
        with self.assertRaises(Conflict):
            await tokens.make_token(self.pool, "second", "viewer", None, ChangedBy("admin"))

    async def test_a_link_works_once(self) -> None:
        tokens.make_first_admin(self.fresh)
        link = await tokens.make_link(self.pool, "admin")
        self.assertIsNone(await tokens.session_token(self.pool, link), "a link is no session")
        self.assertEqual([await tokens.use_link(self.pool, link) for _ in range(2)], ["admin", None])

    async def test_a_replaced_admin_token_ends_the_old_one(self) -> None:
        old = tokens.make_first_admin(self.fresh)
        new = tokens.replace_admin(self.fresh)
        who = await tokens.principals_by_hash(self.pool)
        self.assertEqual((tokens.hash_of(old or "") in who, tokens.hash_of(new) in who), (False, True))


class Versions(WithServer):
    async def push(self, digest: str, path: Path) -> tuple[VersionName, bool]:
        size = len(path.read_bytes())  # noqa: ASYNC240 - a small file of the test's own
        return await packages.store_version(self.pool, "outage-risk", digest * 64, "{}", path, ChangedBy("admin"), chunk_bounds(size))

    async def test_versions_count_up_and_the_same_package_is_the_same_version(self) -> None:
        data = os.urandom(CHUNK_BYTES * 2 + 5)
        path = self.package(data)
        self.assertEqual(await self.push("a", path), (VersionName("outage-risk", 1), True))
        self.assertEqual(await self.push("b", self.package()), (VersionName("outage-risk", 2), True))
        self.assertEqual(await self.push("a", path), (VersionName("outage-risk", 1), False))
        fetched = self.data / "fetched"
        await packages.fetch_package(self.pool, "a" * 64, fetched)
        self.assertEqual(fetched.read_bytes(), data)
        with self.assertRaises(NotFound) as caught:
            await packages.get_version(self.pool, VersionName("outage-risk", 3))
        self.assertIn("outage-risk@2, outage-risk@1", caught.exception.detail)

    async def test_chunks_come_first_and_are_forgotten_unless_a_package_takes_them(self) -> None:
        kept, lost, later = (hashlib.sha256(data).digest() for data in (b"lamp", b"lost", b"later"))
        await self.push("a", self.package(b"lamp"))
        await packages.store_chunk(self.pool, lost, b"lost")
        self.assertEqual(await packages.missing_chunks(self.pool, [lost, kept, later, later]), [later])
        to = self.data / "assembled"
        self.assertEqual(await packages.assemble_chunks(self.pool, [lost, kept], to), [(0, 4), (4, 8)])
        with self.assertRaisesRegex(NotFound, "chunk 1 .* is not stored"):
            await packages.assemble_chunks(self.pool, [lost, later], to)
        with self.assertRaises(BodyTooLarge):
            await packages.assemble_chunks(self.pool, [lost, kept], to, limit=7)
        async with self.pool.connection() as connection:
            await connection.execute("UPDATE chunks SET awaited_until = now() - interval '1 day'")
            async with connection.transaction():
                self.assertEqual(await packages.delete_unused_chunks(connection), [lost])
        self.assertEqual(await packages.missing_chunks(self.pool, [lost, kept]), [lost])

    async def test_signatures_and_measures_are_kept_once(self) -> None:
        version, _ = await self.push("a", self.package())
        for _ in range(2):
            await packages.note_signatures(self.pool, "a" * 64, [("k" * 44, "s" * 88)])
        self.assertEqual(await packages.list_signatures(self.pool, "a" * 64), [("k" * 44, "s" * 88)])
        for row_ms in (0.5, 9.0):
            await packages.note_measurement(self.pool, version, {"row_ms": row_ms})
        self.assertEqual((await packages.get_version(self.pool, version)).measured, {"row_ms": 0.5})

    async def test_what_was_damaged_on_a_nodes_disk_is_unpacked_anew(self) -> None:
        lamp = read_lamp(outage_lamp())
        manifest = write_manifest(lamp.manifest).decode()
        await packages.store_version(self.pool, "kept", lamp.digest, manifest, lamp.path, ChangedBy("admin"), chunk_bounds(lamp.size_bytes))
        home = self.data / uuid4().hex
        shelf = PackageCache(self.pool, home)
        both = await asyncio.gather(shelf.unpacked_package(lamp.digest), shelf.unpacked_package(lamp.digest))
        self.assertEqual(both[0], both[1])
        manifest_there, proof, folder = both[0]
        self.assertEqual((manifest_there, proof, folder), (lamp.manifest, lamp.proof, home / lamp.digest))
        for name in ("manifest.json", lamp.manifest.proof):
            (folder / name).write_bytes(b"{}")
            self.assertEqual((await shelf.unpacked_package(lamp.digest))[1], lamp.proof)
            self.assertNotEqual((folder / name).read_bytes(), b"{}")
        (home / f"{lamp.digest}.lamp").write_bytes(b"PK")
        shutil.rmtree(folder)
        with self.assertRaises(PackageRefused):
            await shelf.unpacked_package(lamp.digest)
        self.assertEqual((await shelf.unpacked_package(lamp.digest))[1], lamp.proof, "the next try fetches it again")

    async def test_concurrent_pushes_get_different_numbers(self) -> None:
        pushed = await asyncio.gather(*(self.push(digest, self.package(digest.encode())) for digest in "0123456789"))
        self.assertEqual(sorted(version.number for version, _ in pushed), list(range(1, 11)))

    async def test_an_endpoint_keeps_what_it_served(self) -> None:
        await self.push("a", self.package())
        await self.push("b", self.package())
        one, two = VersionName("outage-risk", 1), VersionName("outage-risk", 2)
        async with await psycopg.AsyncConnection.connect(self.fresh, autocommit=True) as listening:
            await listening.execute(f"LISTEN {database.CHANGES}".encode())
            setups = [EndpointSetup(version=str(version)) for version in (one, two, one)]
            changes = [EndpointChange("outage-risk", setup) for setup in setups]
            followed = [(await endpoints.change_endpoint(self.pool, change, ChangedBy("admin")))[1] for change in changes]
            self.assertEqual([before and before.version for before in followed], [None, one, two])
            heard = [note.payload async for note in listening.notifies(timeout=5, stop_after=3)]
        self.assertEqual(heard, ["routes"] * 3)
        self.assertEqual(
            [(s.revision, s.version) for s in await endpoints.endpoint_history(self.pool, "outage-risk")], [(3, one), (2, two), (1, one)]
        )
        self.assertEqual([s.version for s in await endpoints.list_revisions(self.pool)], [one])
        with self.assertRaisesRegex(Conflict, "its revision is 3, and this was made for 2"):
            await endpoints.change_endpoint(self.pool, EndpointChange("outage-risk", setups[0], after=2), ChangedBy("admin"))


class Earlier(unittest.TestCase):
    def test_what_going_back_returns_to(self) -> None:
        """Each split by what it serves; ``<n`` puts revision n back, ``~`` is a step of a rollout."""
        for past, back in (
            ("a", None),
            ("a b", 1),
            ("a b c", 2),
            ("a b c <2", 1),
            ("a b c <2 <1", None),
            ("a b c <2 <1 d", 1),
            ("a b <1 b <1 b <1 b", 1),
            ("a a b", 2),
            ("a ~b ~b", 1),
            ("a ~b b", 1),
            ("a ~b <1", None),
            ("z a ~b <2", 1),
            ("a b <1 c", 1),
        ):
            self.assertEqual(getattr(endpoints.find_rollback_target(self.splits(past)), "revision", None), back, past)

    def test_what_lies_further_back_than_is_remembered_is_found_by_what_put_it_back(self) -> None:
        newest = self.splits("a " + "b <1 " * 40 + "b")[:10]
        found = endpoints.find_rollback_target(newest)
        assert found is not None
        self.assertEqual(str(found.version), "lamp@1")

    def splits(self, text: str) -> list[endpoints.EndpointRevision]:
        made: list[endpoints.EndpointRevision] = []
        for number, word in enumerate(text.split(), 1):
            restores = int(word[1:]) if word[0] == "<" else None
            setup = made[restores - 1].setup if restores else EndpointSetup(version=f"lamp@{ord(word[-1]) - ord('a') + 1}")
            rollout = 1 if word[0] == "~" else None
            made.append(endpoints.EndpointRevision("lamp", number, setup, datetime.now(UTC), "admin", restores, rollout))
        return made[::-1]


def a_call(at: datetime, status: int = 200, micros: int = 1_000, input: bytes = b'{"x":1}') -> CallRecord:
    return CallRecord(
        at.timestamp(), str(uuid4()), "outage-risk", "outage-risk@1", "admin", status, 1, 1, micros, {"queue": 3}, input, b'{"answer":{}}'
    )


class Records(WithServer):
    def counting(self) -> WindowCounting:
        return WindowCounting(self.pool, PackageCache(self.pool, self.data / uuid4().hex))

    async def test_calls_of_several_days_are_kept_and_counted(self) -> None:
        now = datetime.now(UTC)
        counting = self.counting()
        calls = [a_call(now, micros=us) for us in (1_000, 1_000, 9_000)] + [
            a_call(now, 422),
            a_call(now, 503),
            a_call(now - timedelta(days=1)),
        ]
        here, first = InProcessSink(self.pool, counting), SpoolFrame("s", 1, "calls", pack_calls(calls))
        self.assertEqual(await here.bring([first]), 0)
        stored = await counting.count_frames([first])
        self.assertIsNone(await records.store_frames(self.pool, stored), "what was counted with a frame that is stored is not stored again")
        again = [first, SpoolFrame("s", 2, "counts", write_counts(count_calls([a_call(now)])))]
        self.assertEqual(await here.bring(again), 0, "the first was stored before, the second is counts alone")
        self.assertEqual(await here.bring(again), 0)
        past = (await records.endpoint_load(self.pool, now - timedelta(minutes=1), ["outage-risk", "nobody"]))["outage-risk"]
        self.assertEqual((past.calls, past.refused, past.failed), (6, 1, 1))
        self.assertEqual(past.histogram, {bucket_of(1_000): 3, bucket_of(9_000): 1})
        latest = await call_search.latest_calls(self.pool, CallFilter("outage-risk"), 3)
        self.assertEqual((len(latest), latest[0]["input"], latest[0]["phases_us"]), (3, {"x": 1}, {"queue": 3}))
        self.assertEqual(await call_search.latest_calls(self.pool, CallFilter("other"), 3), [])

    async def test_a_few_of_many_calls_are_drawn_evenly_and_of_few_all(self) -> None:
        begun = datetime.fromtimestamp(datetime.now(UTC).timestamp() // 10 * 10, UTC) - timedelta(minutes=30)
        here = InProcessSink(self.pool, self.counting())
        calls = [
            a_call(begun + timedelta(seconds=at / 10), input=b'{"x":%d}' % at)._replace(
                endpoint="drawn", token="early" if at < 900 else "late"
            )
            for at in range(3_600)
        ]
        refused = [a_call(begun + timedelta(seconds=at), 422)._replace(endpoint="drawn") for at in range(300)]
        await here.bring([SpoolFrame(uuid4().hex, 1, "calls", pack_calls([*calls, *refused]))])
        span = (begun, begun + timedelta(minutes=6))
        sent = await call_samples.sample_inputs(self.pool, "drawn", "outage-risk@1", *span, 200)
        places = sorted(one.input["x"] for one in sent)
        self.assertEqual((len(sent), {one.status for one in sent}), (200, {200}))
        self.assertEqual([sum(low <= place < low + 900 for place in places) for low in range(0, 3_600, 900)], [50, 50, 50, 50])
        few = await call_samples.sample_inputs(self.pool, "drawn", "outage-risk@1", begun, begun + timedelta(seconds=30), 200)
        self.assertEqual(len({one.request_id for one in few}), 200)
        self.assertTrue(all(one.input["x"] < 300 for one in few))
        self.assertEqual(await call_samples.sample_inputs(self.pool, "drawn", "another@1", *span, 200), [])
        by_token = await call_samples.count_callers(self.pool, "drawn", *span)
        self.assertAlmostEqual(by_token["early"] / sum(by_token.values()), 0.25, delta=0.06)

    async def test_one_record_the_database_cannot_hold_does_not_cost_the_others(self) -> None:
        recorder = Recorder(InProcessSink(self.pool, self.counting()), self.data / uuid4().hex, 10**9)
        with self.assertLogs("lamppost.records", "ERROR"):
            for number in range(9):
                recorder.add_record(a_call(datetime.now(UTC), input=b"not json" if number == 4 else b'"\\u0000 is kept"'))
            recorder.start()
            await asyncio.to_thread(until, lambda: recorder.waiting == 0)
            await recorder.stop()
        self.assertEqual((recorder.written, recorder.dropped), (8, 1))

    async def test_past_its_bound_the_oldest_gives_way_and_is_counted(self) -> None:
        recorder = Recorder(InProcessSink(self.pool, self.counting()), self.data / uuid4().hex, 10**9)
        for _ in range(140):
            recorder.add_record(a_call(datetime.now(UTC), input=b'"' + b"x" * 2**20 + b'"'))
        self.assertEqual((recorder.waiting, recorder.dropped), (127, 13))
