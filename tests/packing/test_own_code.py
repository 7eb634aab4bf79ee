"""Functions and classes of a script, of a notebook and of modules beside travel with the model that is made with them."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from lamppost.core.errors import PackageRefused
from lamppost.package.read import Lamp, read_lamp
from lamppost.runtime.proving import prove
from lamppost.runtime.running_steps import open_chain

ROOT = Path(__file__).resolve().parents[2]
BESIDE = {
    "features.py": """
import numpy as np
from shapes.round import squared

class Squares:
    def fit(self, X, y=None): return self
    def transform(self, X): return squared(np.asarray(X, dtype=float))
""",
    "shapes/__init__.py": "",
    "shapes/round.py": "from .names import ROUND\ndef squared(x): return x**2 / ROUND\n",
    "shapes/names.py": "ROUND = 2.0\n",
    "unused.py": "raise RuntimeError('nobody needs this')\n",
}
IMPORTS = """
import sys, warnings
import numpy as np
import pandas as pd
from sklearn.base import BaseEstimator, RegressorMixin, TransformerMixin
from sklearn.linear_model import LinearRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import FunctionTransformer
import lamppost
warnings.simplefilter("ignore")
X = pd.DataFrame(np.random.default_rng(0).normal(size=(120, 3)), columns=list("abc"))
"""
DEFINITIONS = """
OFFSET, RATES = 3.5, {"day": [1, 2]}
ARRAY = np.arange(3.0)

def shifted(X):
    return np.asarray(X) + OFFSET + RATES["day"][0]

class Shifted(BaseEstimator, TransformerMixin):
    def __init__(self, by=1.0): self.by = by
    def fit(self, X, y=None): return self
    def transform(self, X): return shifted(X) * self.by

class Middle(RegressorMixin, BaseEstimator):
    def fit(self, X, y):
        self.middle_ = float(np.median(y))
        return self
    def predict(self, X): return np.full(len(X), self.middle_)

def of_array(X): return np.asarray(X) + ARRAY

def times(k):
    def inner(X): return np.asarray(X) * k
    return inner
"""
PACKING = """
def pack(model, to):
    model.fit(X, X.sum(axis=1))
    print(lamppost.pack(model, X.assign(y=X.sum(axis=1)), name="m", target="y", to=to, compile=False, prove=False).path)

if __name__ == "__main__":
    import features
    pack(make_pipeline(Shifted(2.0), LinearRegression()), "class.lamp")
    pack(Middle(), "estimator.lamp")
    pack(make_pipeline(FunctionTransformer(of_array), LinearRegression()), "array.lamp")
    pack(make_pipeline(FunctionTransformer(lambda X: np.asarray(X) ** 3), LinearRegression()), "lambda.lamp")
    pack(make_pipeline(FunctionTransformer(times(2.0)), LinearRegression()), "inner.lamp")
    pack(make_pipeline(features.Squares(), LinearRegression()), "beside.lamp")
"""
CELLS = """
import linecache
for number, cell in enumerate((IMPORTS, DEFINITIONS, PACKING)):
    name = f"<cell {number}>"
    linecache.cache[name] = (len(cell), None, cell.splitlines(keepends=True), name)
    exec(compile(cell, name, "exec"))
"""


class OwnCode(unittest.TestCase):
    folder: Path

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        for name, source in BESIDE.items():
            (cls.folder / name).parent.mkdir(exist_ok=True)
            (cls.folder / name).write_text(source)
        cls.run_script(IMPORTS + DEFINITIONS + PACKING)

    @classmethod
    def run_script(cls, source: str) -> None:
        (cls.folder / "train.py").write_text(source)
        kept = {name: os.environ[name] for name in ("PATH", "HOME") if name in os.environ}
        environment = kept | {"PYTHONPATH": str(ROOT / "src"), "OMP_NUM_THREADS": "1"}
        done = subprocess.run([sys.executable, "train.py"], cwd=cls.folder, capture_output=True, text=True, timeout=300, env=environment)
        if done.returncode:
            raise AssertionError(done.stderr)

    def lamp(self, name: str) -> Lamp:
        return read_lamp(self.folder / f"{name}.lamp")

    def proven(self, lamp: Lamp) -> None:
        """In a confined process, which cannot read the folder of the script."""
        verdict = prove(lamp)
        self.assertTrue(verdict.passed, verdict.sentence())

    def test_classes_and_functions_of_a_script_travel_as_source_with_what_they_need_and_no_more(self) -> None:
        lamp = self.lamp("class")
        source = (lamp.unpack(self.folder / "unpacked") / "steps/0/code/packed_code.py").read_text()
        for line in ("import numpy as np", "OFFSET = 3.5", "RATES = {'day': [1, 2]}", "def shifted(X):", "class Shifted("):
            self.assertIn(line, source)
        for other in ("Middle", "of_array", "X = ", "lamppost"):
            self.assertNotIn(other, source)
        self.assertEqual((lamp.manifest.formats, self.lamp("estimator").manifest.formats), ({"python"}, {"python"}))
        self.proven(lamp)

    def test_a_notebooks_cells_do_as_a_script_does(self) -> None:
        before = self.lamp("class").unpack(self.folder / "unpacked") / "steps/0/code/packed_code.py"
        self.run_script(f"IMPORTS, DEFINITIONS, PACKING = {IMPORTS!r}, {DEFINITIONS!r}, {PACKING!r}\n{CELLS}")
        lamp = self.lamp("class")
        after = lamp.unpack(self.folder / "unpacked again") / "steps/0/code/packed_code.py"
        self.assertEqual(after.read_text(), before.read_text())

    def test_what_has_no_source_of_its_own_travels_inside_the_pickle(self) -> None:
        for name in ("inner", "array", "lambda"):
            lamp = self.lamp(name)
            (step,) = lamp.manifest.steps
            self.assertEqual((step.code, lamp.manifest.formats), ((), {"pickle"}), name)  # type: ignore[union-attr]
            self.assertIn("cloudpickle", lamp.manifest.provenance.libraries)
        self.proven(lamp)

    def test_modules_beside_travel_with_those_that_they_import(self) -> None:
        lamp = self.lamp("beside")
        (step,) = lamp.manifest.steps
        self.assertEqual(step.code, ("features.py", "shapes/__init__.py", "shapes/names.py", "shapes/round.py"))  # type: ignore[union-attr]
        self.proven(lamp)

    def test_it_is_code_for_those_who_open_it(self) -> None:
        lamp = self.lamp("class")
        folder = lamp.unpack(self.folder / "unpacked")
        with self.assertRaises(PackageRefused) as caught:
            open_chain(folder, lamp.manifest, frozenset({"skops", "pickle"}))
        self.assertIn("--allow-code", caught.exception.detail)
        tampered = folder / "steps/0/code/packed_code.py"
        tampered.chmod(0o600)
        whole = tampered.read_bytes()
        tampered.write_bytes(whole + b"\nprint('more')\n")
        try:
            with self.assertRaises(PackageRefused) as caught:
                open_chain(folder, lamp.manifest, frozenset({"python"}))
            self.assertIn("was changed since it was unpacked", caught.exception.detail)
        finally:
            tampered.write_bytes(whole)
