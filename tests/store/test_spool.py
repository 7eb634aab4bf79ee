"""The spool alone: what a crash, a full disk and its bound leave of it."""

import resource
import struct
import subprocess
import sys
import tempfile
import unittest
import zlib
from datetime import UTC, datetime
from pathlib import Path
from uuid import uuid4

import orjson

from lamppost.store.call_records import (
    CallRecord,
    bundle_calls,
    count_calls,
    pack_calls,
    read_counts,
    strip_payloads,
    unpack_calls,
    write_counts,
)
from lamppost.store.copy_lines import read_copy_lines
from lamppost.store.spool import FIRST_LINE, Spool, SpoolFrame, SpoolPortion


def calls(number: int, payload: int = 100) -> list[CallRecord]:
    body = b'"' + b"x" * payload + b'"'
    at = 1_790_000_000.25
    return [
        CallRecord(at + n, str(uuid4()), "lamps\t\\", "lamps@1", None, 200, 1, 1, 1_000, {"queue": 7}, body, body) for n in range(number)
    ]


def earlier(kind: int, payload: bytes) -> bytes:
    """A frame as the first two formats had it."""
    head = struct.pack("!IBI", 1, kind, len(payload))
    return head + struct.pack("!I", zlib.crc32(payload, zlib.crc32(head))) + payload


def earlier_line(call: CallRecord) -> bytes:
    """A call as the first two formats had it, the first of them without a trace."""
    at = datetime.fromtimestamp(call.at, UTC).isoformat().encode()
    name = call.endpoint.replace("\\", "\\\\").replace("\t", "\\t").encode()
    sent, answer = ((value or b"").replace(b"\\", b"\\\\").replace(b"\t", b"\\t") for value in (call.input, call.answer))
    numbers = b"200\t1\t1\t1000\t" + orjson.dumps(call.phases_us)
    fields = (at, call.request_id.encode(), name, b"lamps@1", b"\\N", numbers, b"f", b"ab" * 16, sent, answer)
    return b"\t".join(fields) + b"\n"


class Spools(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lamppost-spool-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def files(self) -> list[Path]:
        return sorted(self.folder.glob("*.spool"))

    def taken(self, spool: Spool, most_bytes: int) -> SpoolPortion:
        portion = spool.take_portion(most_bytes)
        assert portion is not None
        return portion

    def drain(self, spool: Spool) -> list[SpoolFrame]:
        out: list[SpoolFrame] = []
        while portion := spool.take_portion(1):
            out += portion.read_frames()
            spool.mark_delivered(portion)
        return out

    def test_what_is_appended_comes_back_in_order_and_then_the_files_go(self) -> None:
        spool = Spool(self.folder, 10**9)
        payloads = [calls(3), calls(1), calls(2)]
        for payload in payloads:
            spool.append([bundle_calls(payload)])
        self.assertEqual(spool.waiting, 6)
        again = Spool(self.folder, 10**9)
        self.assertEqual(again.waiting, 6, "another start finds them")
        self.assertEqual([(frame.number, frame.calls) for frame in self.drain(again)], list(enumerate(payloads, 1)))
        self.assertEqual((again.waiting, self.files()), (0, []))

    def test_what_earlier_software_left_is_read(self) -> None:
        kept = [call._replace(trace="00-" + "ab" * 16) for call in calls(3)]
        lines = [earlier_line(call) for call in kept]
        without = [line.replace(b"\t" + b"ab" * 16, b"", 1) for line in lines]
        for number, given in ((1, without), (2, lines)):
            path = self.folder / f"{number:032x}.spool"
            path.write_bytes(b"lamppost spool %d\n" % number + earlier(0, b"".join(given)) + b"torn")
        (self.folder / f"{3:032x}.spool").write_bytes(b"lamppost spool 2\n" + earlier(2, write_counts(count_calls(kept))))
        again = Spool(self.folder, 10**9)
        self.assertEqual(again.waiting, 9)
        first, second, third = self.drain(again)
        self.assertEqual(first.calls, [call._replace(trace=None) for call in kept])
        self.assertEqual(second.calls, kept)
        self.assertEqual((third.kind, third.calls, third.counts), ("counts", [], count_calls(kept)))

    def test_a_torn_or_damaged_frame_is_cut_off_and_what_stands_before_it_is_kept(self) -> None:
        spool = Spool(self.folder, 10**9)
        for _ in range(3):
            spool.append([bundle_calls(calls(2))])
        spool.sync()
        (path,) = self.files()
        whole = path.read_bytes()
        third = (len(whole) - len(FIRST_LINE)) // 3
        for left in (1, 12, 13, third - 1):
            path.write_bytes(whole[: len(FIRST_LINE) + 2 * third + left])
            with self.assertLogs("lamppost.spool", "WARNING") as said:
                self.assertEqual(Spool(self.folder, 10**9).waiting, 4)
            self.assertIn(f"{left} bytes", said.output[0])
        path.write_bytes(whole[: len(FIRST_LINE) + third + 40] + b"?" + whole[len(FIRST_LINE) + third + 41 :])
        with self.assertLogs("lamppost.spool", "WARNING"):
            self.assertEqual(Spool(self.folder, 10**9).waiting, 2, "a flipped byte ends what can be trusted")
        path.write_bytes(FIRST_LINE[:7])
        self.assertEqual(Spool(self.folder, 10**9).waiting, 0)
        self.assertEqual(self.files(), [])

    def test_a_segment_of_another_version_is_left_alone(self) -> None:
        (self.folder / "0a.spool").write_bytes(b"lamppost spool 9\nsomething new")
        with self.assertLogs("lamppost.spool", "ERROR"):
            self.assertEqual(Spool(self.folder, 10**9).waiting, 0)
        self.assertEqual((self.folder / "0a.unread").read_bytes(), b"lamppost spool 9\nsomething new")

    def test_at_its_bound_payloads_go_first_then_all_but_counts_and_nothing_is_uncounted(self) -> None:
        spool = Spool(self.folder, 2_000_000)
        with self.assertLogs("lamppost.spool", "WARNING"):
            for _ in range(60):
                spool.append([bundle_calls(calls(50, payload=500))])
        self.assertLessEqual(spool.size, 2_000_000)
        self.assertGreater(spool.payloads_given_up, 0)
        self.assertEqual((spool.calls_given_up, spool.waiting), (0, 3_000))
        with self.assertLogs("lamppost.spool", "WARNING"):
            spool.most_bytes = 100_000
            spool.append([bundle_calls(calls(50))])
        self.assertLessEqual(spool.size, 100_000)
        self.assertGreater(spool.calls_given_up, 0)
        self.assertEqual(Spool(self.folder, 10**9).waiting, 3_050)
        counted = sum(frame.counts.total() for frame in self.drain(spool))
        self.assertEqual(counted, 3_050)

    def test_what_was_done_is_not_given_again_after_the_bound_was_met(self) -> None:
        spool = Spool(self.folder, 10**9)
        for _ in range(4):
            spool.append([bundle_calls(calls(10, payload=2_000))])
        spool.mark_delivered(self.taken(spool, 1))
        spool.most_bytes = 30_000
        with self.assertLogs("lamppost.spool", "WARNING"):
            spool.append([bundle_calls(calls(10))])
        self.assertEqual([frame.number for frame in self.drain(spool)], [2, 3, 4, 5])

    def test_a_full_disk_keeps_no_half_a_frame(self) -> None:
        code = (
            "import sys, resource, signal; from pathlib import Path\n"
            "from lamppost.store.call_records import CallRecord, bundle_calls; from lamppost.store.spool import Spool\n"
            "signal.signal(signal.SIGXFSZ, signal.SIG_IGN); resource.setrlimit(resource.RLIMIT_FSIZE, (5_000, 5_000))\n"
            "spool = Spool(Path(sys.argv[1]), 10**9)\n"
            "for number in range(9):\n"
            "    try: spool.append([bundle_calls([CallRecord(1.0, '', 'lamps', None, None, 200, 1, 1, 1, {}, b'x' * 990, None)])])\n"
            "    except OSError as error: print(number, type(error).__name__)\n"
        )
        done = subprocess.run([sys.executable, "-c", code, str(self.folder)], capture_output=True, text=True, timeout=60, check=True)
        self.assertEqual(done.stdout.splitlines(), [f"{number} OSError" for number in range(4, 9)])
        self.assertEqual(Spool(self.folder, 10**9).waiting, 4)
        self.assertEqual(resource.getrlimit(resource.RLIMIT_FSIZE)[0], resource.RLIM_INFINITY)

    def test_a_portion_is_read_whole_though_its_segment_was_written_again(self) -> None:
        spool = Spool(self.folder, 10**9)
        for _ in range(4):
            spool.append([bundle_calls(calls(10, payload=2_000))])
        spool.mark_delivered(self.taken(spool, 1))
        two = self.taken(spool, 50_000)
        spool.most_bytes = 30_000
        with self.assertLogs("lamppost.spool", "WARNING"):
            spool.append([bundle_calls(calls(10))])
        self.assertEqual([(frame.number, frame.kind, len(frame.calls)) for frame in two.read_frames()], [(2, "bare", 10), (3, "bare", 10)])
        spool.mark_delivered(two)
        self.assertEqual([frame.number for frame in self.drain(spool)], [4, 5])
        self.assertEqual(spool.waiting, 0)

    def test_of_a_damaged_portion_what_is_whole_is_read(self) -> None:
        spool = Spool(self.folder, 10**9)
        for _ in range(3):
            spool.append([bundle_calls(calls(2))])
        portion = self.taken(spool, 10**9)
        (path,) = self.files()
        whole = path.read_bytes()
        path.write_bytes(whole[:-300] + b"?" + whole[-299:])
        self.assertEqual((portion.calls, [frame.number for frame in portion.read_frames()]), (6, [1, 2]))


class Calls(unittest.TestCase):
    def test_they_come_back_from_bytes_as_they_went(self) -> None:
        first, second = calls(2)
        several = [
            first._replace(input=None, trace="00-" + "0" * 32 + "-" + "1" * 16 + "-01"),
            second._replace(answer=b"", version=None, batch_rows=None, shadow=True, endpoint="lämp\n", at=1_790_000_000.123456),
            first._replace(input=b"\x00\xff no text", status=400),
        ]
        self.assertEqual(unpack_calls(pack_calls(several)), several)
        self.assertEqual(unpack_calls(pack_calls([])), [])

    def test_they_come_back_from_earlier_lines_as_they_went(self) -> None:
        (call,) = calls(1)
        call = call._replace(input=b'"a\tb\\n\\\\ \\t"', trace="00-" + "ab" * 16)
        self.assertEqual(read_copy_lines(earlier_line(call)), [call])

    def test_a_call_without_payload_counts_as_before(self) -> None:
        whole = calls(2)
        bare = strip_payloads(whole)
        self.assertEqual([call[:10] for call in bare], [call[:10] for call in whole])
        self.assertTrue(all((call.input, call.answer) == (None, None) for call in bare))
        self.assertEqual(count_calls(bare), count_calls(whole))
        self.assertEqual(read_counts(write_counts(count_calls(whole))), count_calls(whole))
