"""Calls in blocks: what goes in comes out, also while small blocks are merged, and takes little room."""

import asyncio
import random
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

import psycopg

from lamppost.service.prediction.request_ids import new_request_id
from lamppost.store import call_search, database, explanations, outcomes, records, timeline
from lamppost.store.call_blocks import COPY_BLOCKS, StoredCall, block_lines, merge_small_blocks
from lamppost.store.call_records import CallRecord
from lamppost.store.call_search import CallFilter
from lamppost.store.deletion import endpoint_deletion
from tests.store.test_store import WithServer
from tests.support.earlier_tables import apply_migrations, migrations_after

NOON = datetime.now(UTC).replace(hour=12, minute=0, second=0, microsecond=0) - timedelta(days=1)
STRANGE = (
    b'{"a": "\\"quoted\\", {braces}, back\\\\slash \\u0000 \\n"}',
    b"[\n\t1,\r\n 2]",
    b'"NULL"',
    b"null",
    b'""',
    '"lämp \U0001f4a1"'.encode(),
    None,
)


def stored(at: datetime, number: int = 0, **other: Any) -> StoredCall:
    payloads = (b'{"number":%d}' % number, b'{"label":"holds"}')
    spent = {"queue": number}
    request_id = new_request_id(int(at.timestamp() * 1e3))
    call = CallRecord(at.timestamp(), request_id, "lamps", "lamps@1", "admin", 200, 1, None, 1_000 + number, spent, *payloads)
    return call._replace(**other), None, None


class Blocks(WithServer):
    async def asyncSetUp(self) -> None:
        await super().asyncSetUp()
        for days in range(-1, 5):
            await records.make_partition(self.pool, (NOON - timedelta(days=days)).date())

    async def put(self, *deliveries: list[StoredCall]) -> None:
        for delivery in deliveries:
            async with self.pool.connection() as connection, connection.cursor().copy(COPY_BLOCKS) as copy:
                await copy.write(b"".join(block_lines(delivery)))

    async def question(self, query: str) -> list[tuple[Any, ...]]:
        async with self.pool.connection() as connection:
            return await (await connection.execute(query.encode())).fetchall()

    async def everything(self) -> list[tuple[Any, ...]]:
        return await self.question(
            "SELECT at, request_id, endpoint, version, token, status, row_count, batch_rows, total_us, phases_us::text, shadow, trace,"
            " input::text, answer::text, odd, odd_reason, brought_by FROM calls ORDER BY at, request_id, shadow"
        )

    async def test_strange_calls_come_back_as_they_went_before_and_after_merging(self) -> None:
        put = []
        for number in range(210):
            at = NOON + timedelta(microseconds=number // 3)  # several at the same moment
            call, _, _ = stored(at, number, input=STRANGE[number % 7], answer=STRANGE[(number + 1) % 7])
            call = call._replace(
                version=None if number % 11 == 0 else "lamps@1",
                token=("a\\b", 'c"d', "e,{f}", "NULL", None, "\t")[number % 6],
                batch_rows=number if number % 2 else None,
                shadow=number % 13 == 0,
                trace=f"00-{number:032x}-{'1' * 16}-01" if number % 5 == 0 else None,
            )
            put.append((call, (3.0 + number, 'x "rare"\n') if number % 17 == 0 else None, "importer" if number % 19 == 0 else None))
        await self.put(*([one] for one in put))
        before = await self.everything()
        wanted = {(UUID(call.request_id), call.shadow): (call, odd, by) for call, odd, by in put}
        for row in before:
            call, odd, by = wanted.pop((row[1], row[10]))
            texts = [None if value is None else value.decode() for value in (call.input, call.answer)]
            trace = None if call.trace is None else call.trace[3:35]
            self.assertEqual(row[3:5] + row[7:9] + row[11:], (call.version, call.token, call.batch_rows, call.total_us, trace, *texts,
                             *(odd or (None, None)), by))  # fmt: skip
            self.assertAlmostEqual(row[0].timestamp(), call.at, delta=2e-6)
        self.assertEqual(wanted, {})
        self.assertEqual(await merge_small_blocks(self.pool, NOON + timedelta(hours=1)), 210)
        self.assertEqual(await self.question("SELECT count(*), sum(calls), bool_and(small) FROM call_blocks"), [(1, 210, True)])
        self.assertEqual(await self.everything(), before)

    async def test_a_separator_in_what_is_no_json_is_refused_and_not_split(self) -> None:
        for broken in (b'"a\x1fb"', b"not json", b'"\xff"', b'"\x00"'):
            with self.assertRaises(psycopg.DataError):
                await self.put([stored(NOON, input=broken), stored(NOON)])
        self.assertEqual(await self.everything(), [])

    async def test_a_block_ends_with_its_day_its_endpoint_and_its_weight(self) -> None:
        large = b'"' + b"x" * 400_000 + b'"'
        delivery = [stored(NOON + timedelta(seconds=number), number) for number in range(2_500)]
        delivery += [stored(NOON + timedelta(hours=11, minutes=59 + number), endpoint="other") for number in range(3)]
        delivery += [stored(NOON + timedelta(minutes=number), endpoint="large", input=large) for number in range(5)]
        random.Random(2).shuffle(delivery)
        await self.put(delivery)
        found = await self.question("SELECT endpoint, calls, small FROM call_blocks ORDER BY endpoint, first_at")
        self.assertEqual(
            found,
            [
                *(("lamps", calls, calls < 501) for calls in (1_000, 1_000, 500)),
                *(("large", calls, calls < 2) for calls in (2, 2, 1)),
                *(("other", calls, True) for calls in (1, 2)),
            ],
        )
        times = [at for (at,) in await self.question("SELECT unnest(at) FROM call_blocks WHERE endpoint = 'lamps' ORDER BY 1")]
        self.assertEqual(times, sorted(NOON + timedelta(seconds=number) for number in range(2_500)))

    async def test_small_blocks_become_few_without_being_written_again_and_again(self) -> None:
        written = 0
        for number in range(600):
            await self.put([stored(NOON + timedelta(seconds=number), number)])
            if number % 20 == 19:
                before = await self.question("SELECT number FROM call_blocks")
                await merge_small_blocks(self.pool, NOON + timedelta(hours=2))
                after = await self.question("SELECT number, calls FROM call_blocks")
                written += sum(calls for block, calls in after if (block,) not in before)
        self.assertLessEqual((await self.question("SELECT count(*) FROM call_blocks"))[0][0], 3 * 16)
        self.assertLessEqual(written, 3 * 600)
        self.assertGreater(await merge_small_blocks(self.pool, NOON + timedelta(days=1)), 1, "the day is over")
        self.assertEqual(await self.question("SELECT count(*), sum(calls) FROM call_blocks"), [(1, 600)])
        self.assertEqual(await merge_small_blocks(self.pool, NOON + timedelta(days=1)), 0, "nothing is left to merge")

    async def test_the_newest_are_found_across_blocks_that_lie_over_each_other(self) -> None:
        draw = random.Random(5)
        calls = [
            stored(
                datetime.now(UTC) - timedelta(seconds=draw.random() * 90_000),
                number,
                endpoint=draw.choice("abc"),
                status=draw.choice((200, 422)),
            )
            for number in range(3_000)
        ]
        await self.put(*(calls[start : start + 100] for start in range(0, 3_000, 100)))
        newest = [call for call, _, _ in sorted(calls, key=lambda one: (one[0].at, one[0].request_id), reverse=True)]
        nine = datetime.now(UTC) - timedelta(hours=9)
        for sought, wanted in (
            (CallFilter(), newest),
            (CallFilter(endpoint="b"), [call for call in newest if call.endpoint == "b"]),
            (CallFilter(status=400), [call for call in newest if call.status == 422]),
            (CallFilter(contains='"number":77}'), [call for call in newest if call.input == b'{"number":77}']),
            (CallFilter(slower_ms=3.5), [call for call in newest if call.total_us >= 3_500]),
            (CallFilter(token="admin", before=nine), [call for call in newest if call.at < nine.timestamp()]),
            (CallFilter(after=UUID(newest[40].request_id)), newest[:40]),
            (CallFilter(trace="ab" * 16), []),
            (CallFilter(version="another@1"), []),
        ):
            for limit in (1, 50, 1_000):
                found = [str(call["request_id"]) for call in await call_search.latest_calls(self.pool, sought, limit)]
                self.assertEqual(found, [call.request_id for call in wanted[:limit]], (sought, limit))
        since = datetime.now(UTC) - timedelta(hours=5)
        replayed = await call_search.recorded_inputs(self.pool, "c", since, 100)
        expected = [call for call in newest if call.endpoint == "c" and call.status == 200 and call.at >= since.timestamp()]
        self.assertEqual([str(one.request_id) for one in replayed], [call.request_id for call in expected[:100]])
        some = draw.sample([call for call, _, _ in calls if call.status == 200], 300)
        answered = await outcomes.answered_calls(self.pool, [UUID(call.request_id) for call in some])
        self.assertEqual({str(call.request_id) for call in answered}, {call.request_id for call in some})
        (caller,) = await endpoint_deletion.list_callers(self.pool, "a", datetime.now(UTC) - timedelta(days=2))
        self.assertEqual((caller.token, caller.calls), ("admin", sum(call.endpoint == "a" for call, _, _ in calls)))

    async def test_readers_see_every_call_once_while_blocks_are_merged(self) -> None:
        now = datetime.now(UTC)
        await self.put(*([stored(now - timedelta(seconds=number), number)] for number in range(300)))
        counts: set[int] = set()

        async def read() -> None:
            for _ in range(30):
                found = await call_search.latest_calls(self.pool, CallFilter("lamps"), 1_000)
                counts.add(len({call["request_id"] for call in found}))

        async def merge() -> int:
            merged = 0
            for number in range(10):
                await self.put(*([stored(now - timedelta(days=2, seconds=number * 20 + more), endpoint="x")] for more in range(16)))
                merged += await merge_small_blocks(self.pool, now)
            return merged

        merged, _, _ = await asyncio.gather(merge(), read(), read())
        self.assertGreaterEqual(merged, 300)
        self.assertEqual(counts, {300})

    async def test_expired_blocks_go_and_are_counted(self) -> None:
        now = datetime.now(UTC)
        await self.put([stored(now - timedelta(days=3), endpoint="short"), stored(now - timedelta(days=3)), stored(now, endpoint="short")])
        for days in (0, 3):
            about = (now - timedelta(days=days), "short", "short@1", "admin", None, 9, 1.0, "exact")
            await explanations.add_explanation(self.pool, explanations.MadeExplanation(uuid4(), *about))
        self.assertEqual(await timeline.delete_expired(self.pool, {"short": (1, 5), "lamps": (30, 30)}, now), 1)
        self.assertEqual(len(await explanations.list_explanations(self.pool, "short", 9)), 1)
        self.assertEqual(await self.question("SELECT endpoint FROM calls ORDER BY 1"), [("lamps",), ("short",)])

    async def test_calls_of_three_fields_take_little_room(self) -> None:
        draw = random.Random(3)
        for second in range(100):
            delivery = []
            for _ in range(100):
                share, at = draw.random(), NOON + timedelta(seconds=second, milliseconds=draw.randrange(1_000))
                sent = (draw.random() * 40, 220 + draw.random() * 20, draw.random() * 9)
                payloads = {
                    "input": b'{"age_years":%.1f,"voltage_v":%.1f,"flicker_per_night":%.2f}' % sent,
                    "answer": b'{"label":"holds","scores":{"holds":%.16f,"fails":%.16f}}' % (share, 1 - share),
                }
                spent = {name: draw.randrange(9, 3_000) for name in ("read", "validate", "queue", "model", "write")}
                delivery.append(stored(at, total_us=draw.randrange(900, 6_000), phases_us=spent, **payloads))
            await self.put(delivery)
        await merge_small_blocks(self.pool, NOON + timedelta(days=1))
        ((size,),) = await self.question(
            "SELECT sum(pg_total_relation_size(inhrelid)) FROM pg_inherits WHERE inhparent = 'call_blocks'::regclass"
        )
        ((kept,),) = await self.question("SELECT sum(pg_column_size(b.*)) FROM call_blocks b")
        self.assertLess(kept / 10_000, 150, "bytes that a call takes")
        self.assertLess(size / 10_000, 2 * 250, "with the room that merged blocks left, which the next ones take")


class RowsBecomeBlocks(WithServer):
    """Migration 0013."""

    async def test_every_call_of_earlier_tables_is_there(self) -> None:
        with psycopg.connect(self.fresh.partition("?")[0], autocommit=True) as connection:
            connection.execute("DROP SCHEMA lamppost CASCADE")
            connection.execute("CREATE SCHEMA lamppost")
            connection.execute("SET search_path = lamppost")
            apply_migrations(connection, 12)
            for days in (0, 1):
                connection.execute("SELECT make_calls_partition(%s)", ((NOON - timedelta(days=days)).date(),))
            connection.execute(
                "INSERT INTO calls SELECT %s - make_interval(secs => n / 2 * 40), ('0190' || lpad(to_hex(n), 28, '0'))::uuid,"
                " 'lamps' || n %% 2, 'a@' || n, 'admin', 200, n, NULL, n, '{}', json_build_object('n', n), NULL, n %% 5 = 0, n::real,"
                " 'odd', NULL, CASE WHEN n %% 2 = 0 THEN repeat('ab', 16) END FROM generate_series(1, 4000) n",
                (NOON,),
            )
            query = (
                "SELECT at, request_id, endpoint, version, token, status, row_count, batch_rows, total_us, phases_us::text, input::text,"
                " answer::text, shadow, odd, odd_reason, brought_by, trace FROM calls ORDER BY request_id"
            )
            before = connection.execute(query.encode()).fetchall()
        self.assertEqual(database.migrate(self.fresh), migrations_after(12))
        async with self.pool.connection() as connection_after:
            self.assertEqual(await (await connection_after.execute(query.encode())).fetchall(), before)
            blocks = await (await connection_after.execute("SELECT max(calls), count(*) FROM call_blocks")).fetchall()
        self.assertEqual((len(before), blocks), (4_000, [(1_000, 6)]))
