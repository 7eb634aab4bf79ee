"""Calls without a network, the client's file, and foreign errors."""

import asyncio
import os
import stat
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import httpx
import numpy as np
import orjson
import pandas as pd
import pyarrow as pa

import lamppost
from lamppost.client import calls
from lamppost.client.clients import _translated
from lamppost.client.config import Connection, find_connection, keep_token
from lamppost.client.values import Reply, read_timing
from lamppost.core.errors import BadRequest, InvalidRows, LampPostError, ServerUnreachable

ANSWER = orjson.dumps({"answer": {"label": "fails"}, "version": "outage-risk@1", "request_id": "r"})


class Calls(unittest.TestCase):
    def test_one_row_goes_as_an_object_and_many_as_rows(self) -> None:
        request = next(calls.predict("outage-risk", {"x": 1}))
        self.assertEqual((request.method, request.path, request.content), ("POST", "/predict/outage-risk", b'{"x":1}'))
        self.assertEqual(next(calls.predict("a/b", iter([{"x": 1}, {"x": 2}]))).content, b'{"rows":[{"x":1},{"x":2}]}')
        self.assertEqual(next(calls.predict("a/b", {})).path, "/predict/a%2Fb")

    def test_frames_series_tables_and_arrays_are_rows(self) -> None:
        frame = pd.DataFrame({"n": [4, 5], "x": [0.5, np.nan], "at": pd.to_datetime(["2026-05-01", None], utc=True), "flag": [True, False]})
        frame["n"] = frame["n"].astype("Int64")
        rows = [{"n": 4, "x": 0.5, "at": "2026-05-01T00:00:00Z", "flag": True}, {"n": 5, "x": None, "at": None, "flag": False}]
        for given in (frame, pa.Table.from_pandas(frame), frame.to_dict("records")):
            self.assertEqual(orjson.loads(next(calls.predict("a", given)).content), {"rows": rows}, type(given))
        self.assertEqual(orjson.loads(next(calls.predict("a", frame.iloc[0])).content), rows[0])
        named = np.array([(4, 0.5)], dtype=[("n", "i8"), ("x", "f4")])
        self.assertEqual(orjson.loads(next(calls.predict("a", named)).content), {"rows": [{"n": 4, "x": 0.5}]})

    def test_an_infinite_number_is_refused_with_its_row_and_field_and_what_is_no_rows_as_such(self) -> None:
        refused = [
            ([{"x": 1.0}, {"x": np.inf}], "row 1, x: inf is no number"),
            ({"x": np.float32("-inf")}, "x: -inf is no number"),
            ({"x": [[0.0, -np.inf]]}, "x: -inf"),
            ({"x": np.array([0.0, -np.inf])}, "x: inf"),
            (pd.DataFrame({"x": [1.0, np.inf]}), "row 1, x: inf"),
            (np.ones((2, 2)), "an array without names"),
            ("x=1", "str is no rows"),
            ([1], "row 0, int is no row"),
            (pd.DataFrame(np.ones((1, 2)), columns=["x", "x"]), "several columns 'x'"),
        ]
        for rows, sentence in refused:
            with self.assertRaises(BadRequest) as caught:
                next(calls.predict("a", rows))
            self.assertIn(sentence, caught.exception.detail)

    def test_the_reply_becomes_a_prediction(self) -> None:
        call = calls.predict("outage-risk", {"x": 1})
        next(call)
        with self.assertRaises(StopIteration) as done:
            call.send(Reply(200, {"server-timing": "queue;dur=0.5, total;dur=2"}, ANSWER))
        said = done.exception.value
        self.assertEqual((said.answer, said.version, said.timing_ms), ({"label": "fails"}, "outage-risk@1", {"queue": 0.5, "total": 2.0}))

    def test_a_problem_is_raised_as_what_it_is(self) -> None:
        problem = orjson.dumps(InvalidRows("row 0 is wrong", faults=[]).to_problem())
        self.assertRaises(InvalidRows, calls.checked_json, Reply(422, {}, problem))
        with self.assertRaises(LampPostError) as caught:
            calls.checked_json(Reply(500, {}, b"<html>"))
        self.assertIn("is this address a Lamp Post?", caught.exception.detail)
        with self.assertRaises(LampPostError) as caught:
            calls.checked_json(Reply(200, {}, b"<html>"))
        self.assertIn("is no Lamp Post", caught.exception.detail)

    def test_timing_headers_of_others_do_no_harm(self) -> None:
        self.assertEqual(read_timing('cache;desc="hit", db;dur=x, total;dur=1.5'), {"total": 1.5})
        self.assertEqual(read_timing(""), {})


class Configuration(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "deep" / "client.toml"
        patch = mock.patch.dict(os.environ, {"LAMPPOST_CONFIG": str(self.file)})
        patch.start()
        self.addCleanup(patch.stop)

    def test_what_is_given_wins_over_the_environment_and_that_over_the_file(self) -> None:
        self.assertEqual(find_connection(), Connection("http://127.0.0.1:8420", None))
        keep_token("http://127.0.0.1:9000", "lamp_a")
        keep_token("http://127.0.0.1:9001", "lamp_b")
        self.assertEqual(find_connection(), Connection("http://127.0.0.1:9001", "lamp_b"))
        self.assertEqual(find_connection("http://127.0.0.1:9000/"), Connection("http://127.0.0.1:9000", "lamp_a"))
        with mock.patch.dict(os.environ, {"LAMPPOST_ADDRESS": "http://127.0.0.1:9000", "LAMPPOST_TOKEN": "lamp_env"}):
            self.assertEqual(find_connection(), Connection("http://127.0.0.1:9000", "lamp_env"))
            self.assertEqual(find_connection(token="lamp_c").token, "lamp_c")

    def test_the_file_is_for_its_owner_only_and_a_broken_one_is_named(self) -> None:
        keep_token("http://127.0.0.1:9000", "lamp_a")
        self.assertEqual(stat.S_IMODE(self.file.stat().st_mode), 0o600)
        self.file.write_text("tokens = [")
        with self.assertRaises(LampPostError) as caught:
            find_connection()
        self.assertIn(str(self.file), caught.exception.detail)


class Unreachable(unittest.TestCase):
    def test_no_service_at_the_address(self) -> None:
        with lamppost.Client("http://127.0.0.1:9", "t") as client, self.assertRaises(ServerUnreachable) as caught:
            client.fetch("GET", "/health/live")
        self.assertIn("lamppost up", caught.exception.detail)

        async def ask() -> None:
            async with lamppost.AsyncClient("http://127.0.0.1:9", "t") as client:
                await client.predict("outage-risk", {})

        self.assertRaises(ServerUnreachable, asyncio.run, ask())

    def test_every_error_of_the_http_library_becomes_ours(self) -> None:
        kinds = [kind for kind in vars(httpx).values() if isinstance(kind, type) and issubclass(kind, (httpx.HTTPError, httpx.InvalidURL))]
        self.assertGreater(len(kinds), 15)
        for kind in kinds:
            error = kind("x", request=None, response=None) if kind is httpx.HTTPStatusError else kind("x")  # type: ignore[call-arg]
            self.assertIsInstance(_translated(error, "http://nowhere"), ServerUnreachable)
        with lamppost.Client("nonsense", "t") as client:
            self.assertRaises(ServerUnreachable, client.fetch, "GET", "/")
