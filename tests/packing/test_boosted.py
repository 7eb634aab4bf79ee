"""LightGBM and XGBoost: carried in their own open formats, compiled where that is exact, and answering as the library does."""

import json
import tempfile
import unittest
import warnings
from pathlib import Path

import lightgbm as lgb
import numpy as np

from lamppost.core.artifact.schema_inference import columns_from_frame
from lamppost.core.artifact.steps import BoosterFiles, SklearnStep
from lamppost.core.errors import PackageRefused
from lamppost.package.boosted_model import load_trees
from lamppost.package.read import read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from lamppost.runtime.running_steps import open_chain
from tests.support import boosters
from tests.support.boosters import CASES, LAMPS, NUMBERS, SMALL


class EveryKind(unittest.TestCase):
    def test_original_and_graph_answer_as_the_library_does(self) -> None:
        for name, make, frame, target, labels, compiles in CASES:
            with self.subTest(name), tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
                warnings.simplefilter("ignore")
                packed = boosters.packed(name, make, frame, target, labels)
                lamp = read_lamp(packed.path)
                step = lamp.manifest.steps[0]
                assert isinstance(step, SklearnStep)
                assert step.booster is not None
                self.assertEqual(step.compiled is not None, compiles, step.not_compiled)
                unpacked = lamp.unpack(Path(folder))
                self.assertRegex((unpacked / step.booster.file).read_bytes()[:40], rb"^tree\n|^\{")
                wanted = np.asarray(boosters.said_by(packed.model, frame), dtype=np.float64)
                for original in (False, True):
                    chain = open_chain(unpacked, lamp.manifest, frozenset({"skops"}), original)
                    given = np.asarray(chain.run(columns_from_frame(lamp.manifest.inputs, frame))[-1].values)
                    given = given[:, 1] if given.ndim > wanted.ndim else given
                    np.testing.assert_allclose(given, wanted, rtol=2e-6, atol=2e-6)

    def test_no_pickle_is_needed(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "m.lamp"
            frame = NUMBERS.assign(kwh=LAMPS["kwh"])
            build_package(lgb.LGBMRegressor(**SMALL).fit(NUMBERS, LAMPS["kwh"]), frame, Recipe("m", "kwh", compile=False), path)
            lamp = read_lamp(path)
            self.assertEqual(lamp.manifest.formats, frozenset())
            self.assertEqual([name for name in lamp.manifest.members if name.startswith("steps")], ["steps/0/trees.txt"])
            self.assertIn("lightgbm", lamp.manifest.provenance.libraries)

    def test_damaged_trees_are_refused(self) -> None:
        for library, data in (("lightgbm", b"no trees"), ("xgboost", json.dumps({"learner": 1}).encode())):
            with self.assertRaisesRegex(PackageRefused, f"{library} cannot read t"):
                load_trees(None, BoosterFiles(library, "t"), data, 2)  # type: ignore[arg-type]
