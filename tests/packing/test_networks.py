"""Networks as packages: what the graph says, what the frame says, and that the served answers are the network's own."""

import unittest
import warnings
from dataclasses import replace
from typing import Any

import numpy as np
import pandas as pd

import lamppost
from lamppost.core.artifact.schema_inference import columns_from_frame
from lamppost.core.artifact.steps import NetworkStep
from lamppost.core.errors import BadRequest, InvalidRows, PackageRefused, ProofFailed
from lamppost.package.read import Lamp
from lamppost.runtime.running_steps import open_chain
from tests.support import networks
from tests.support.packing import WithFolder

RNG = np.random.default_rng(0)
NUMBERS = pd.DataFrame(RNG.normal(size=(120, 4)), columns=list("abcd"))
LABELS = ["new", "fair", "old"]
try:
    import torch
except ImportError:
    torch = None


class WithNetworks(WithFolder):
    def run_on(self, lamp: Lamp, frame: pd.DataFrame) -> list[Any]:
        return [column.values for column in self.columns(lamp, frame)]


class Graphs(WithNetworks):
    def test_numbers_side_by_side_labels_and_softmax(self) -> None:
        path = networks.dense(self.folder, beside=True)
        lamp = self.pack(lamppost.Network(path, labels=LABELS, scores="softmax"), NUMBERS)
        step = lamp.manifest.steps[0]
        assert isinstance(step, NetworkStep)
        self.assertEqual((step.feeds[0].columns, step.beside), (("a", "b", "c", "d"), ("steps/0/dense.weights",)))
        label, scores = self.run_on(lamp, NUMBERS)
        wanted = networks.softmax(NUMBERS.to_numpy(np.float32) @ networks.WEIGHTS)
        np.testing.assert_allclose(scores, wanted, atol=1e-6)
        np.testing.assert_array_equal(label, wanted.argmax(axis=1))
        self.assertEqual(
            (lamp.manifest.provenance.notes, lamp.manifest.provenance.tags), ("A small graph of Tallowby.", {"town": "Tallowby"})
        )
        self.assertEqual(lamp.manifest.formats, frozenset())

    def test_a_path_alone_will_do_and_whole_numbers_may_feed_floats(self) -> None:
        lamp = self.pack(str(networks.dense(self.folder)), NUMBERS.assign(a=range(120)))
        self.assertEqual([field.kind for field in lamp.manifest.inputs], ["number"] * 4)
        self.assertEqual((lamp.manifest.answers.fields[0].kind, lamp.manifest.answers.fields[0].shape), ("tensor", (3,)))

    def test_several_inputs_and_outputs_text_and_open_axes(self) -> None:
        frame = pd.DataFrame(
            {"seq": [RNG.normal(size=1 + at % 4) for at in range(40)], "note": [f"note {at}" for at in range(40)], "k": np.arange(40)}
        )
        lamp = self.pack(networks.several(self.folder), frame)
        self.assertEqual([(f.name, f.kind, f.shape) for f in lamp.manifest.inputs][:2], [("seq", "tensor", (0,)), ("note", "text", ())])
        total, said, scaled = self.run_on(lamp, frame)
        np.testing.assert_allclose(total, [one.sum() for one in frame["seq"]], atol=1e-5)
        self.assertEqual(said, list(frame["note"]))
        for row in range(40):
            np.testing.assert_allclose(scaled[row], frame["seq"][row] * row, rtol=1e-5, atol=1e-5)

    def test_a_fixed_number_of_rows_is_filled_up(self) -> None:
        frame = pd.DataFrame({"x": RNG.normal(size=70)})
        for rows in (1, 4):
            lamp = self.pack(lamppost.Network(networks.fixed(self.folder, rows), labels=["no", "yes"]), frame)
            label, scores = self.run_on(lamp, frame)
            wanted = 1 / (1 + np.exp(-frame["x"].to_numpy()))
            np.testing.assert_allclose(np.asarray(scores)[:, 1], wanted, atol=1e-6)
            np.testing.assert_array_equal(label, wanted > 0.5)

    def test_whole_numbers_are_asked_for_where_the_graph_reads_them(self) -> None:
        path = networks.ids(self.folder)
        frame = pd.DataFrame({"a": [[1, 2, 3]] * 40, "b": [[4, 5, 6]] * 39 + [[7, 8, 9]]})
        lamp = self.pack(path, frame)
        self.assertEqual([field.elements for field in lamp.manifest.inputs], ["integer", "integer"])
        self.assertEqual(np.asarray(self.run_on(lamp, frame)[0])[-1].tolist(), [8, 10, 12])
        with self.assertRaisesRegex(BadRequest, "reads int64, and a holds numbers with fractions"):
            self.pack(path, pd.DataFrame({"a": [[1.5, 2, 3]] * 40, "b": [[4, 5, 6]] * 40}))

    def test_pictures_go_through_pixels(self) -> None:
        photos = [RNG.integers(0, 255, (12, 10, 3), dtype=np.uint8) for _ in range(40)]
        before = [lamppost.Pixels("photo", "pixels", (10, 12), layout="chw", mean=(0.5, 0.5, 0.5), sd=(0.2, 0.25, 0.3))]
        network = lamppost.Network(networks.picture(self.folder), labels=["rusts", "sound"], scores="softmax")
        lamp = self.pack(network, pd.DataFrame({"photo": photos}), before=before)
        import onnxruntime

        pixels = np.moveaxis((np.stack(photos) / 255 - 0.5) / [0.2, 0.25, 0.3], 3, 1).astype(np.float32)
        logits = onnxruntime.InferenceSession(self.folder / "picture.onnx").run(None, {"x": pixels})[0]
        np.testing.assert_allclose(self.run_on(lamp, pd.DataFrame({"photo": photos}))[1], networks.softmax(logits), atol=1e-5)
        with self.assertRaisesRegex(BadRequest, "put lamppost.Pixels"):
            self.pack(network, pd.DataFrame({"photo": photos}))

    def test_made_smaller_only_when_asked_and_never_silently(self) -> None:
        frame = pd.DataFrame({"x": list(RNG.normal(size=(200, 64)))})
        path = networks.wide(self.folder)
        whole = self.pack(lamppost.Network(path, labels=LABELS, scores="softmax"), frame)
        small = self.pack(lamppost.Network(path, labels=LABELS, scores="softmax"), frame, quantize=True)
        sizes = [lamp.manifest.members["steps/0/wide.onnx"].size_bytes for lamp in (small, whole)]
        self.assertLess(sizes[0], 0.5 * sizes[1])
        said = small.manifest.provenance.quantized or ""
        self.assertRegex(said, r"quantized: 6\d,\d+ bytes became \d+,\d+; ")
        self.assertRegex(said, r"label is the same on \d+ of 200 rows, scores differs by up to [\d.e-]+")
        self.assertIsNone(whole.manifest.provenance.quantized)
        again = self.pack(lamppost.Network(path, labels=LABELS, scores="softmax"), frame, quantize=True)
        self.assertEqual(again.digest, small.digest)
        with self.assertRaisesRegex(BadRequest, "only a network can be quantized"):
            from sklearn.linear_model import LinearRegression

            self.pack(LinearRegression().fit(NUMBERS, NUMBERS["a"]), NUMBERS, quantize=True)

    def test_what_does_not_fit_is_said(self) -> None:
        dense = networks.dense(self.folder)
        (self.folder / "bad.onnx").write_bytes(b"abc")
        for model, frame, summary in (
            (self.folder / "none.onnx", NUMBERS, "is no ONNX graph"),
            (self.folder / "bad.onnx", NUMBERS, "is no ONNX graph"),
            (self.folder / "model.h5", NUMBERS, "one of .onnx"),
            (dense, NUMBERS[["a", "b"]], r"wants \(4,\) a row"),
            (networks.several(self.folder), NUMBERS, "say which feed which"),
            (lamppost.Network(dense, labels=["a", "b"]), NUMBERS, "none of the outputs logits scores that many"),
            (lamppost.Network(dense, inputs={"y": "a"}), NUMBERS, "the network's inputs are x"),
            (lamppost.Network(dense, inputs={"x": ["a", "b", "c", "e"]}), NUMBERS, "there is no such column"),
            (lamppost.Network(dense, outputs={"probs": {}}), NUMBERS, "no output probs; its outputs are logits"),
        ):
            with self.subTest(summary=summary), self.assertRaisesRegex(BadRequest, summary):
                self.pack(model, frame)

    def test_constants_outside_the_folder_are_refused(self) -> None:
        import onnx

        path = networks.dense(self.folder, beside=True)
        model = onnx.load(path, load_external_data=False)
        model.graph.initializer[0].external_data[0].value = "../secret"
        path.write_bytes(model.SerializeToString())
        with self.assertRaisesRegex(BadRequest, "not beside it"):
            self.pack(path, NUMBERS)

    def test_a_missing_number_reaches_an_integer_input_as_a_fault_of_the_row(self) -> None:
        frame = pd.DataFrame({"a": [[1, 2, 3]] * 40, "b": [[4, 5, 6]] * 40})
        chain = open_chain((lamp := self.pack(networks.ids(self.folder), frame)).unpack(self.folder), lamp.manifest, frozenset())
        columns = columns_from_frame(lamp.manifest.inputs, frame)
        broken = replace(columns[0], values=np.full((40, 3), np.nan))
        self.assertRaisesRegex(InvalidRows, "no way to say that a value is missing", chain.run, [broken, columns[1]])


@unittest.skipIf(torch is None, "PyTorch is not installed")
class Programs(WithNetworks):
    def setUp(self) -> None:
        super().setUp()

        class Net(torch.nn.Module):  # type: ignore[name-defined, misc]
            def __init__(self) -> None:
                super().__init__()
                self.layer = torch.nn.Linear(4, 3)

            def forward(self, x: Any) -> Any:
                return torch.softmax(self.layer(x), -1)

        torch.manual_seed(1)
        self.net = Net().eval()
        self.wanted = self.net(torch.tensor(NUMBERS.to_numpy(np.float32))).detach().numpy()

    def test_exported_programs_and_torchscript_answer_as_the_module_does(self) -> None:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)  # TorchScript is old, and what many have
            torch.jit.trace(self.net, torch.zeros(2, 4)).save(self.folder / "net.pt")
        program = torch.export.export(self.net, (torch.zeros(2, 4),), dynamic_shapes=({0: torch.export.Dim("rows", min=1)},))
        torch.export.save(program, self.folder / "net.pt2")
        for name in ("net.pt", "net.pt2"):
            with self.subTest(name):
                lamp = self.pack(lamppost.Network(self.folder / name, labels=LABELS), NUMBERS)
                self.assertEqual(lamp.manifest.formats, frozenset({"torch"}))
                self.assertIn("torch", lamp.manifest.provenance.libraries)
                np.testing.assert_allclose(self.run_on(lamp, NUMBERS)[1], self.wanted, atol=1e-6)
                with self.assertRaisesRegex(PackageRefused, "--allow-pickle"):
                    open_chain(lamp.unpack(self.folder), lamp.manifest, frozenset({"skops"}))

    def test_a_file_that_is_no_program_is_refused(self) -> None:
        for name in ("bad.pt", "bad.pt2"):
            (self.folder / name).write_bytes(b"nothing")
            self.assertRaisesRegex(PackageRefused, "PyTorch cannot open", self.pack, self.folder / name, NUMBERS)


class Companions(WithNetworks):
    def test_a_network_whose_answer_depends_on_the_batch_fails_its_proof(self) -> None:
        path = networks.save(
            self.folder / "mean.onnx",
            [networks.node("ReduceMean", "x axis", "mean", keepdims=1), networks.node("Sub", "x mean", "y")],
            [("x", networks.FLOAT, ["rows"])],
            [("y", networks.FLOAT, ["rows"])],
            {"axis": np.array([0])},
        )
        with self.assertRaises(ProofFailed):
            self.pack(path, pd.DataFrame({"x": RNG.normal(size=60)}))
