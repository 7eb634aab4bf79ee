"""Every kind of model through the whole house: packed, pushed, proven, served, and answering as its own library does."""

import tempfile
import unittest
import warnings
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

import lamppost
from demo import feeders, notes, poles
from lamppost.core.artifact.schema_inference import frame_rows
from lamppost.package.read import read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from tests.support import boosters, networks, zoo
from tests.support.service import Service, until

ROWS = 24
LAMPS = zoo.frame()


class EveryKind(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.service.remove)

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def served(self, model: Any, frame: pd.DataFrame, **more: Any) -> list[dict[str, Any]]:
        """What the service says to the frame's first rows: the first five asked alone and at once, all of them in one request too."""
        path = self.folder / "kind.lamp"
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            build_package(model, frame, Recipe("kind", insight=False, **more), path)  # which takes as long as all else
        return self.served_file(path, frame)

    def served_file(self, path: Path, frame: pd.DataFrame) -> list[dict[str, Any]]:
        version = self.service.serve(path, "kind")
        inputs = read_lamp(path).manifest.inputs
        rows = frame_rows(inputs, frame.head(ROWS))
        with self.service.client() as client, ThreadPoolExecutor(5) as pool:
            alone = list(pool.map(lambda row: client.predict("kind", row), rows[:5]))
            together = client.predict("kind", rows)
        self.assertEqual({said.version for said in [*alone, together]}, {version})
        for one, other in zip(alone, together.answers, strict=False):
            self.same(one.answer, other)
        return together.answers

    def same(self, one: Any, other: Any) -> None:
        if isinstance(one, dict):
            for key in one:
                self.same(one[key], other[key])
        elif isinstance(one, float):
            self.assertAlmostEqual(one, other, delta=1e-6 + 1e-6 * abs(other))
        else:
            self.assertEqual(one, other)

    def holds_for(self, answers: list[dict[str, Any]], model: Any, asked: Any) -> None:
        """The answers are what predict and predict_proba say."""
        if "label" in answers[0]:
            self.assertEqual([answer["label"] for answer in answers], [str(label) for label in model.predict(asked)])
        else:
            (name,) = answers[0]
            np.testing.assert_allclose([answer[name] for answer in answers], model.predict(asked), rtol=2e-6, atol=1e-6)
        if "scores" in answers[0]:
            scores = [[answer["scores"][str(one)] for one in model.classes_] for answer in answers]
            np.testing.assert_allclose(scores, model.predict_proba(asked), rtol=2e-6, atol=2e-6)

    def test_scikit_learns_collection(self) -> None:
        self.assertGreaterEqual(len(zoo.models()), 15)
        for name, make, target, _ in zoo.models():
            with self.subTest(name), warnings.catch_warnings():
                warnings.simplefilter("ignore")
                packed = zoo.packed(name, make, target, LAMPS)
                answers = self.served_file(packed.path, packed.frame)
                self.holds_for(answers, packed.model, packed.frame.drop(columns=target, errors="ignore").head(ROWS))

    def test_text_and_several_targets(self) -> None:
        for name, model, frame, target in zoo.others():
            with self.subTest(name):
                fields = {"note": {"kind": "text", "choices": []}} if "note" in frame else None
                answers = self.served(model, frame, target=target, fields=fields)
                if isinstance(target, str):
                    self.holds_for(answers, model, frame["note"].head(ROWS))
                    continue
                said = [[answer[one] for one in target] for answer in answers]
                wanted = np.asarray(model.predict(frame.drop(columns=target).head(ROWS)))
                if wanted.dtype.kind == "f":
                    np.testing.assert_allclose(said, wanted, rtol=1e-6)
                else:
                    self.assertEqual(said, wanted.astype(bool).tolist() if wanted.dtype.kind == "i" else wanted.tolist())

    def test_boosted_trees(self) -> None:
        for name, make, frame, target, labels, _ in boosters.CASES:
            with self.subTest(name), warnings.catch_warnings():
                warnings.simplefilter("ignore")
                packed = boosters.packed(name, make, frame, target, labels)
                answers = self.served_file(packed.path, packed.frame)
                wanted = np.asarray(boosters.said_by(packed.model, frame.head(ROWS)), dtype=np.float64)
                first = answers[0].get("scores", answers[0])
                given = np.array([list(answer.get("scores", answer).values()) for answer in answers])
                self.assertEqual(len(first), given.shape[1])
                given = given[:, -1] if wanted.ndim == 1 else given
                np.testing.assert_allclose(given, wanted, rtol=2e-6, atol=2e-6)

    def test_graphs(self) -> None:
        frame = pd.DataFrame(np.random.default_rng(4).normal(size=(60, 4)), columns=list("abcd"))
        network = lamppost.Network(networks.dense(self.folder, beside=True), labels=["new", "fair", "old"], scores="softmax")
        answers = self.served(network, frame)
        wanted = networks.softmax(frame.head(ROWS).to_numpy(np.float32) @ networks.WEIGHTS)
        np.testing.assert_allclose([list(answer["scores"].values()) for answer in answers], wanted, atol=1e-6)
        ragged = pd.DataFrame({"seq": [[1.0] * (1 + at % 3) for at in range(30)], "note": [f"n{at}" for at in range(30)], "k": 2})
        answers = self.served(networks.several(self.folder), ragged)
        self.assertEqual(answers[2], {"total": 3.0, "said": "n2", "scaled": [2.0, 2.0, 2.0]})

    def test_pytorch(self) -> None:
        try:
            import torch
        except ImportError:
            self.skipTest("PyTorch is not installed")
        frame = pd.DataFrame(np.random.default_rng(5).normal(size=(60, 4)), columns=list("abcd"))
        layer = torch.nn.Linear(4, 1).eval()
        program = torch.export.export(layer, (torch.zeros(2, 4),), dynamic_shapes=({0: torch.export.Dim("rows", min=1)},))
        torch.export.save(program, self.folder / "line.pt2")
        answers = self.served(lamppost.Network(self.folder / "line.pt2", outputs={"0": {"field": "kwh", "unit": "kWh"}}), frame)
        wanted = layer(torch.tensor(frame.head(ROWS).to_numpy(np.float32))).detach().numpy()[:, 0]
        np.testing.assert_allclose([answer["kwh"] for answer in answers], wanted, rtol=1e-5, atol=1e-6)

    def test_the_demos_models(self) -> None:
        model, frame, *_ = feeders.train_evening_load()
        answers = self.served(model, frame, target=feeders.TARGET, fields=feeders.FIELDS, unit="kWh")
        self.holds_for(answers, model, frame[list(feeders.FIELDS)].head(ROWS))

        model, frame, metrics, _ = notes.train_fault_note()
        self.assertGreater(metrics["accuracy"], 0.9)
        private = {"note": notes.FIELDS["note"] | {"private": True}}
        self.holds_for(self.served(model, frame, target=notes.TARGET, fields=private), model, frame["note"].head(ROWS))
        kept = self.service.post("/predict/kind", b'{"note": "the lamp hums"}')
        refused = self.service.post("/predict/kind", b'{"note": 4711}')
        self.assertEqual((kept.status_code, refused.status_code), (200, 422))
        with self.service.client() as client:
            seen = {}

            def recorded() -> bool:
                seen.update({call["request_id"]: call for call in client.fetch("GET", "/api/calls", endpoint="kind", limit=50)})
                return {kept.json()["request_id"], refused.json()["request_id"]} <= seen.keys()

            until(recorded, what="the records")
        self.assertEqual(seen[kept.json()["request_id"]]["input"], {})
        call = seen[refused.json()["request_id"]]
        self.assertEqual((call["input"], "4711" in str(call)), (None, False))

        model, frame, metrics, _ = poles.train_pole_photo()
        self.assertGreater(metrics["accuracy"], 0.9)
        answers = self.served(model, frame, target=poles.TARGET, fields=poles.FIELDS, before=[poles.pixels()])
        self.holds_for(answers, model, poles.seen(frame["photo"].head(ROWS)))
