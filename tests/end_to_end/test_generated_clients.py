"""Clients that other people's generators make of the OpenAPI document are built, and work."""

import json
import subprocess
import tempfile
import unittest
from pathlib import Path

from tests.support import http
from tests.support.lamps import outage_lamp, run_folder
from tests.support.other_lamps import photo_lamp
from tests.support.service import Service
from tests.support.versions import times_lamp

ROOT = Path(__file__).resolve().parents[2]
GENERATOR = ROOT / ".venv" / "generator" / "bin" / "openapi-python-client"
IN_PYTHON = """
import json, sys
from pathlib import Path
from made.client import AuthenticatedClient
from made.api.packages import push_package
from made.api.predict import predict_times, predict_outage_risk
from made.api.endpoints import list_endpoints
from made.models import (
    OutageRiskRequestOfRow, Problem, TimesReplyOfRow, TimesReplyOfRows, TimesRequestOfColumns, TimesColumns, TimesRequestOfRow,
    TimesRequestOfRows, TimesRow,
)
from made.types import File

client = AuthenticatedClient(base_url=sys.argv[1], token=sys.argv[2])
one = predict_times.sync(client=client, body=TimesRequestOfRow(x=3.0))
assert isinstance(one, TimesReplyOfRow) and one.answer.y == 6.0, one
several = predict_times.sync(client=client, body=TimesRequestOfRows(rows=[TimesRow(x=1.0), TimesRow(x=2.0)]))
assert isinstance(several, TimesReplyOfRows) and [answer.y for answer in several.answers] == [2.0, 4.0], several
columns = predict_times.sync(client=client, body=TimesRequestOfColumns(columns=TimesColumns(x=[5.0])))
assert columns.columns.y == [10.0], columns
risk = predict_outage_risk.sync(client=client, body=OutageRiskRequestOfRow.from_dict(json.loads(sys.argv[3])))
assert risk.answer.label in ("fails", "holds") and abs(sum(risk.answer.scores.to_dict().values()) - 1) < 1e-6, risk
refused = predict_times.sync(client=client, body=TimesRequestOfRow(x="tall"))
assert isinstance(refused, Problem) and "row 0, x" in refused.detail, refused
with open(sys.argv[4], "rb") as lamp:
    pushed = push_package.sync(client=client, body=File(payload=lamp))
assert pushed.version == "times@2" and pushed.new, pushed
print(sorted(endpoint.name for endpoint in list_endpoints.sync(client=client)))
"""
IN_TYPESCRIPT = """
import createClient from "openapi-fetch";
import type { paths } from "./made";

const [, , baseUrl, token] = process.argv;
const client = createClient<paths>({ baseUrl, headers: { authorization: `Bearer ${token}` } });
const one = await client.POST("/predict/times", { body: { x: 3 } });
if (!one.data || typeof one.data === "string" || !("answer" in one.data)) throw new Error(JSON.stringify(one.error));
const doubled: number = one.data.answer.y;
const refused = await client.POST("/predict/times", { body: { rows: [] } });
const detail: string = refused.error?.detail ?? "";
const listed = await client.GET("/api/endpoints");
console.log(JSON.stringify({ doubled, refused: detail.length > 0, names: listed.data?.map((endpoint) => endpoint.name).sort() }));
"""


class GeneratedClients(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service().start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(times_lamp(2), "times")
        cls.service.serve(outage_lamp())
        cls.service.serve(photo_lamp(), "pole-photo")  # files in its bodies
        cls.document = http.get(f"{cls.service.address}/openapi.json", headers={"authorization": f"Bearer {cls.service.token}"}).content
        folder = tempfile.TemporaryDirectory(dir=run_folder())
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        (cls.folder / "openapi.json").write_bytes(cls.document)

    def run_in_folder(self, *words: object, cwd: Path | None = None) -> str:
        done = subprocess.run(
            [str(word) for word in words], cwd=cwd or self.folder, capture_output=True, text=True, timeout=120, check=False
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return done.stdout

    def test_a_python_client(self) -> None:
        if not GENERATOR.exists():
            self.skipTest("the generator is not installed; run scripts/setup.sh generator")
        said = self.run_in_folder(GENERATOR, "generate", "--path", "openapi.json", "--output-path", "made", "--meta", "none")
        self.assertNotIn("Unable to process schema", said)
        self.assertNotIn("will not be generated", said)
        asked = json.loads(self.document)["paths"]["/predict/outage-risk"]["post"]["requestBody"]["content"]
        example = asked["application/json"]["example"]
        arguments = (self.service.address, self.service.token, json.dumps(example), times_lamp(3))
        python = GENERATOR.parent / "python"  # an environment without Lamp Post
        self.assertIn("'outage-risk', 'pole-photo', 'times'", self.run_in_folder(python, "-c", IN_PYTHON, *arguments))

    def test_a_typescript_client(self) -> None:
        console = ROOT / "console"
        tools = console / "node_modules" / ".bin"
        place = Path(self.enterContext(tempfile.TemporaryDirectory(dir=console / "node_modules")))  # so that imports are found
        (place / "openapi.json").write_bytes(self.document)
        (place / "asks.mts").write_text(IN_TYPESCRIPT)
        self.run_in_folder(tools / "openapi-typescript", "openapi.json", "-o", "made.d.ts", cwd=place)
        strict = ("--strict", "--target", "es2022", "--module", "esnext", "--moduleResolution", "bundler", "--types", "node")
        self.run_in_folder(tools / "tsc", *strict, "--skipLibCheck", "--outDir", "built", "asks.mts", cwd=place)
        printed = self.run_in_folder("node", next((place / "built").rglob("asks.mjs")), self.service.address, self.service.token, cwd=place)
        answered = json.loads(printed)
        self.assertEqual((answered["doubled"], answered["refused"], "times" in answered["names"]), (6, True, True))
