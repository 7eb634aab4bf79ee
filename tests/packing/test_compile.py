"""Compiling: every kind of model that is said to compile does, and gives the original's answers on rows never met."""

import tempfile
import unittest
import warnings
from dataclasses import replace
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import onnx

from lamppost.core.artifact.proof import Tolerance
from lamppost.core.artifact.schema_inference import frame_rows
from lamppost.core.schema.columns import Column, columns_from_rows
from lamppost.core.schema.fields import Schema
from lamppost.package import sklearn_model
from lamppost.package.compiled_model import CompiledModel
from lamppost.package.read import read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.compiling import step as compiling
from lamppost.packing.recipe import Recipe
from lamppost.runtime.codec import FrameCodec
from tests.support import zoo

LAMPS = zoo.frame()
UNSEEN = zoo.frame().assign(maker="Somebody New")


class EveryKind(unittest.TestCase):
    def test_the_compiled_form_gives_the_answers_of_the_original(self) -> None:
        compiled = 0
        for name, make, target, why_not in zoo.models():
            with self.subTest(name), tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
                warnings.simplefilter("ignore")
                packed = zoo.packed(name, make, target, LAMPS)
                lamp = read_lamp(packed.path)
                step = lamp.manifest.steps[0]
                if why_not is not None:
                    self.assertIn(why_not, step.not_compiled or "compiled after all")
                    self.assertIn("not compiled", packed.remarks.notes[0])
                    continue
                self.assertIsNotNone(step.compiled, step.not_compiled)
                assert step.compiled is not None
                compiled += 1
                graph = (lamp.unpack(Path(folder)) / step.compiled.file).read_bytes()
                running = CompiledModel(graph, step.compiled, lamp.manifest.inputs)
                for rows in (LAMPS.tail(300), UNSEEN.tail(50)):
                    asked = rows[[column.name for column in step.columns]]
                    wanted = sklearn_model.predict(step, packed.model, asked)
                    plain = frame_rows(lamp.manifest.inputs, asked)
                    given = running.run(columns_from_rows(lamp.manifest.inputs, plain))
                    self.alone(lamp.manifest.inputs, running, plain[:25], given)
                    for one, other in zip(wanted, given, strict=True):
                        np.testing.assert_allclose(np.asarray(other.values), np.asarray(one.values), rtol=1e-6, atol=1e-9)
        self.assertGreaterEqual(compiled, 20)

    def alone(self, inputs: Schema, running: CompiledModel, rows: list[dict[str, Any]], together: list[Column]) -> None:
        """A row that comes alone, by the shorter way, gets what it gets among others."""
        codec = FrameCodec(inputs)
        for at, row in enumerate(rows):
            values = codec.single(codec.pack([row])[1])
            if values is not None:
                for one, other in zip(running.run_single(values), together, strict=True):
                    np.testing.assert_allclose(np.asarray(one.values)[0], np.asarray(other.values)[at], rtol=1e-12, atol=1e-15)


class Safeguards(unittest.TestCase):
    def setUp(self) -> None:
        self.model, self.frame = zoo.fitted(zoo.models()[0][1], "failed", LAMPS)
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "m.lamp"
        build_package(self.model, self.frame, Recipe("m", "failed"), self.path)
        self.manifest = read_lamp(self.path).manifest
        self.step = replace(self.manifest.steps[0], compiled=None)
        self.rows = self.frame.drop(columns="failed")

    def outcome(self) -> compiling.CompileOutcome:
        return compiling.compile_step(self.step, self.model, self.manifest.inputs, self.rows, Tolerance())

    def test_a_graph_that_answers_otherwise_is_not_used(self) -> None:
        right = CompiledModel.run

        def wrong_scores(running: CompiledModel, columns: list[Column]) -> list[Column]:
            label, scores = right(running, columns)
            values = np.array(scores.values)
            values[-1] += 1e-4
            return [label, Column(values)]

        def wrong_label(running: CompiledModel, columns: list[Column]) -> list[Column]:
            label, scores = right(running, columns)
            codes = np.array(label.values)
            codes[0] = 1 - codes[0]
            return [Column(codes), scores]

        for wrong, summary in (
            (wrong_scores, "other numbers on 1 of 3128 rows, by up to 0.0001"),
            (wrong_label, "other labels on 1 of 3128 rows"),
        ):
            with mock.patch.object(CompiledModel, "run", wrong):
                outcome = self.outcome()
            self.assertIsNone(outcome.graph)
            self.assertIn(summary, outcome.sentence())

    def test_small_frames_are_checked_on_a_thousand_rows(self) -> None:
        self.assertEqual(len(compiling._rows_to_check(self.step, self.model, self.rows.head(30))), 1_030 + 2 * 64)

    def test_a_transformer_that_mixes_choices_is_not_taken_apart(self) -> None:
        class Mixing:
            def transform(self, frame: object) -> np.ndarray:
                codes = [(ord(a[0]) * ord(b[0])) for a, b in zip(frame["district"], frame["lamp_type"], strict=True)]  # type: ignore[index]
                return np.array(codes, dtype=float)[:, None]

        model = mock.Mock(spec=["steps", "predict"], steps=[("mix", Mixing()), ("last", self.model.steps[-1][1])])
        with self.assertRaisesRegex(compiling.NotCompiled, "which mixes"):
            raw = compiling.Raw(compiling.Graph(), self.step, self.manifest.inputs)
            raw.transform(model.steps[0][1], ["district", "lamp_type"])

    def test_the_graph_is_standard_and_always_the_same_bytes(self) -> None:
        first, second = self.outcome(), self.outcome()
        assert first.graph is not None
        self.assertEqual(first.graph, second.graph)
        model = onnx.load_from_string(first.graph)
        onnx.checker.check_model(model, full_check=True)
        self.assertEqual({opset.domain for opset in model.opset_import}, {"", "ai.onnx.ml"})

    def test_both_forms_are_carried_and_the_switch_leaves_it_out(self) -> None:
        self.assertEqual(
            set(self.manifest.members), {"insight.json", "proof.json", "reference.json", "steps/0/compiled.onnx", "steps/0/model.skops"}
        )
        build_package(self.model, self.frame, Recipe("m", "failed", compile=False), self.path)
        self.assertEqual(
            set(read_lamp(self.path).manifest.members), {"insight.json", "proof.json", "reference.json", "steps/0/model.skops"}
        )
