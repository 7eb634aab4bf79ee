"""Two nodes behind one address: what lies on one node's disk is reached through the other one."""

import io
import itertools
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any, ClassVar

import pandas as pd
import requests

from lamppost.store.postgres import PrivateServer
from tests.support.bulk import lamps
from tests.support.lamps import outage_lamp, run_folder
from tests.support.service import Service, until


class OtherNodes(unittest.TestCase):
    nodes: ClassVar[list[Service]]

    @classmethod
    def setUpClass(cls) -> None:
        folder = Path(tempfile.mkdtemp(prefix="other-nodes-", dir=run_folder()))
        cls.addClassCleanup(shutil.rmtree, folder, ignore_errors=True)
        folder.chmod(0o755)
        server = PrivateServer(folder, durable=False)
        cls.addClassCleanup(server.stop)
        database = server.start()
        cls.nodes = []
        for _ in range(2):
            node = Service("--database", database)
            if cls.nodes:  # the token was made by the first
                shutil.copy(cls.nodes[0].environment["LAMPPOST_CONFIG"], node.environment["LAMPPOST_CONFIG"])
                config = Path(node.environment["LAMPPOST_CONFIG"])
                config.write_text(config.read_text().replace(cls.nodes[0].address, node.address))
            cls.nodes.append(node.start())
            cls.addClassCleanup(node.remove)
        cls.nodes[0].serve(outage_lamp())
        other = cls.nodes[1]

        def both_know() -> bool:
            with other.client() as client:
                return len(client.fetch("GET", "/api/nodes")) == 2 and any(one["name"] == "outage-risk" for one in client.endpoints())

        until(both_know, 60, "both nodes")

    def ask(self, node: Service, method: str, path: str, **more: Any) -> requests.Response:
        headers = {"authorization": f"Bearer {node.token}", **more.pop("headers", {})}
        return requests.request(method, f"{node.address}/api{path}", headers=headers, timeout=120, **more)

    def test_a_file_is_brought_scored_and_fetched_through_either_node(self) -> None:
        turns = itertools.cycle(self.nodes)  # as a balancer sends them
        data = lamps(3_000).to_csv(index=False).encode()
        begun = self.ask(next(turns), "POST", "/uploads", json={"file_name": "lamps.csv"}).json()
        third = len(data) // 3 + 1
        for at in range(0, len(data), third):
            sent = self.ask(next(turns), "PUT", f"/uploads/{begun['id']}", params={"at": at}, data=data[at : at + third])
            self.assertEqual(sent.status_code, 200, sent.text)
        self.assertEqual(sent.json()["size_bytes"], len(data))
        order = {"questions": [{"of": "outage-risk"}], "source": begun["source"], "keep": ["lamp_id"]}
        other = next(node for node in self.nodes if self.name_of(node) != begun["node"])
        checked = self.ask(other, "POST", "/bulk/check", json=order)
        self.assertEqual(checked.status_code, 200, checked.text)
        self.assertEqual(checked.json()["rows"], None if checked.json()["rows"] is None else 3_000)
        started = self.ask(other, "POST", "/bulk", json=order)
        self.assertEqual(started.status_code, 202, started.text)
        run = started.json()
        self.assertEqual(run["node"], begun["node"])
        until(lambda: self.ask(other, "GET", f"/bulk/{run['name']}/progress").json()["state"] == "finished", 90, "the run")
        outputs = [self.ask(node, "GET", f"/bulk/{run['name']}/output") for node in self.nodes]
        self.assertEqual([output.status_code for output in outputs], [200, 200], outputs[1].text[:300])
        self.assertEqual(outputs[0].content, outputs[1].content)
        self.assertEqual(len(pd.read_parquet(io.BytesIO(outputs[0].content))), 3_000)
        self.assertEqual(outputs[0].headers["content-disposition"], outputs[1].headers["content-disposition"])
        self.assertEqual(self.ask(other, "DELETE", f"/bulk/{run['name']}").status_code, 204)
        self.assertEqual(self.ask(self.nodes[0], "GET", f"/bulk/{run['name']}").status_code, 404)

    def name_of(self, node: Service) -> str:
        return next(str(one["name"]) for one in self.ask(node, "GET", "/nodes").json() if one["address"] == node.address)

    def test_a_desk_works_through_either_node(self) -> None:
        with self.nodes[0].client() as client:
            client.fetch("PUT", "/api/desks/outage-risk", {"title": "Will this lamp fail?"})
            secret = str(client.fetch("POST", "/api/desks/outage-risk/links", {"name": "office"})["link"]).partition("#link=")[2]
        headers = {"authorization": f"Bearer {secret}"}
        first, second = (f"{node.address}/api/desk/outage-risk" for node in self.nodes)

        def known() -> bool:
            return requests.get(second, headers=headers, timeout=10).status_code == 200

        until(known, 30, "the link at the other node")
        data = lamps(400).to_csv(index=False).encode()
        file = requests.post(f"{first}/files", json={"file_name": "lamps.csv"}, headers=headers, timeout=10).json()["id"]
        sent = requests.put(f"{second}/files/{file}", params={"at": 0}, data=data, headers=headers, timeout=30)
        self.assertEqual(sent.status_code, 200, sent.text)
        matched = requests.post(f"{second}/files/{file}/match", json={}, headers=headers, timeout=60)
        self.assertEqual(matched.status_code, 200, matched.text)
        begun = requests.post(f"{second}/results", json={"file": file, "columns": matched.json()["matched"]}, headers=headers, timeout=60)
        self.assertEqual(begun.status_code, 202, begun.text)
        name = begun.json()["name"]
        until(lambda: requests.get(f"{second}/results/{name}", headers=headers, timeout=10).json()["state"] == "finished", 90, "answers")
        pages = [requests.get(f"{desk}/results/{name}/rows", headers=headers, timeout=30) for desk in (first, second)]
        self.assertEqual([page.status_code for page in pages], [200, 200], pages[1].text)
        self.assertEqual(pages[0].json(), pages[1].json())
        taken = requests.get(f"{second}/results/{name}/file", params={"form": "csv"}, headers=headers, timeout=30)
        self.assertEqual(taken.text.count("\n"), 401)

    def test_what_another_node_refuses_is_refused_and_a_request_is_passed_on_once(self) -> None:
        begun = self.ask(self.nodes[0], "POST", "/uploads", json={"file_name": "lamps.csv"}).json()
        gap = self.ask(self.nodes[1], "PUT", f"/uploads/{begun['id']}", params={"at": 10}, data=b"x")
        self.assertEqual((gap.status_code, gap.headers["content-type"]), (409, "application/problem+json"))
        passed = self.ask(self.nodes[1], "PUT", f"/uploads/{begun['id']}", params={"at": 0}, data=b"x", headers={"passed-on-by": "third"})
        self.assertEqual(passed.status_code, 409)
        self.assertIn("which does not answer", passed.json()["detail"])
        stranger = requests.put(f"{self.nodes[1].address}/api/uploads/{begun['id']}", params={"at": 0}, data=b"x", timeout=10)
        self.assertEqual(stranger.status_code, 401)
