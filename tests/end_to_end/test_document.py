"""The OpenAPI document: complete, true to what is served, and kept by the service whoever asks whatever."""

import re
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import jsonschema_rs

from demo.lamps import make_traffic
from lamppost.core.roles import ROLES
from tests.support import http
from tests.support.lamps import outage_lamp
from tests.support.other_lamps import photo_lamp, several_lamp
from tests.support.service import WithService

SLOW = "(report|card|/bulk|/check|/run)$"
"""Paths whose requests take seconds."""
CHECKS = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"


class Document(WithService):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.service.serve(photo_lamp(), "pole-photo")
        cls.service.serve(several_lamp(), "several")

    def document(self, token: str | None = None) -> dict[str, Any]:
        headers = {"authorization": f"Bearer {token}"} if token else {}
        document: dict[str, Any] = http.get(f"{self.service.address}/openapi.json", headers=headers).json()
        return document

    def test_a_path_for_each_endpoint_for_those_who_may_know(self) -> None:
        self.assertFalse([path for path in self.document()["paths"] if path.startswith("/predict")])
        self.assertEqual(len([path for path in self.document(self.service.token)["paths"] if path.startswith("/predict/")]), 3)
        with self.service.client() as admin:
            secret = admin.fetch("POST", "/api/tokens", {"name": "one", "role": "caller", "endpoints": ["several"]})["secret"]
        paths = self.document(secret)["paths"]
        self.assertEqual([path for path in paths if path.startswith("/predict/")], ["/predict/several"])
        wrong = http.get(f"{self.service.address}/openapi.json", headers={"authorization": "Bearer lamp_x"})
        self.assertEqual(wrong.status_code, 401)

    def test_requests_and_answers_are_what_the_document_says(self) -> None:
        document = self.document(self.service.token)
        rows = make_traffic(5, seed=2)
        bodies = {
            "/predict/outage-risk": [rows[0], {"rows": rows}, {"columns": {name: [row[name] for row in rows] for name in rows[0]}}],
            "/predict/several": [{"seq": [1, 2], "note": "n"}, {"rows": [{"seq": [1], "note": "n"}], "options": {"k": 3}}],
        }
        for path, sent in bodies.items():
            post = document["paths"][path]["post"]
            asked, said = post["requestBody"]["content"], post["responses"]["200"]["content"]
            for body in [asked["application/json"]["example"], *sent]:
                with self.subTest(path=path, keys=list(body)):
                    jsonschema_rs.validate({**asked["application/json"]["schema"], **pointing(document)}, body)
                    answer = self.service.post(path, httpx.Request("POST", "http://x", json=body).content).json()
                    jsonschema_rs.validate({**said["application/json"]["schema"], **pointing(document)}, answer)
            wrong = {"seq": "x", "note": 1} if path.endswith("several") else {**rows[0], "height_m": "tall"}
            self.assertFalse(jsonschema_rs.is_valid({**asked["application/json"]["schema"], **pointing(document)}, wrong))

    def test_the_document_follows_what_an_endpoint_serves(self) -> None:
        self.service.serve(outage_lamp(), "changing")
        before = self.document(self.service.token)["paths"]["/predict/changing"]["post"]
        self.assertIn("outage-risk@1", before["summary"])
        with self.service.client() as client:
            client.point("changing", "several@1")
        document = self.document(self.service.token)
        self.assertIn("several@1", document["paths"]["/predict/changing"]["post"]["summary"])
        self.assertEqual(list(document["components"]["schemas"]["ChangingRow"]["properties"]), ["seq", "note"])


class Kept(WithService):
    """A service of its own, because what generated requests ask for is done: endpoints are pointed elsewhere, tokens made."""

    own_service = True

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.service.serve(photo_lamp(), "pole-photo")
        cls.service.serve(several_lamp(), "several")

    def test_no_role_can_make_the_service_break_its_document(self) -> None:
        roles = [role for role in ROLES if role != "desk"]
        file = self.service.folder / "openapi.json"
        file.write_text(http.get(f"{self.service.address}/openapi.json", headers={"authorization": f"Bearer {self.service.token}"}).text)
        with self.service.client() as admin:
            secrets = {role: admin.fetch("POST", "/api/tokens", {"name": f"asks-{role}", "role": role})["secret"] for role in roles}
            made = admin.fetch("POST", "/api/desks/several/links", {"name": "asks-desk"})
            secrets["desk"] = made["link"].partition("#link=")[2]

        def run(role: str) -> subprocess.CompletedProcess[str]:
            # all kinds of requests as an admin, who may do everything; the other roles are mostly refused, and need fewer to show it
            phases, most = ("examples,coverage,fuzzing", 4) if role == "admin" else ("examples,fuzzing", 1)
            words = f"run {file} --url {self.service.address} --phases {phases} --max-examples {most} --seed 8 --no-color"
            words += f" --checks {CHECKS} --exclude-path /api/packages --exclude-path-regex {SLOW} --suppress-health-check all"
            words += " --request-timeout 60"
            tool = str(Path(sys.executable).with_name("schemathesis"))
            command = [tool, *words.split(), "-H", f"Authorization: Bearer {secrets[role]}"]
            return subprocess.run(command, capture_output=True, text=True, timeout=450, cwd=self.service.folder)

        with ThreadPoolExecutor(2) as pool:
            ended = [("desk", run("desk"))]  # before the admin, who may close the desk and so end its link
            for role, done in [*ended, *zip(roles, pool.map(run, roles), strict=True)]:
                with self.subTest(role):
                    self.assertEqual(done.returncode, 0, found_wrong(done.stdout) + done.stderr[-2_000:])
        self.assertNotIn("Traceback", self.service.log.read_text())


def found_wrong(said: str) -> str:
    """What the tool found, without the warnings that come after it."""
    parts = re.split(r"^=+ ([A-Z ]+) =+$", said, flags=re.MULTILINE)
    return "\n".join(text[:6_000] for title, text in zip(parts[1::2], parts[2::2], strict=False) if title in ("FAILURES", "ERRORS"))


def pointing(document: dict[str, Any]) -> dict[str, Any]:
    """What a schema of the document needs beside itself, so that its references are found."""
    return {"components": document["components"]}
