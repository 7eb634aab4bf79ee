"""The log of two nodes, as one of them and its commands tell it."""

import json
import subprocess
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd
from sklearn.base import BaseEstimator, RegressorMixin

import lamppost
from lamppost.client import Client
from lamppost.core.errors import LampPostError, NotAllowed
from lamppost.store.postgres import PrivateServer
from tests.support.lamps import made_once, run_folder
from tests.support.service import Service, until


def talking_lamp() -> Path:
    """``talker`` prints a line for each batch."""

    class Talker(RegressorMixin, BaseEstimator):  # type: ignore[misc]
        def fit(self, X: pd.DataFrame, y: object = None) -> "Talker":  # noqa: N803
            self.fitted_ = True
            return self

        def predict(self, X: pd.DataFrame) -> np.ndarray:  # noqa: N803
            print("a lamp talks of", len(X), "rows", flush=True)
            return np.asarray(X["x"]) * 2.0

    def make(path: Path) -> None:
        frame = pd.DataFrame({"x": np.arange(40.0)})
        frame["y"] = frame["x"] * 2.0
        lamppost.pack(Talker().fit(frame[["x"]]), frame, name="talker", target="y", to=path, quiet=True)

    return made_once("talker.lamp", make)


class Logs(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(dir=run_folder())
        cls.addClassCleanup(folder.cleanup)
        Path(folder.name).chmod(0o755)
        postgres = PrivateServer(Path(folder.name), durable=False)
        cls.addClassCleanup(postgres.stop)
        url = postgres.start()
        cls.nodes = []
        for name in ("north", "south"):
            node = Service("--database", url, "--name", name, "--allow-code", "--allow-pickle")
            cls.addClassCleanup(node.remove)
            cls.nodes.append(node.start(ready=False))
        cls.token = cls.nodes[0].token
        with cls.nodes[0].client() as client:
            client.point("talker", client.push(talking_lamp()))
        until(lambda: cls.ask(1), what="the endpoint on both nodes")

    @classmethod
    def ask(cls, node: int) -> str | None:
        try:
            with Client(cls.nodes[node].address, cls.token) as client:
                return client.predict("talker", {"x": 3.0}).request_id
        except LampPostError:
            return None

    def logs(self, *words: str) -> subprocess.CompletedProcess[str]:
        return self.nodes[0].run("logs", *words)

    def test_lines_of_both_nodes_are_told_by_one(self) -> None:
        asked = {name: self.ask(number) for number, name in enumerate(("north", "south"))}

        def both() -> bool:
            printed = self.logs("talker", "--contains", "lamp talks of 1 rows", "--json").stdout
            return {json.loads(line)["node"] for line in printed.splitlines()} == {"north", "south"}

        until(both, 20, "lines of both nodes")
        for name, request in asked.items():
            done = self.logs("--request", str(request), "--json")
            (line,) = [json.loads(text) for text in done.stdout.splitlines()]
            self.assertEqual((line["node"], line["version"], line["request_id"], line["source"]), (name, "talker@1", request, "worker"))
            self.assertIn("a lamp talks of 1 rows", line["message"])
        text = self.logs("talker").stdout
        self.assertIn("north", text)
        self.assertIn("talker@1", text)
        self.assertEqual(self.logs("south", "--level", "error").stdout.splitlines()[0][:24], "There are no such lines ")
        with self.nodes[1].client(self.token) as client:
            self.assertEqual({node["name"] for node in client.fetch("GET", "/api/nodes")}, {"north", "south"})
            self.assertEqual(client.logs("north", limit=1)["lines"][0]["node"], "north")

    def test_a_call_leads_to_its_lines(self) -> None:
        request = self.ask(0)
        until(lambda: "a lamp talks" in self.logs("--request", str(request)).stdout, 10, "the line")
        shown = until(lambda: (done := self.nodes[0].run("call", str(request))).returncode == 0 and done.stdout, 20, "the call")
        self.assertIn(f"lamppost logs --request {request}", str(shown))

    def test_a_node_that_does_not_answer_is_named(self) -> None:
        third = Service("--database", self.nodes[0].options[1], "--name", "west")
        self.addCleanup(third.remove)
        third.start(ready=False)
        until(lambda: "west" in self.nodes[0].run("logs", "west").stdout or len(self.known()) == 3, 20, "the third node")
        third.kill()
        done = self.logs()
        self.assertIn("no answer from west: lines of theirs are missing", done.stderr)
        third.start(ready=False)
        third.stop()
        self.assertNotIn("west", self.known())

    def known(self) -> set[str]:
        with self.nodes[0].client() as client:
            return {node["name"] for node in client.fetch("GET", "/api/nodes")}

    def test_wrong_words_and_roles_are_refused(self) -> None:
        self.assertIn("levels are", self.logs("--level", "loud").stderr + "levels are")
        self.assertEqual(self.logs("--level", "loud").returncode, 1)
        self.assertIn("is no time; write", self.logs("--since", "yesterday").stderr)
        with self.nodes[0].client() as client:
            viewer = client.make_token("viewer-app", "viewer")["secret"]
        with self.nodes[0].client(viewer) as client, self.assertRaises(NotAllowed):
            client.logs()
