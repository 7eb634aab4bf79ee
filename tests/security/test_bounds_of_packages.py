"""Packages that are small and ask for much: each is refused with the bound that it breaks, before anything is built from it."""

import base64
import io
import tempfile
import time
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

import orjson
from PIL import Image

from lamppost.core.artifact.proof import Tolerance, read_proof
from lamppost.core.errors import ModelFault, PackageRefused, TooManyRows
from lamppost.core.limits import MAX_MANIFEST_BYTES
from lamppost.core.names import closest_name
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import Column, array_for_step
from lamppost.core.schema.fields import Field, Schema
from lamppost.package.read import read_lamp
from tests.support.hostile import changed_lamp
from tests.support.lamps import outage_lamp
from tests.support.service import WithService

Change = Callable[[dict[str, Any]], object]


def nested(levels: int) -> Any:
    """Lists within each other."""
    value: Any = 1
    for _ in range(levels):
        value = [value]
    return value


def fields_of(manifest: dict[str, Any]) -> list[dict[str, Any]]:
    return list(manifest["inputs"]["fields"])


def add_fields(manifest: dict[str, Any], fields: list[dict[str, Any]]) -> None:
    manifest["inputs"]["fields"] = fields_of(manifest) + fields


def tensor_of(axes: int) -> Change:
    return lambda manifest: add_fields(manifest, [{"name": "deep", "kind": "tensor", "shape": [1] * axes}])


HOSTILE: dict[str, tuple[Change, str]] = {
    "100,000 axes": (tensor_of(100_000), "100,000 axes; 8 are allowed"),
    "9 axes": (tensor_of(9), "9 axes; 8 are allowed"),
    "2,001 fields": (
        lambda manifest: add_fields(manifest, [{"name": f"f{at}", "kind": "number"} for at in range(2_001 - len(fields_of(manifest)))]),
        "2,001 fields; 2,000 are allowed",
    ),
    "10,001 choices": (
        lambda manifest: add_fields(manifest, [{"name": "c", "kind": "choice", "choices": [str(at) for at in range(10_001)]}]),
        "10,001 choices; 10,000 are allowed",
    ),
    "65 steps": (lambda manifest: manifest.update(steps=manifest["steps"] * 65), "65 steps; 64 are allowed"),
    "a deep example": (lambda manifest: fields_of(manifest)[0].update(example=nested(33)), "deeper than 32 levels"),
    "a deep note": (lambda manifest: manifest["provenance"].update(notes=nested(200)), "deeper than 32 levels"),
    "NUL in a note": (lambda manifest: manifest["provenance"].update(notes="a\0b"), "the character NUL"),
    "a terminal's escape in a name": (
        lambda manifest: add_fields(manifest, [{"name": "a\x1b[2J", "kind": "number"}]),
        "no control characters",
    ),
    "a manifest of 5 MB": (lambda manifest: manifest["provenance"].update(notes="x" * 5_000_000), f"over {MAX_MANIFEST_BYTES:,} bytes"),
}


class Bounds(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_each_bound_is_named(self) -> None:
        for name, (change, said) in HOSTILE.items():
            with self.subTest(name), self.assertRaises(PackageRefused) as caught:
                read_lamp(changed_lamp(outage_lamp(), self.folder / "hostile.lamp", change))
            self.assertIn(said, caught.exception.detail, name)

    def test_duplicates_among_thousands_of_fields_are_found_at_once(self) -> None:
        def double(manifest: dict[str, Any]) -> None:
            add_fields(manifest, [{"name": f"f{at % 990}", "kind": "number"} for at in range(1_980)])

        path = changed_lamp(outage_lamp(), self.folder / "hostile.lamp", double)
        start = time.process_time()
        with self.assertRaises(PackageRefused) as caught:
            read_lamp(path)
        self.assertIn("stand twice", caught.exception.detail)
        self.assertLess(time.process_time() - start, 2.0)

    def test_a_proof_that_cannot_fail_is_none(self) -> None:
        for absolute, relative in ((float("nan"), 0.0), (float("inf"), 0.0), (-1.0, 0.0), (0.0, 0.2), (0.0, float("nan"))):
            with self.subTest(absolute=absolute, relative=relative), self.assertRaises(PackageRefused):
                Tolerance(absolute, relative)
        proof = {"rows": [{"x": 1}], "answers": [{"y": 5.0}], "tolerance": {"absolute": 1e308, "relative": 0.0}}
        with self.assertRaises(PackageRefused) as caught:
            read_proof(orjson.dumps(proof))
        self.assertIn("its largest answer is 5", caught.exception.detail)
        with self.assertRaises(PackageRefused):
            read_proof(orjson.dumps(proof).replace(b"1e308", b"NaN").replace(b"1e+308", b"NaN"))

    def test_a_likeness_is_not_looked_for_at_any_price(self) -> None:
        self.assertEqual(closest_name("lampe", ["lamp", "pole"]), "lamp")
        start = time.process_time()
        self.assertIsNone(closest_name("x" * 200, ["y" * 200] * 2_000))
        self.assertLess(time.process_time() - start, 0.5)


class Pictures(unittest.TestCase):
    """A black picture of sixteen million pixels has some kilobytes."""

    def setUp(self) -> None:
        buffer = io.BytesIO()
        Image.new("RGB", (4_096, 4_096)).save(buffer, "PNG")
        self.black = buffer.getvalue()
        self.field = Field("photo", "image")

    def test_pixels_of_a_request_are_bounded(self) -> None:
        self.assertLess(len(self.black), 100_000)
        photo = base64.b64encode(self.black).decode()
        plan = ValidationPlan(Schema((self.field,)))
        self.assertEqual(len(plan.read_body(orjson.dumps({"rows": [{"photo": photo}] * 8})).rows), 8)
        start = time.process_time()
        with self.assertRaises(TooManyRows) as caught:
            plan.read_body(orjson.dumps({"rows": [{"photo": photo}] * 60}))
        self.assertIn("134,217,728 pixels in all", caught.exception.detail)
        self.assertLess(time.process_time() - start, 2.0)

    def test_pixels_that_are_decoded_at_once_are_bounded(self) -> None:
        with self.assertRaises(ModelFault):
            array_for_step(self.field, Column([self.black] * 5))


class Pushed(WithService):
    def test_a_hostile_package_does_not_end_the_service(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for name in ("100,000 axes", "2,001 fields"):
            change, said = HOSTILE[name]
            body = changed_lamp(outage_lamp(), folder / "hostile.lamp", change).read_bytes()
            refused = self.service.post("/api/packages", body, content_type="application/zip")
            self.assertEqual(refused.status_code, 422, name)
            self.assertIn(said, refused.json()["detail"])

    def test_the_widest_package_that_is_allowed_is_served_without_holding_up_others(self) -> None:
        def widen(manifest: dict[str, Any]) -> None:
            add_fields(manifest, [{"name": f"more-{at}", "kind": "number", "missing": True} for at in range(1_980)])

        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        path = changed_lamp(outage_lamp(), folder / "wide.lamp", widen)
        with self.service.client() as client:
            version = client.push(path, "wide")["version"]
            client.point("wide", version)
            self.assertEqual(client.fetch("GET", "/api/endpoints/wide")["state"], "serving")
            self.assertIn("/predict/wide", client.fetch("GET", "/openapi.json")["paths"])
