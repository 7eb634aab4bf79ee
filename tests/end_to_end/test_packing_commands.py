"""Packing from other sources, signing, comparing, searching and asking with pictures and options, at the command line."""

import json
import os
import random
import unittest
import warnings
import zipfile
from pathlib import Path

import httpx
import lightgbm
import numpy as np
import pandas as pd
from PIL import Image

import lamppost
from lamppost.core.errors import NotAllowed
from tests.support import http, networks
from tests.support.damage import damage
from tests.support.lamps import moody_lamp, outage_lamp
from tests.support.models import Moody
from tests.support.service import Service

PHOTOS = """
name = "post"
[model]
file = "picture.onnx"
labels = ["rusts", "sound"]
scores = "softmax"
[training]
frame = "photos.csv"
[[before]]
pixels = {column = "photo", gives = "x", size = [10, 12], layout = "chw"}
[[after]]
code = "cut.py"
call = "cut:Cut"
takes = ["scores", "at_least"]
gives.call = {kind = "yes/no"}
[options.at_least]
kind = "number"
low = 0
high = 1
default = 0.5
[provenance]
by = "lamplighter"
tags = {season = "winter"}
"""
CUT = "class Cut:\n    def run(self, columns):\n        return {'call': columns['scores'][:, 0] >= columns['at_least']}\n"


class WithCommands(unittest.TestCase):
    service: Service

    @property
    def folder(self) -> Path:
        return self.service.folder

    def good(self, *words: str) -> str:
        done = self.service.run(*words)
        self.assertEqual(done.returncode, 0, done.stderr + done.stdout)
        return done.stdout

    def bad(self, *words: str) -> str:
        done = self.service.run(*words)
        self.assertEqual(done.returncode, 1, done.stderr + done.stdout)
        self.assertNotIn("Traceback", done.stderr)
        return done.stderr


class Signed(WithCommands):
    """A service that takes code from known keys only."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-code", "--allow-pickle", "--signed-by", "release.pub")
        made = cls.service.run("key", "new", "release", "--json")
        assert made.returncode == 0, made.stderr
        public = Path(json.loads(made.stdout)["public"])
        cls.service.options = (*cls.service.options[:-1], str(public))
        cls.service.start()
        cls.addClassCleanup(cls.service.remove)

    def test_only_what_a_known_key_signed_may_run_code(self) -> None:
        (self.folder / "moody.lamp").write_bytes(moody_lamp("moody", Moody()).read_bytes())
        (self.folder / "plain.lamp").write_bytes(outage_lamp().read_bytes())
        self.assertIn("outage-risk@1 is stored", self.good("push", "plain.lamp"))
        self.assertIn("holds pickle, which can run code, and here that needs the signature of a known key", self.bad("push", "moody.lamp"))
        self.good("key", "new", "stranger")
        self.assertIn("is signed by", self.good("sign", "moody.lamp", "--key", "stranger"))
        self.assertIn("it is signed by", self.bad("push", "moody.lamp"))
        digest = json.loads(self.good("sign", "moody.lamp", "--key", "release", "--json"))["digest"]
        self.assertEqual(self.good("inspect", "moody.lamp").count("signed    by"), 2)
        self.assertIn(digest[:12], self.good("push", "moody.lamp"))
        self.good("point", "moody", "moody@1")
        self.assertIn("value 226", self.good("ask", "moody", "--row", '{"x": 113}'))
        self.assertEqual(self.good("show", "moody@1").count("signed  by"), 2)
        self.assertEqual(self.good("key", "list").count("\n"), 2)

    def test_what_is_no_key_is_named(self) -> None:
        self.assertIn("make one with: lamppost key new none", self.bad("sign", "plain.lamp", "--key", "none"))
        self.assertIn("there is a key release", self.bad("key", "new", "release"))
        self.assertIn("holds no public key", self.bad("up", "--data", "other", "--port", "0", "--signed-by", str(outage_lamp())))


class FromAnything(WithCommands):
    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-code").start()
        cls.addClassCleanup(cls.service.remove)
        networks.dense(cls.service.folder, beside=True)
        rows = np.random.default_rng(0).normal(size=(60, 4)).round(3).tolist()
        (cls.service.folder / "some.json").write_text(json.dumps({"rows": [dict(zip("abcd", row, strict=True)) for row in rows]}))

    def test_a_graph_alone_with_some_rows(self) -> None:
        self.assertIn("a package proves itself on rows; give some with --rows", self.bad("pack", "--allow-code", "dense.onnx"))
        said = self.good("pack", "--allow-code", "dense.onnx", "--rows", "some.json", "--name", "grade")
        self.assertIn("20 rows proven in a fresh process", said)
        self.assertIn("ONNX graph: makes logits of a, b, c, d", self.good("inspect", "grade.lamp"))

    def test_a_folder_and_a_zip(self) -> None:
        folder = self.folder / "export"
        folder.mkdir()
        for name in ("dense.onnx", "dense.weights"):
            (folder / name).write_bytes((self.folder / name).read_bytes())
        self.assertIn("comes without rows", self.bad("pack", "--allow-code", "export"))
        (folder / "rows.json").write_bytes((self.folder / "some.json").read_bytes())
        first = json.loads(self.good("pack", "--allow-code", "export", "--name", "grade", "--json"))
        with zipfile.ZipFile(self.folder / "export.zip", "w") as archive:
            for path in folder.iterdir():
                if path.suffix != ".lamp":
                    archive.write(path, f"export/{path.name}")
        again = json.loads(self.good("pack", "--allow-code", "export.zip", "--name", "grade", "--to", "zipped.lamp", "--json"))
        self.assertEqual(first["digest"], again["digest"])
        with zipfile.ZipFile(self.folder / "bad.zip", "w") as archive:
            archive.writestr("../out.onnx", b"")
        self.assertIn("a path that is not allowed", self.bad("pack", "--allow-code", "bad.zip"))
        (self.folder / "empty").mkdir()
        self.assertIn("holds no lamp.toml and no model", self.bad("pack", "--allow-code", "empty"))
        (self.folder / "no.zip").write_bytes(b"PK nothing")
        self.assertIn("is no ZIP", self.bad("pack", "--allow-code", "no.zip"))

    def test_trees_in_their_own_format(self) -> None:
        frame = pd.DataFrame(np.random.default_rng(1).normal(size=(300, 2)), columns=["Column_0", "Column_1"])
        booster = lightgbm.train({"objective": "regression", "verbose": -1}, lightgbm.Dataset(frame.to_numpy(), frame["Column_0"]), 5)
        booster.save_model(self.folder / "trees.txt")
        frame.to_csv(self.folder / "frame.csv", index=False)
        (self.folder / "trees.toml").write_text('name = "trees"\n[model]\nfile = "trees.txt"\n[training]\nframe = "frame.csv"\n')
        self.assertIn("rows/s alone instead of", self.good("pack", "--allow-code", "trees.toml"))

    def test_pictures_options_search_and_comparison(self) -> None:
        networks.picture(self.folder)
        (self.folder / "cut.py").write_text(CUT)
        names = []
        for at in range(30):
            pixels = np.random.default_rng(at).integers(0, 255, (12, 10, 3), dtype=np.uint8)
            Image.fromarray(pixels).save(self.folder / f"{at}.png")
            names.append(f"{at}.png")
        pd.DataFrame({"photo_file": names}).to_csv(self.folder / "photos.csv", index=False)
        (self.folder / "photos.toml").write_text(PHOTOS)
        self.good("pack", "--allow-code", "photos.toml")
        inspected = self.good("inspect", "post.lamp")
        for words in ("option    is", "at_least  a number from 0 to 1; 0.5 if it is left out", "packed    by lamplighter", "a picture, "):
            self.assertIn(words, inspected)
        self.good("push", "post.lamp")
        self.assertIn("post is serving post@1", self.good("point", "post", "post@1"))
        asked = ("ask", "post", "--image", "0.png", "--json")
        calls = [json.loads(self.good(*asked, "--option", f"at_least={least}"))["answers"][0]["call"] for least in ("0", "1.0")]
        self.assertEqual(calls, [True, False])
        self.assertRegex(self.good("ask", "post", "--image", "photo=1.png"), r"call (True|False)")
        self.assertIn("expected a number from 0 to 1", self.bad(*asked, "--option", "at_least=2"))
        self.assertIn("cannot be read", self.bad("ask", "post", "--image", "none.png"))
        shown = self.good("show", "post@1")
        self.assertRegex(shown, r"speed  one row [\d.]+ ms, 64 rows [\d.]+ ms; opens and proves itself in [\d.]+ s, its worker holds \d+")
        self.assertIn("post@1", self.good("models", "--search", "season:winter photo"))
        self.assertIn("No version has all of these words", self.good("models", "--search", "summer"))

        (self.folder / "narrow.toml").write_text(PHOTOS.replace("high = 1", "high = 0.9"))
        self.good("pack", "--allow-code", "narrow.toml")
        self.good("push", "post.lamp")
        done = self.service.run("diff", "post@1", "post@2")
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("at_least has the high limit 0.9 instead of 1", done.stdout)
        self.assertIn("not one of each", self.bad("diff", "post@1", "post.lamp"))
        with self.service.client() as client:
            self.assertTrue(client.compare("post@1", "post@2")["breaks"])


class TakenBack(WithCommands):
    """Lamp files that come back from the service, and their objects in a shell."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.service.remove)
        with cls.service.client() as client:
            client.push(outage_lamp())
            client.push(moody_lamp("moody", Moody()))

    def test_the_file_that_was_pushed_comes_back(self) -> None:
        fetched = self.good("fetch", "outage-risk@1", "--to", "again.lamp")
        self.assertIn("next: lamppost inspect again.lamp", fetched)
        self.assertEqual((self.folder / "again.lamp").read_bytes(), outage_lamp().read_bytes())
        self.assertIn("there is no outage-risk@9", self.bad("fetch", "outage-risk@9"))
        with self.service.client() as client:
            caller = str(client.make_token("meter-app", "viewer")["secret"])
        with self.service.client(caller) as viewer, self.assertRaises(NotAllowed):
            viewer.download("outage-risk@1", self.folder / "none.lamp")
        self.assertEqual(list(self.folder.glob("*none*")), [])

    def test_a_shell_has_the_fitted_object_and_the_rows_of_the_proof(self) -> None:
        code = "print(type(model).__name__, len(proof), (predict(proof)['label'] == proof['trained.label']).all(), provenance.python)"
        answered = self.good("shell", "outage-risk@1", "--run", code).split()
        self.assertEqual((answered[0], answered[2]), ("Pipeline", "True"), answered)
        one = self.good(
            "shell", "outage-risk@1", "--run", "print(predict(proof.iloc[3]).shape[0], predict(proof.iloc[2:7]).index.tolist())"
        )
        self.assertEqual(one.strip(), "1 [2, 3, 4, 5, 6]")

    def test_what_can_run_code_is_opened_when_that_is_allowed(self) -> None:
        self.assertIn("moody@1 holds pickle, which can run code", self.bad("shell", "moody@1", "--run", "1"))
        self.assertEqual(self.good("shell", "moody@1", "--allow-code", "--run", "print(type(model).__name__)").strip(), "Moody")


class Chunks(WithCommands):
    """What is pushed is sent once."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.service.remove)

    def test_known_chunks_are_not_sent_again_and_a_broken_push_goes_on(self) -> None:
        weights = os.urandom(3 * 2**20)
        model = Moody().fit(frame := pd.DataFrame({"x": np.arange(100.0, 140.0)}))
        model.weights = weights
        first = lamppost.pack(model, frame, name="heavy", to=self.folder / "heavy.lamp", installed=["tests"], quiet=True, notes="one")
        told: list[tuple[int, int]] = []

        class Cut(Exception):
            pass

        def until_half(there: int, whole: int) -> None:
            told.append((there, whole))
            if there > whole / 2:
                raise Cut

        with self.service.client() as client:
            self.assertRaises(Cut, client.push, first.path, None, until_half)
            self.assertEqual(client.fetch("GET", "/api/versions"), [])
            resumed: list[tuple[int, int]] = []
            self.assertEqual(client.push(first.path, None, lambda *said: resumed.append(said))["version"], "heavy@1")
            self.assertGreater(resumed[0][0], resumed[0][1] / 2)
            self.assertEqual(resumed[-1], (first.size_bytes, first.size_bytes))
            second = lamppost.pack(
                model, frame, name="heavy", to=self.folder / "heavy.lamp", installed=["tests"], quiet=True, notes="two, and with more words"
            )
            told.clear()
            self.assertEqual(client.push(second.path, None, lambda *said: told.append(said))["version"], "heavy@2")
            self.assertGreater(told[0][0], 0.95 * second.size_bytes)
            client.point("heavy", "heavy@2")
            self.assertEqual(client.predict("heavy", {"x": 2.0}).answer, {"value": 4.0})

    def test_wrong_chunks_are_refused(self) -> None:
        digest = "0" * 64
        self.assertEqual(self.put(digest, b"abc").status_code, 400)
        self.assertEqual(self.put("../" + digest, b"abc").status_code, 404)
        self.assertEqual(self.put(digest, b"a" * (2**20 + 1)).status_code, 413)
        self.assertEqual(self.service.post("/api/packages/assembled", json.dumps({"chunks": [digest]})).status_code, 404)
        self.assertEqual(self.service.post("/api/packages/chunks", json.dumps({"chunks": ["xyz"]})).status_code, 422)
        self.assertEqual(self.service.post("/api/packages/chunks", json.dumps({"chunks": []})).status_code, 422)

    def put(self, digest: str, data: bytes) -> httpx.Response:
        headers = {"authorization": f"Bearer {self.service.token}"}
        return http.put(f"{self.service.address}/api/packages/chunks/{digest}", content=data, headers=headers)


class Damaged(WithCommands):
    """A thousand damaged files at the door of a running service."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.service.remove)

    def test_every_one_is_refused_or_proves_itself_and_nothing_stays(self) -> None:
        good = moody_lamp("moody", Moody())
        self.service.serve(good, "moody")
        data = good.read_bytes()
        with zipfile.ZipFile(good) as archive:
            members = {name: archive.read(name) for name in archive.namelist()}
        rng, path = random.Random(8421), self.folder / "case.lamp"
        stored = set()
        with warnings.catch_warnings(), http.client(headers={"authorization": f"Bearer {self.service.token}"}) as client:
            warnings.simplefilter("ignore")  # the ZIP library warns of doubles while we write them
            for case in range(1_000):
                damage(rng, path, data, members)
                said = client.post(f"{self.service.address}/api/packages", content=path.read_bytes())
                self.assertIn(said.status_code, (201, 422), (case, said.text))
                if said.status_code == 201:
                    stored.add(said.json()["version"])
                else:
                    self.assertEqual(said.json()["type"], "urn:lamppost:package-refused", case)
            for version in sorted(stored - {"moody@1"}):
                said = client.post(f"{self.service.address}/api/endpoints/other/point", json={"version": version}, timeout=60)
                self.assertIn(said.status_code, (200, 409, 422, 502, 503), (version, said.text))
                if said.status_code == 200:
                    proof = client.get(f"{self.service.address}/api/models/moody/versions/{version.partition('@')[2]}").json()["proof"]
                    self.assertEqual(proof, "passed")
        self.assertLess(len(stored), 50)
        self.assertEqual(list((self.service.data / "incoming").iterdir()), [])
        with self.service.client() as lamppost_client:
            self.assertEqual(lamppost_client.predict("moody", {"x": 2.0}).answer, {"value": 4.0})
            self.assertEqual(len(lamppost_client.fetch("GET", "/api/versions")), len(stored | {"moody@1"}))
        self.assertNotIn("Traceback", self.service.log.read_text())
