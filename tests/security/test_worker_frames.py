"""What a worker sends is checked against what it was asked, and bounded by it."""

import asyncio
import unittest
from typing import Any
from unittest import mock

import orjson

from lamppost.core.errors import InvalidRows, LampPostError, ModelFault, Unavailable
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.lane_frames import MAX_FRAME_BYTES, LaneFrames, reported_error
from lamppost.runtime.wire import HEAD, pack_frame
from lamppost.runtime.worker_process import SHORT_REPLY_BYTES, WorkerGone, _Protocol

COLUMNS = Schema((Field("x", "number"),))
ANSWERS = Schema((Field("label", "choice", choices=("a", "b")), Field("note", "text"), Field("y", "number")))


class Reported(unittest.TestCase):
    def test_faults_of_rows_that_were_not_asked_about_are_left_out(self) -> None:
        good = {"row": 1, "field": "x", "given": "2", "expected": "less"}
        for fault in (
            *({**good, "row": row} for row in (-1, 2, 10**9, "0", 1.0, True, [])),
            {"row": 1},
            {**good, "expected": 7},
            "no fault",
            None,
        ):
            error = reported_error({"code": "invalid-rows", "detail": "x", "faults": [fault, good]}, rows=2)
            self.assertIsInstance(error, InvalidRows)
            self.assertEqual(error.extra["faults"], [good], fault)
        self.assertEqual(reported_error({"code": "invalid-rows", "detail": "x", "faults": {"row": 0}}, 1).extra, {})

    def test_a_worker_reports_its_own_errors_only(self) -> None:
        for code in ("not-signed-in", "too-often", "not-found", "proof-failed", "lane-full", "setup", 7, None, ["invalid-rows"]):
            error = reported_error({"code": code, "detail": "x"})
            self.assertIs(type(error), ModelFault, code)
        self.assertIs(type(reported_error({"code": "unavailable", "detail": "x"})), Unavailable)

    def test_texts_are_bounded(self) -> None:
        fault = {"row": 0, "expected": "x" * 10**6, "given": "y" * 10**6}
        error = reported_error({"code": "invalid-rows", "detail": "z" * 10**6, "faults": [fault] * 10_000}, rows=1)
        self.assertLess(len(orjson.dumps(error.to_problem())), 100_000)
        self.assertEqual(len(reported_error({"detail": {"a": 1}}).detail), len("the worker answered something that it was not asked"))


class Bounded(unittest.TestCase):
    def test_the_bound_follows_from_what_is_asked(self) -> None:
        frames = LaneFrames("m@1", COLUMNS, ANSWERS)
        self.assertLess(frames.most_bytes(1), 200_000)
        self.assertEqual(frames.most_bytes(10**6), MAX_FRAME_BYTES)
        numbers = LaneFrames("m@1", COLUMNS, Schema((Field("y", "number"),)))
        self.assertLess(numbers.most_bytes(10_000), 400_000)

    def test_a_frame_that_announces_more_ends_the_worker_before_its_bytes_are_held(self) -> None:
        for header_bytes, body_bytes in ((100, 10**9), (16 * 2**20, 0), (100, 50_000)):
            protocol, heard = _Protocol(), []
            protocol.connection_made(mock.Mock(spec=asyncio.Transport))
            protocol.open_calls.append((heard.append, 40_000))
            protocol.data_received(HEAD.pack(header_bytes, body_bytes))
            self.assertIsInstance(heard[0], WorkerGone)
            self.assertIn("were asked for at most", str(heard[0]))
            protocol.data_received(b"x" * 1_000)
            self.assertLess(len(protocol._buffer), 2_000)

    def test_a_frame_that_nobody_asked_for_ends_the_worker(self) -> None:
        protocol = _Protocol()
        protocol.connection_made(mock.Mock(spec=asyncio.Transport))
        protocol.data_received(pack_frame({"op": "answers", "parts": []}))
        self.assertIsNotNone(protocol.end_reason)
        self.assertGreater(SHORT_REPLY_BYTES, 1_000)

    def test_whatever_an_answer_holds_it_is_an_answer_or_a_fault(self) -> None:
        frames = LaneFrames("m@1", COLUMNS, ANSWERS)
        body = bytes(64)
        odd: list[Any] = [None, 7, [], {}, [[1, 2]], [[8, 0, ["a"]]] * 3, [["8", 0, []]] * 3, [[-1, 0, []]] * 3, [[8, 10**12, []]] * 3]
        for columns in odd:
            for rows in (0, 1, 2, 10**6):
                with self.subTest(columns=columns, rows=rows), self.assertRaises(LampPostError):
                    frames.read_rows({"op": "answers", "rows": rows, "columns": columns}, body, rows or 1)
