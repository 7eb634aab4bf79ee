"""Addresses of remote endpoints, their descriptions, and what may change of them."""

import unittest
from dataclasses import replace

from lamppost.core.endpoint.endpoint_schema import endpoint_schema
from lamppost.core.endpoint.remote_endpoints import (
    MAX_HOPS,
    RemoteDescription,
    broken_promise,
    check_hops,
    is_remote,
    parse_remote,
    read_description,
    write_description,
)
from lamppost.core.endpoint.setup import read_setup, without_findings, write_setup
from lamppost.core.errors import BadRequest, Conflict
from lamppost.core.names import VersionName
from lamppost.core.schema.fields import Field, Schema
from tests.core.endpoint.test_endpoint_schema import manifest

AGE = Field("age", "number", unit="a", low=0, high=40, example=7.0)
KIND = Field("kind", "choice", choices=("led", "sodium"))
EYE = Field("eye", "tensor", shape=(4, 3), low=0, high=1)
LABEL = Field("label", "choice", choices=("fails", "holds"))
THERE = RemoteDescription("net@3", 7, Schema((AGE, KIND, EYE)), Schema((LABEL,)), Schema((Field("k", "number", default=2.0),)))


class Addresses(unittest.TestCase):
    def test_what_is_an_address(self) -> None:
        for text, service, endpoint in (
            ("grpc://models/pole-net", "models", "pole-net"),
            ("grpc://models.internal:8430/pole-net", "models.internal:8430", "pole-net"),
        ):
            self.assertTrue(is_remote(text))
            self.assertEqual((parse_remote(text), str(parse_remote(text))), ((service, endpoint), text))
        for wrong in (
            "grpc://models",
            "grpc:///net",
            "grpc://models/a/b",
            "grpc://models/Net",
            "grpc://models/net?x=1",
            "grpc://-/net",
            f"grpc://{'m' * 64}/net",
        ):
            with self.subTest(wrong), self.assertRaises(BadRequest):
                parse_remote(wrong)
        self.assertFalse(is_remote("net@3"))

    def test_a_call_does_not_come_twice_nor_through_too_many(self) -> None:
        check_hops(["a/x", "b/y"], "a/z", "z")
        with self.assertRaisesRegex(Conflict, "z would ask itself"):
            check_hops(["a/z", "b/y"], "a/z", "z")
        with self.assertRaisesRegex(Conflict, f"{MAX_HOPS} services already"):
            check_hops([f"a/{at}" for at in range(MAX_HOPS)], "a/z", "z")


class Descriptions(unittest.TestCase):
    def test_a_description_is_read_as_it_was_written(self) -> None:
        self.assertEqual(read_description(write_description(THERE), "grpc://models/net"), THERE)
        self.assertEqual(THERE.columns.names, ("age", "kind", "eye", "k"))
        for wrong in (
            b"",
            b"{}",
            b"[1]",
            b'{"version": "x"}',
            {**write_description(THERE), "more": 1},
            {**write_description(THERE), "inputs": 3},
            {**write_description(THERE), "version": "net@3\r\nx: y"},
        ):
            with self.subTest(wrong), self.assertRaisesRegex(Conflict, "what grpc://models/net says of itself cannot be read"):
                read_description(wrong, "grpc://models/net")

    def now(self, *inputs: Field, answers: tuple[Field, ...] = (LABEL,)) -> str | None:
        return broken_promise(THERE, replace(THERE, inputs=Schema(inputs), answers=Schema(answers), version="net@4"))

    def test_what_takes_more_and_answers_the_same_can_stand_in(self) -> None:
        wider = replace(AGE, high=80, missing=True, default=3.0, seen=(1, 2), example=9.0, meaning="x")
        more = replace(KIND, choices=("led", "sodium", "gas"))
        optional = Field("wind", "number", missing=True)
        answers = (replace(LABEL, meaning="how it will be"), Field("score", "number"))
        self.assertIsNone(self.now(optional, EYE, wider, more, answers=answers))
        self.assertIsNone(self.now(replace(AGE, low=None), replace(KIND, unseen="accept"), replace(EYE, low=None, high=2)))

    def test_what_takes_less_or_answers_otherwise_cannot(self) -> None:
        said = {
            "it takes 'age' no more": (KIND, EYE),
            "it takes age as a number from 0 to 39": (replace(AGE, high=39), KIND, EYE),
            "it takes age as a number from 1 to 40": (replace(AGE, low=1), KIND, EYE),
            "it takes age as a number from 0 to 40 (m)": (replace(AGE, unit="m"), KIND, EYE),
            "it takes kind as one of led": (AGE, replace(KIND, choices=("led",)), EYE),
            "it takes kind as text": (AGE, Field("kind", "text"), EYE),
            "it takes eye as lists of numbers, 3×4": (AGE, KIND, replace(EYE, shape=(3, 4))),
            "it demands 'wind'": (AGE, KIND, EYE, Field("wind", "number")),
        }
        for reason, inputs in said.items():
            with self.subTest(reason):
                self.assertTrue((self.now(*inputs) or "").startswith(reason), self.now(*inputs))
        self.assertIn("it answers 'label' no more", self.now(AGE, KIND, EYE, answers=(replace(LABEL, name="state"),)) or "")
        turned = (replace(LABEL, choices=("holds", "fails")),)
        self.assertIn("it answers label as one of holds, fails", self.now(AGE, KIND, EYE, answers=turned) or "")


class RemoteParts(unittest.TestCase):
    SETUP = read_setup({"together": {"parts": {"eye": "eye@1"}, "combine": "grpc://models/net"}})

    def test_versions_are_those_of_this_service(self) -> None:
        self.assertEqual(self.SETUP.versions, (VersionName("eye", 1),))
        self.assertEqual(self.SETUP.summary(), "grpc://models/net over eye@1")
        replaced = self.SETUP.with_replaced(VersionName("eye", 1), VersionName("eye", 2))
        self.assertEqual(replaced.summary(), "grpc://models/net over eye@2")
        with self.assertRaisesRegex(BadRequest, "all parts are remote"):
            read_setup({"together": {"parts": {"a": "grpc://models/a"}, "combine": "grpc://models/net"}})
        many = {f"p{at}": f"grpc://models/net-{at}" for at in range(7)}
        with self.assertRaisesRegex(BadRequest, "may have 6 remote parts, this one has 7"):
            read_setup({"together": {"parts": many, "combine": "eye@1"}})
        with self.assertRaisesRegex(BadRequest, "no address of a remote endpoint"):
            read_setup({"together": {"parts": {"a": "eye@1"}, "combine": "grpc://models"}})

    def test_the_promise_is_made_of_what_was_described(self) -> None:
        eye = manifest("eye", Field("photo", "image"), answers=(EYE,))
        with self.assertRaisesRegex(Conflict, "what grpc://models/net answers was not asked yet"):
            endpoint_schema(self.SETUP, {"eye@1": eye})
        assert self.SETUP.together is not None
        described = replace(self.SETUP.together, described={"grpc://models/net": write_description(THERE)})
        setup = read_setup(write_setup(replace(self.SETUP, together=described)))
        promise = endpoint_schema(setup, {"eye@1": eye})
        self.assertEqual((promise.inputs.names, promise.answers.names), (("photo", "age", "kind"), ("label",)))
        self.assertEqual(promise.options, THERE.options)
        self.assertEqual(write_setup(without_findings(setup)), write_setup(self.SETUP))
        flat = manifest("eye", Field("photo", "image"), answers=(replace(EYE, shape=(12,)),))
        with self.assertRaisesRegex(
            Conflict, "grpc://models/net takes eye as lists of numbers, 4×3 from 0 to 1, and the part gives lists of numbers, 12"
        ):
            endpoint_schema(setup, {"eye@1": flat})
