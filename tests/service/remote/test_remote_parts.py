"""A remote part against a stand-in for the other service: what goes together, what is tried again, and what an answer must be."""

import asyncio
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import grpc
import numpy as np
import orjson

from lamppost.core.endpoint.remote_endpoints import RemoteAddress, RemoteDescription, write_description
from lamppost.core.errors import DeadlinePassed, InvalidRows, LampPostError, LaneFull, ModelFault, Unavailable
from lamppost.core.schema.columns import Column, column_texts
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.lane_options import LaneAnswer, RequestOptions
from lamppost.service.grpc import predict_pb2 as pb
from lamppost.service.remote.connections import MOST_ANSWER_BYTES, RemoteConnections
from lamppost.service.remote.hops import Hop
from lamppost.service.remote.remote_part import RemoteEndpoint, RemotePart
from lamppost.service.service_addresses import ServiceAddresses
from tests.support.service import eventually, free_port

INPUTS = Schema((Field("x", "number", missing=True), Field("kind", "choice", choices=("led", "gas"))))
ANSWERS = Schema((Field("y", "number"), Field("label", "choice", choices=("holds", "fails"))))
PROMISED = RemoteDescription("net@1", 1, INPUTS, ANSWERS, Schema((Field("k", "number", default=1.0),)))
HOP = Hop(None, ("me/x",))


class StandIn:
    """A node that answers y = 2 x, or what a test wants. calls : the messages that came, with their metadata."""

    def __init__(self, port: int) -> None:
        self.port = port
        self.calls: list[tuple[pb.PredictRequest, dict[str, str]]] = []
        self.gate = asyncio.Event()
        self.gate.set()
        self.refuse: Callable[[pb.PredictRequest], tuple[grpc.StatusCode, dict[str, Any]] | None] = lambda _: None
        self.answer = self.doubled
        self.server: grpc.aio.Server | None = None

    async def start(self) -> None:
        handlers = {
            "Predict": grpc.unary_unary_rpc_method_handler(self.predict, pb.PredictRequest.FromString, pb.PredictReply.SerializeToString),
            "Describe": grpc.unary_unary_rpc_method_handler(
                self.describe, pb.DescribeRequest.FromString, pb.DescribeReply.SerializeToString
            ),
        }
        self.server = grpc.aio.server(options=[("grpc.max_receive_message_length", -1)])
        self.server.add_generic_rpc_handlers((grpc.method_handlers_generic_handler("lamppost.v1.Prediction", handlers),))
        self.server.add_insecure_port(f"127.0.0.1:{self.port}")
        await self.server.start()

    async def stop(self) -> None:
        if self.server is not None:
            await self.server.stop(None)
            self.server = None

    async def predict(self, message: pb.PredictRequest, context: Any) -> pb.PredictReply:
        self.calls.append((message, dict(context.invocation_metadata())))
        await self.gate.wait()
        if (refused := self.refuse(message)) is not None:
            code, problem = refused
            await context.abort(code, problem["detail"], (("problem-bin", orjson.dumps(problem)),))
        return self.answer(message)

    async def describe(self, _: pb.DescribeRequest, __: Any) -> pb.DescribeReply:
        await self.gate.wait()
        return pb.DescribeReply(version="net@1", revision=1, description=orjson.dumps(write_description(PROMISED)))

    @staticmethod
    def doubled(message: pb.PredictRequest) -> pb.PredictReply:
        values = list(message.columns.columns[0].numbers.values)
        columns = [
            pb.Column(name="label", texts=pb.Texts(values=["fails" if value > 5 else "holds" for value in values])),
            pb.Column(name="y", numbers=pb.Numbers(values=[2 * value for value in values])),
        ]
        return pb.PredictReply(version="net@1", columns=pb.Columns(columns=columns))


class RemoteParts(unittest.IsolatedAsyncioTestCase):
    async def asyncSetUp(self) -> None:
        self.nodes = [StandIn(free_port()), StandIn(free_port())]
        await self.nodes[0].start()
        self.addAsyncCleanup(self.nodes[0].stop)
        self.addAsyncCleanup(self.nodes[1].stop)

    def part(self, nodes: int = 1, promised: RemoteDescription = PROMISED, **more: Any) -> RemotePart:
        targets = tuple(f"127.0.0.1:{node.port}" for node in self.nodes[:nodes])
        connections = RemoteConnections("models", ServiceAddresses(targets, **more))
        self.addAsyncCleanup(connections.close)
        return RemotePart(RemoteEndpoint(connections, RemoteAddress("models", "net")), promised)

    @staticmethod
    async def ask(part: RemotePart, *values: float | None, k: float = 1.0, **terms: Any) -> LaneAnswer:
        rows = [{"x": value, "kind": "gas", "k": k} for value in values]
        return await part.predict(rows, RequestOptions(**terms), HOP)

    def told(self, answer: LaneAnswer) -> list[float]:
        assert answer.columns is not None
        return np.asarray(answer.columns[0].values).tolist()

    async def test_an_answer_comes_in_the_order_of_the_schema_whatever_the_order_of_the_message(self) -> None:
        answer = await self.ask(self.part(), 1.0, 4.0)
        self.assertEqual(self.told(answer), [2.0, 8.0])
        assert answer.columns is not None
        self.assertEqual(column_texts(ANSWERS.fields[1], answer.columns[1]), ["holds", "holds"])
        message, metadata = self.nodes[0].calls[0]
        self.assertEqual((message.endpoint, metadata["lamppost-passed"], message.options["k"].number), ("net", "me/x", 1.0))
        self.assertEqual(list(message.columns.columns[1].texts.values), ["gas", "gas"])

    async def test_what_comes_while_calls_are_out_goes_together_by_its_options(self) -> None:
        part, node = self.part(), self.nodes[0]
        node.gate.clear()
        asked = [asyncio.ensure_future(self.ask(part, float(at), k=1.0 if at % 3 else 2.0)) for at in range(60)]
        await eventually(lambda: len(node.calls) == 4)
        node.gate.set()
        answers = await asyncio.gather(*asked)
        self.assertEqual([self.told(answer) for answer in answers], [[2.0 * at] for at in range(60)])
        self.assertLess(len(node.calls), 12)
        for message, _ in node.calls:
            values = list(message.columns.columns[0].numbers.values)
            self.assertEqual({1.0 if value % 3 else 2.0 for value in values}, {message.options["k"].number})

    async def test_a_row_that_is_refused_there_is_the_fault_of_its_own_call(self) -> None:
        part, node = self.part(), self.nodes[0]

        def refuse(message: pb.PredictRequest) -> tuple[grpc.StatusCode, dict[str, Any]] | None:
            values = list(message.columns.columns[0].numbers.values)
            fault = {"row": values.index(13.0), "field": "x", "given": "13", "expected": "less"} if 13.0 in values else None
            return (grpc.StatusCode.INVALID_ARGUMENT, {"detail": "row, x: 13", "faults": [fault]}) if fault else None

        node.refuse = refuse
        node.gate.clear()
        asked = [asyncio.ensure_future(self.ask(part, float(at))) for at in range(20)]
        await eventually(lambda: len(node.calls) == 4)
        node.gate.set()
        ended = await asyncio.gather(*asked, return_exceptions=True)
        self.assertIsInstance(ended[13], InvalidRows)
        self.assertEqual(ended[13].extra["faults"][0]["row"], 0)  # type: ignore[union-attr]
        self.assertEqual([at for at, one in enumerate(ended) if not isinstance(one, LaneAnswer)], [13])

    async def test_of_a_fault_only_what_a_fault_has_is_read(self) -> None:
        part, node = self.part(), self.nodes[0]
        odd = [
            {"row": "zero", "field": ["x"], "given": "g" * 900, "more": {"a": 1}},
            7,
            {"row": True},
            {"row": 0, "field": "x", "expected": "y"},
        ]
        node.refuse = lambda _: (grpc.StatusCode.INVALID_ARGUMENT, {"detail": "d" * 3_000, "faults": odd})
        with self.assertRaises(InvalidRows) as caught:
            await self.ask(part, 1.0)
        first, *others = caught.exception.extra["faults"]
        self.assertEqual((first, len(caught.exception.detail)), ({"field": "['x']", "given": "g" * 200, "expected": ""}, 1_000))
        self.assertEqual(others, [{"given": "", "expected": ""}, {"row": 0, "field": "x", "given": "", "expected": "y"}])

    async def test_an_answer_that_is_larger_than_any_body_is_not_taken(self) -> None:
        part, node = self.part(), self.nodes[0]
        large = pb.Columns(columns=[pb.Column(name="label", texts=pb.Texts(values=["x" * (MOST_ANSWER_BYTES + 1)]))])
        node.answer = lambda _: pb.PredictReply(columns=large)  # type: ignore[method-assign]
        with self.assertRaisesRegex(LampPostError, "models"):
            await self.ask(part, 1.0)

    async def test_another_node_is_tried_once_and_a_node_comes_back(self) -> None:
        part = self.part(nodes=2)  # the second of which is not there
        for at in range(6):
            self.assertEqual(self.told(await self.ask(part, float(at))), [2.0 * at])
        await self.nodes[1].start()
        await self.nodes[0].stop()
        told: list[float] = []
        until = asyncio.get_running_loop().time() + 20
        while not told:  # a connection that could not be made is made anew after a moment
            try:
                told = self.told(await self.ask(part, 3.0))
            except Unavailable:
                self.assertLess(asyncio.get_running_loop().time(), until)
                await asyncio.sleep(0.1)
        self.assertEqual(told, [6.0])
        await self.nodes[1].stop()
        with self.assertRaisesRegex(Unavailable, "models cannot answer"):
            await self.ask(part, 1.0)
        self.assertEqual(part.condition.state, "down")

    async def test_what_a_slow_node_promises_is_asked_of_another_one(self) -> None:
        await self.nodes[1].start()
        self.nodes[0].gate.clear()
        connections = self.part(nodes=2)._endpoint.connections
        for _ in range(4):  # whichever is asked first
            message = pb.DescribeRequest(endpoint="net")
            reply = await connections.ask("Describe", message, 20.0, most_s=0.2)
            self.assertEqual(reply.version, "net@1")
        with self.assertRaises(DeadlinePassed):
            self.nodes[1].gate.clear()
            await connections.ask("Describe", message, 20.0, most_s=0.2)

    async def test_what_is_no_answer_of_the_promised_schema_is_a_fault_of_the_model(self) -> None:
        part, node = self.part(), self.nodes[0]
        good = node.doubled(pb.PredictRequest(columns=pb.Columns(columns=[pb.Column(name="x", numbers=pb.Numbers(values=[1.0]))])))

        def without(name: str) -> pb.Columns:
            return pb.Columns(columns=[column for column in good.columns.columns if column.name != name])

        def with_y(column: pb.Column) -> pb.Columns:
            return pb.Columns(columns=[*without("y").columns, column])

        for columns, said in (
            (without("y"), "the answer has no y"),
            (with_y(pb.Column(name="y", numbers=pb.Numbers(values=[1.0, 2.0]))), "2 values of y for 1 rows"),
            (with_y(pb.Column(name="y", numbers=pb.Numbers(values=[float("nan")]))), "no finite number for y"),
            (with_y(pb.Column(name="y", texts=pb.Texts(values=["1"]))), "the values of y in the answer are not a number"),
            (with_y(pb.Column(name="y")), "the values of y in the answer are not a number"),
            (
                pb.Columns(columns=[*without("label").columns, pb.Column(name="label", texts=pb.Texts(values=["bends"]))]),
                "a label that is not one of holds, fails",
            ),
        ):
            reply = pb.PredictReply(version="net@1", columns=columns)
            node.answer = lambda _, reply=reply: reply  # type: ignore[misc]
            with self.subTest(said), self.assertRaisesRegex(ModelFault, f"grpc://models/net: .*{said}"):
                await self.ask(part, 1.0)

    async def test_whoever_waits_has_a_deadline_and_whoever_left_is_not_asked_for(self) -> None:
        part, node = self.part(), self.nodes[0]
        node.gate.clear()
        loop = asyncio.get_running_loop()
        first = [asyncio.ensure_future(self.ask(part, 1.0)) for _ in range(4)]
        await eventually(lambda: len(node.calls) == 4)
        with self.assertRaisesRegex(DeadlinePassed, "sooner than grpc://models/net gave it"):
            await self.ask(part, 2.0, deadline=loop.time() + 0.05)
        left = asyncio.ensure_future(self.ask(part, 3.0, is_abandoned=lambda: True))
        cancelled = asyncio.ensure_future(self.ask(part, 4.0))
        await asyncio.sleep(0.01)
        cancelled.cancel()
        node.gate.set()
        await asyncio.gather(*first)
        with self.assertRaises(asyncio.CancelledError):
            await left
        await self.ask(part, 5.0)
        asked = {value for message, _ in node.calls for value in message.columns.columns[0].numbers.values}
        self.assertEqual(asked, {1.0, 5.0})

    async def test_rows_that_wait_are_bounded_and_large_calls_go_alone(self) -> None:
        part, node = self.part(), self.nodes[0]
        node.gate.clear()
        many = [float(at) for at in range(15_000)]
        first = asyncio.ensure_future(self.ask(part, *many))
        out = [asyncio.ensure_future(self.ask(part, 1.0)) for _ in range(3)]
        await eventually(lambda: len(node.calls) == 4)
        waiting = asyncio.ensure_future(self.ask(part, *many))
        await asyncio.sleep(0)
        with self.assertRaisesRegex(LaneFull, "15,000 rows wait for grpc://models/net already"):
            await self.ask(part, *many[:6_000])
        node.gate.set()
        self.assertEqual(self.told(await first), [2 * value for value in many])
        self.assertEqual(len(self.told(await waiting)), 15_000)
        await asyncio.gather(*out)

    async def test_a_call_that_is_too_large_for_a_message_goes_in_pieces(self) -> None:
        grid = Schema((Field("x", "number"), Field("grid", "tensor", shape=(64, 64))))
        part, node = self.part(promised=RemoteDescription("net@1", 1, grid, ANSWERS)), self.nodes[0]
        rows = [{"x": float(at), "grid": np.full((64, 64), at)} for at in range(300)]
        answer = await part.predict(rows, RequestOptions(), HOP)
        self.assertEqual(self.told(answer), [2.0 * at for at in range(300)])
        sizes = [(len(message.columns.columns[0].numbers.values), message.ByteSize()) for message, _ in node.calls]
        self.assertEqual((sum(count for count, _ in sizes), len(sizes)), (300, 3))
        self.assertLess(max(size for _, size in sizes), 5 * 2**20)

        def refuse(message: pb.PredictRequest) -> tuple[grpc.StatusCode, dict[str, Any]] | None:
            values = list(message.columns.columns[0].numbers.values)
            fault = {"row": values.index(200.0) if 200.0 in values else 0, "field": "x", "given": "200", "expected": "less"}
            return (grpc.StatusCode.INVALID_ARGUMENT, {"detail": "no", "faults": [fault]}) if 200.0 in values else None

        node.refuse = refuse
        with self.assertRaisesRegex(InvalidRows, "row 200, x: given 200, expected less"):
            await part.predict(rows, RequestOptions(), HOP)

    async def test_a_token_is_read_again_once_it_is_refused(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        token = Path(folder.name) / "token"
        token.write_text("former\n")
        part, node = self.part(token_file=token), self.nodes[0]
        accepted = {"former"}

        def refuse(_: pb.PredictRequest) -> tuple[grpc.StatusCode, dict[str, Any]] | None:
            sent = node.calls[-1][1]["authorization"].removeprefix("Bearer ")
            return None if sent in accepted else (grpc.StatusCode.UNAUTHENTICATED, {"detail": "the token is unknown"})

        node.refuse = refuse
        await self.ask(part, 1.0)
        accepted = {"later"}
        token.write_text("later")
        with self.assertRaisesRegex(Unavailable, "models does not let this service in .the token is unknown.; the operator"):
            await self.ask(part, 1.0)
        self.assertEqual(self.told(await self.ask(part, 1.0)), [2.0])
        token.unlink()
        accepted = {"none"}
        with self.assertRaises(Unavailable):
            await self.ask(part, 1.0)
        with self.assertRaisesRegex(Unavailable, "the token for models cannot be read from .*: No such file"):
            await self.ask(part, 1.0)


class Kinds(unittest.TestCase):
    def test_every_kind_of_answer_is_read_as_it_was_written(self) -> None:
        from lamppost.core.schema.columns import column_from_values, json_values
        from lamppost.service.grpc.columns import read_answer_columns, write_columns

        fields = (
            (Field("number", "number", missing=True), [1.5, None]),
            (Field("integer", "integer", missing=True), [None, 2**62]),
            (Field("yes", "yes/no", missing=True), [True, None]),
            (Field("text", "text", missing=True), [None, "ü"]),
            (Field("choice", "choice", choices=("a", "b"), unseen="accept"), ["b", "c"]),
            (Field("time", "time", missing=True), ["2026-11-29T10:00:00Z", None]),
            (Field("scores", "vector", choices=("a", "b")), [{"a": 0.25, "b": 0.75}, {"a": 1.0, "b": 0.0}]),
            (Field("grid", "tensor", shape=(2, 2)), [[[1.0, 2.0], [3.0, 4.0]], [[0.0, 0.5], [0.25, 1e300]]]),
            (Field("steps", "tensor", shape=(0,), elements="integer"), [[1, 2, 3], [2**53 + 1]]),
        )
        schema = Schema(tuple(field for field, _ in fields))
        columns = [column_from_values(field, values) for field, values in fields]
        message = pb.Columns.FromString(write_columns(schema, columns).SerializeToString())
        turned = pb.Columns(columns=list(reversed(message.columns)))
        for (field, values), column in zip(fields, read_answer_columns(schema, turned, 2), strict=True):
            with self.subTest(field.name):
                self.assertIsInstance(column, Column)
                self.assertEqual(json_values(field, column), values)
