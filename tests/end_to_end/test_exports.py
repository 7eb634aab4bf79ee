"""Versions exported by the service: in a process that is confined, checked, and refused where there is no such form."""

import tempfile
import unittest
from pathlib import Path

import httpx
import onnx

from lamppost.core.errors import BadRequest
from lamppost.package.read import read_lamp
from lamppost.packing.pack import pack_with_remarks
from lamppost.packing.pmml.document import parse_document
from lamppost.packing.pmml.reading import PmmlDocument
from lamppost.packing.recipe import Recipe
from tests.support import http
from tests.support.lamps import moody_lamp, outage_lamp
from tests.support.models import Moody
from tests.support.pmml import ROWS, TreeGrower, document, reader, write
from tests.support.service import Service


class Exports(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.service.remove)
        with cls.service.client() as client:
            client.push(outage_lamp())
            client.push(moody_lamp("moody", Moody()))

    def export(self, version: str, form: str) -> httpx.Response:
        model, _, number = version.partition("@")
        headers = {"authorization": f"Bearer {self.service.token}"}
        return http.get(
            f"{self.service.address}/api/models/{model}/versions/{number}/export", params={"form": form}, headers=headers, timeout=120
        )

    def test_a_version_as_pmml_and_as_onnx(self) -> None:
        written = self.export("outage-risk@1", "pmml")
        self.assertEqual((written.status_code, written.headers["content-type"]), (200, "application/xml"))
        self.assertGreaterEqual(int(written.headers["rows-checked"]), 2_000)
        self.assertIn("outage-risk-1.pmml", written.headers["content-disposition"])
        self.assertEqual(PmmlDocument(parse_document(written.content)).kind, "MiningModel")
        graph = onnx.load_from_string(self.export("outage-risk@1", "onnx").content)
        self.assertIn("lamppost", [entry.key for entry in graph.metadata_props])

    def test_what_has_no_form_is_refused_with_the_reason(self) -> None:
        refused = self.export("moody@1", "pmml")
        self.assertEqual((refused.status_code, "no compiled graph" in refused.json()["detail"]), (400, True))
        program = self.export("outage-risk@1", "python")
        self.assertEqual(program.status_code, 422)
        self.assertEqual(self.export("outage-risk@9", "pmml").status_code, 404)

    def test_a_pmml_document_is_packed_pushed_and_served(self) -> None:
        content = document(TreeGrower(5, "lastPrediction", last=True).model())
        with tempfile.TemporaryDirectory() as name, self.service.client() as client:
            path = write(Path(name), content)
            pack_with_remarks(path, None, Path(name) / "hours.lamp", Recipe("hours"), show_stages=False)
            self.assertTrue(read_lamp(Path(name) / "hours.lamp").manifest.serves_graphs)
            client.point("hours", client.push(Path(name) / "hours.lamp")["version"])
            _, answer = reader(content)
            self.assertEqual(client.predict("hours", ROWS).answers, answer(ROWS))
            with self.assertRaises(BadRequest):
                client.predict("hours", [ROWS[0] | {"kind": "arc"}])
            steps = client.fetch("GET", "/api/models/hours/versions/1")
        self.assertEqual((steps["exportable"], steps["steps"][0].split(",")[0]), (True, "PMML document"))
