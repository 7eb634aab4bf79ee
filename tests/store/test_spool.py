"""The spool alone: what a crash, a full disk and its bound leave of it."""

import resource
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from uuid import uuid4

from lamppost.store.lines import Call, count, counts_of, lines_of, read_counts, without_payload
from lamppost.store.spool import FIRST_LINE, Frame, Spool


def calls(number: int, payload: int = 100) -> bytes:
    body = b'"' + b"x" * payload + b'"'
    at = 1_790_000_000.25
    return lines_of(Call(at + n, str(uuid4()), "lamps\t\\", "lamps@1", None, 200, 1, 1, 1_000, b"{}", body, body) for n in range(number))


class Spools(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lamppost-spool-")
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def files(self) -> list[Path]:
        return sorted(self.folder.glob("*.spool"))

    def drain(self, spool: Spool) -> list[Frame]:
        out: list[Frame] = []
        while frames := spool.take(1):
            out += frames
            spool.done(frames)
        return out

    def test_what_is_appended_comes_back_in_order_and_then_the_files_go(self) -> None:
        spool = Spool(self.folder, 10**9)
        payloads = [calls(3), calls(1), calls(2)]
        for payload in payloads:
            spool.append(payload)
        self.assertEqual(spool.waiting, 6)
        again = Spool(self.folder, 10**9)
        self.assertEqual(again.waiting, 6, "another start finds them")
        self.assertEqual([(frame.number, frame.payload) for frame in self.drain(again)], list(enumerate(payloads, 1)))
        self.assertEqual((again.waiting, self.files()), (0, []))

    def test_what_earlier_software_left_is_read(self) -> None:
        spool, payload = Spool(self.folder, 10**9), calls(3)
        spool.append(payload.replace(b'\t\\N\t"', b'\t"'))  # without the column for the trace
        spool.sync()
        (path,) = self.files()
        path.write_bytes(path.read_bytes().replace(FIRST_LINE, b"lamppost spool 1\n"))
        again = Spool(self.folder, 10**9)
        self.assertEqual([(frame.kind, frame.payload) for frame in again.take(10**6)], [("calls", payload)])

    def test_a_torn_or_damaged_frame_is_cut_off_and_what_stands_before_it_is_kept(self) -> None:
        spool = Spool(self.folder, 10**9)
        for _ in range(3):
            spool.append(calls(2))
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
                spool.append(calls(50, payload=500))
        self.assertLessEqual(spool.size, 2_000_000)
        self.assertGreater(spool.payloads_given_up, 0)
        self.assertEqual((spool.calls_given_up, spool.waiting), (0, 3_000))
        with self.assertLogs("lamppost.spool", "WARNING"):
            spool.most_bytes = 100_000
            spool.append(calls(50))
        self.assertLessEqual(spool.size, 100_000)
        self.assertGreater(spool.calls_given_up, 0)
        self.assertEqual(Spool(self.folder, 10**9).waiting, 3_050)
        counted = sum(sum((read_counts(f.payload) if f.kind == "counts" else count(f.payload)).values()) for f in self.drain(spool))
        self.assertEqual(counted, 3_050)

    def test_what_was_done_is_not_given_again_after_the_bound_was_met(self) -> None:
        spool = Spool(self.folder, 10**9)
        for _ in range(4):
            spool.append(calls(10, payload=2_000))
        spool.done(spool.take(1))
        spool.most_bytes = 30_000
        with self.assertLogs("lamppost.spool", "WARNING"):
            spool.append(calls(10))
        self.assertEqual([frame.number for frame in self.drain(spool)], [2, 3, 4, 5])

    def test_a_full_disk_keeps_no_half_a_frame(self) -> None:
        code = (
            "import sys, resource, signal; from pathlib import Path; from lamppost.store.spool import Spool\n"
            "signal.signal(signal.SIGXFSZ, signal.SIG_IGN); resource.setrlimit(resource.RLIMIT_FSIZE, (5_000, 5_000))\n"
            "spool = Spool(Path(sys.argv[1]), 10**9)\n"
            "for number in range(9):\n"
            "    try: spool.append(b'x' * 999 + b'\\n')\n"
            "    except OSError as error: print(number, type(error).__name__)\n"
        )
        done = subprocess.run([sys.executable, "-c", code, str(self.folder)], capture_output=True, text=True, timeout=60, check=True)
        self.assertEqual(done.stdout.splitlines(), [f"{number} OSError" for number in range(4, 9)])
        self.assertEqual(Spool(self.folder, 10**9).waiting, 4)
        self.assertEqual(resource.getrlimit(resource.RLIMIT_FSIZE)[0], resource.RLIM_INFINITY)


class Lines(unittest.TestCase):
    def test_a_call_without_payload_is_the_same_call(self) -> None:
        lines = calls(2)
        bare = without_payload(lines)
        self.assertEqual([line.split(b"\t")[:11] for line in bare.splitlines()], [line.split(b"\t")[:11] for line in lines.splitlines()])
        self.assertTrue(all(line.split(b"\t")[12:] == [b"\\N", b"\\N"] for line in bare.splitlines()))
        self.assertEqual(count(bare), count(lines))
        self.assertEqual(read_counts(counts_of(lines)), count(lines))
        self.assertEqual({kind.endpoint for kind in count(lines)}, {"lamps\\t\\\\"}, "as COPY writes it; names of endpoints have neither")
