"""Records of one endpoint, version or frame that cannot be stored do not keep those of all others from the database."""

import os
import secrets
import stat
import tempfile
import unittest
import zipfile
from datetime import UTC, datetime
from pathlib import Path
from unittest import mock
from uuid import uuid4

import orjson
import psycopg
from psycopg_pool import PoolTimeout

from lamppost.core.endpoint.setup import MAX_VERSIONS
from lamppost.core.errors import PackageRefused
from lamppost.core.instants import bounded_instant
from lamppost.package.read import read_lamp
from lamppost.service.packages.package_cache import PackageCache
from lamppost.service.records import window_counting
from lamppost.service.records.record_writer import InProcessSink
from lamppost.service.records.recorder import Recorder
from lamppost.service.records.window_counting import WindowCounting, try_reference
from lamppost.store import tokens
from lamppost.store.call_records import CallRecord, bundle_calls, pack_calls
from lamppost.store.database import is_away
from lamppost.store.spool import Spool, SpoolFrame, SpoolPortion
from tests.end_to_end.test_service import ROW
from tests.store.test_store import WithServer
from tests.support.hostile import changed_lamp
from tests.support.lamps import outage_lamp
from tests.support.service import WithService

LONGEST_NAME = "x" * 63 + "@2147483647"


def call(version: str = "outage-risk@1", endpoint: str = "outage-risk") -> CallRecord:
    at = datetime.now(UTC).timestamp()
    return CallRecord(at, str(uuid4()), endpoint, version, "desk", 200, 1, 1, 900, {"queue": 3}, b'{"x": 1}', b"{}")


class Poisoned(WithServer):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.spool = Spool(self.folder, 10**8)
        self.addCleanup(self.spool.close)

    def portion(self, *frames: list[CallRecord]) -> SpoolPortion:
        for calls in frames:
            self.spool.append([bundle_calls(calls)])
        portion = self.spool.take_portion(10**7)
        assert portion is not None
        return portion

    async def stored(self) -> int:
        async with self.pool.connection() as connection:
            row = await (await connection.execute("SELECT count(*) FROM calls")).fetchone()
            return 0 if row is None else int(row[0])

    async def test_a_frame_that_the_database_refuses_is_set_aside_and_can_be_tried_again(self) -> None:
        """A key of the tables of latency holds 2,704 bytes."""
        poison = ", ".join(f"{secrets.token_hex(20)}@1" for _ in range(92))
        self.assertGreater(len(poison), 3_900)
        sink = InProcessSink(self.pool, WindowCounting(self.pool, PackageCache(self.pool, self.data / uuid4().hex)))
        portion = self.portion([call(), call()], [call(poison), call()], [call()])
        self.assertEqual(await sink(portion), 0)
        self.assertEqual(await self.stored(), 3)
        recorder = Recorder(sink, self.folder, 10**8)
        self.addCleanup(recorder.spool.close)
        (aside,) = recorder.set_aside.list_frames()
        self.assertEqual((aside.number, aside.calls, recorder.set_aside.calls), (2, 2, 2))
        self.assertIn("index row size", aside.error)
        self.assertEqual(await sink(portion), 0, "nothing is stored twice")
        self.assertEqual(await self.stored(), 3)
        recorder.spool.mark_delivered(portion)
        self.assertEqual(await recorder.retry_set_aside(), 2)
        self.assertEqual(recorder.set_aside.list_frames(), [])
        again = recorder.spool.take_portion(10**7)
        assert again is not None
        await sink(again)
        self.assertEqual([frame.calls for frame in recorder.set_aside.list_frames()], [2], "it still cannot be stored")

    async def test_a_frame_that_cannot_be_read_is_set_aside(self) -> None:
        sink = InProcessSink(self.pool, WindowCounting(self.pool, PackageCache(self.pool, self.data / uuid4().hex)))
        bent = bundle_calls([call()])._replace(heads=b'["a row of something else"]')
        self.spool.append([bundle_calls([call()])])
        self.spool.append([bent])
        self.spool.append([bundle_calls([call()])])
        portion = self.spool.take_portion(10**7)
        assert portion is not None
        await sink(portion)
        self.assertEqual(await self.stored(), 2)
        self.assertEqual([frame.number for frame in Recorder(sink, self.folder, 10**8).set_aside.list_frames()], [2])

    async def test_the_most_versions_that_an_endpoint_may_have_fit(self) -> None:
        names = [f"{secrets.token_hex(31)}x@{2_147_483_000 + number}" for number in range(MAX_VERSIONS)]
        self.assertEqual({len(name) for name in names}, {len(LONGEST_NAME)})
        sink = InProcessSink(self.pool, WindowCounting(self.pool, PackageCache(self.pool, self.data / uuid4().hex)))
        await sink(self.portion([call(", ".join(names), secrets.token_hex(31) + "x")]))
        self.assertEqual(await self.stored(), 1)

    async def test_a_reference_that_fails_stops_the_counts_of_its_version_only(self) -> None:
        counting = WindowCounting(self.pool, PackageCache(self.pool, self.data / uuid4().hex))
        good = window_counting.ReferenceScorer(read_lamp(outage_lamp()))
        bad = window_counting.ReferenceScorer(read_lamp(outage_lamp()))
        assert bad.sketcher is not None
        calls = [
            call(version)._replace(
                input=orjson.dumps(ROW), answer=b'{"answer": {"label": "holds", "scores": {"holds": 0.9, "fails": 0.1}}}'
            )
            for version in ("bad@1", "good@1", "bad@1")
        ]
        with mock.patch.object(bad.sketcher, "as_arrays", side_effect=ValueError("bins of another kind")), self.assertLogs(level="ERROR"):
            counted = counting._count_calls([SpoolFrame("s", 1, "calls", pack_calls(calls))], {"good@1": good, "bad@1": bad}, None)
        self.assertEqual([delta.version for delta in counted.deltas], ["good@1"])
        with (
            mock.patch.object(window_counting.packages, "get_version", side_effect=IndexError("of a fault of ours")),
            self.assertLogs(level="ERROR"),
        ):
            self.assertIsNone(await counting.scorer_of_version("bad@1"))

    async def test_a_token_with_a_time_that_nothing_can_hold_is_left_out(self) -> None:
        """The others are known, revoked ones end, and all of them can be listed."""
        async with self.pool.connection() as connection:
            for name, role, expires, rate in (
                ("good", "viewer", None, None),
                ("late", "viewer", "10000-01-01 13:59:59+00", None),
                ("tiny", "viewer", None, 1e-30),
                ("soon", "caller", "2100-01-01 00:00:00+00", 2.5),
            ):
                await connection.execute(
                    "INSERT INTO tokens (name, role, hash, made_by, expires_at, rate_per_s) VALUES (%s, %s, %s, 'test', %s, %s)",
                    (name, role, tokens.hash_of(name), expires, rate),
                )
        with self.assertLogs("lamppost.tokens", "ERROR") as logged:
            known = await tokens.principals_by_hash(self.pool)
        self.assertEqual({principal.token for principal in known.values()}, {"good", "soon"})
        self.assertEqual(len(logged.output), 2)
        self.assertEqual([token.name for token in await tokens.list_tokens(self.pool)], ["good", "late", "soon", "tiny"])


class Away(unittest.TestCase):
    def test_what_counts_as_away(self) -> None:
        away = [
            PoolTimeout("no connection"),
            psycopg.OperationalError("connection refused"),
            psycopg.errors.AdminShutdown(),
            psycopg.errors.DiskFull(),
            psycopg.errors.TooManyConnections(),
            psycopg.errors.CannotConnectNow(),
            psycopg.errors.DeadlockDetected(),
        ]
        here = [
            psycopg.errors.ProgramLimitExceeded(),
            psycopg.errors.UntranslatableCharacter(),
            psycopg.errors.CheckViolation(),
            psycopg.errors.UndefinedTable(),
            ValueError("a fault of ours"),
        ]
        self.assertEqual([type(error).__name__ for error in away if not is_away(error)], [])
        self.assertEqual([type(error).__name__ for error in here if is_away(error)], [])

    def test_files_of_records_and_packages_are_their_owners(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        before = os.umask(0)
        self.addCleanup(os.umask, before)
        spool = Spool(folder / "spool", 10**8)
        self.addCleanup(spool.close)
        spool.append([bundle_calls([call()])])
        (segment,) = (folder / "spool").glob("*.spool")
        unpacked = read_lamp(outage_lamp()).unpack(folder / "packages")
        modes = [stat.S_IMODE(path.stat().st_mode) for path in (segment, segment.parent, unpacked)]
        self.assertEqual([oct(mode) for mode in modes], ["0o600", "0o700", "0o700"])

    def test_a_reference_is_tried_before_a_package_is_stored(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        good = read_lamp(outage_lamp())
        try_reference(good)
        reference = good.manifest.reference
        assert reference is not None
        with zipfile.ZipFile(good.path) as archive:
            document = archive.read(reference)
        empty = {"rows": [], "count": [], "phi": [], "most": []}
        for name, bend in {
            "pairs": lambda known: known["pairs"].update(correlations=known["pairs"]["correlations"][:2]),
            "variances": lambda known: known["pairs"].update(variances=[1.0, 2.0]),
            "blocks": lambda known: known["inputs"][0]["bins"].update(blocks={"location": empty | {"phi": [9.0]}}),
            "values": lambda known: known["inputs"][0]["bins"].update(seen="no base64"),
        }.items():
            known = orjson.loads(document)
            bend(known)
            path = changed_lamp(outage_lamp(), folder / f"{name}.lamp", lambda _: None, {reference: orjson.dumps(known)})
            with self.subTest(name), self.assertRaises(PackageRefused) as caught:
                try_reference(read_lamp(path))
            self.assertIn("the reference cannot be used on the rows of the proof", caught.exception.detail)

    def test_instants_are_of_years_that_everything_can_hold(self) -> None:
        for text in ("9999-12-31T23:59:59-14:00", "9999-01-01T00:00:00+00:00", "1969-12-31T23:59:59+00:00", "0001-01-01T00:00:00+14:00"):
            with self.subTest(text), self.assertRaises(ValueError):
                bounded_instant(datetime.fromisoformat(text))
        self.assertEqual(bounded_instant(datetime.fromisoformat("9998-12-31T23:59:59+00:00")).year, 9998)


class AtTheEdge(WithService):
    def test_extremes_are_refused_and_nothing_fails(self) -> None:
        self.service.serve(outage_lamp())
        nul = '{"name": "a\\u0000b", "role": "viewer"}'
        token = {"name": "extreme", "role": "viewer"}
        cases = [
            ("/api/tokens", nul, 400),
            ("/api/tokens", orjson.dumps(token | {"expires_at": "9999-12-31T23:59:59-14:00"}), 422),
            ("/api/tokens", orjson.dumps(token | {"rate_per_s": 5e-324}), 422),
            ("/api/tokens", orjson.dumps(token | {"rate_per_s": 1e300}), 422),
            ("/api/tokens", '{"name": "extreme", "role": "viewer", "rate_per_s": 1e999}', 422),
            ("/api/endpoints/outage-risk/rollback", '{"note": "a\\u0000"}', 400),
            ("/api/endpoints/a%00b/rollback", "{}", 400),
            ("/predict/outage-risk", orjson.dumps(ROW | {"maker": "a\0b"}), 400),
            ("/predict/outage-risk", orjson.dumps({"rows": [ROW | {"maker": "a\0b"}]}), 400),
        ]
        for path, body, status in cases:
            with self.subTest(path=path, body=body):
                self.assertEqual(self.service.post(path, body).status_code, status)
        with self.service.client() as client:
            self.assertEqual(client.fetch("GET", "/api/node")["records_set_aside"], 0)
            self.assertEqual(client.fetch("GET", "/api/records/set-aside"), [])
            self.assertEqual(client.fetch("POST", "/api/records/set-aside/retry"), {"calls": 0})
        shown = self.service.run("records")
        self.assertEqual(shown.returncode, 0, shown.stderr)
        self.assertIn("none were set aside", shown.stdout)
