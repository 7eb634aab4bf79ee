"""skops is imported without the array libraries that are installed beside it."""

import subprocess
import sys
import unittest

_ASKED = """
import sys
from lamppost.package.skops_import import import_skops
skops_io = import_skops()
from sklearn.linear_model import LinearRegression
model = LinearRegression().fit([[0.0], [1.0]], [0.0, 1.0])
again = skops_io.loads(skops_io.dumps(model))
print(sorted({"torch", "dask", "cupy", "jax"} & set(sys.modules)), again.coef_[0], len(sys.meta_path))
import importlib.util
print(importlib.util.find_spec("json") is not None)
"""


class SkopsImport(unittest.TestCase):
    def test_no_array_library_comes_along_and_imports_are_as_before_afterwards(self) -> None:
        finders = subprocess.run(
            [sys.executable, "-c", "import sys; print(len(sys.meta_path))"], capture_output=True, text=True, check=True
        )
        done = subprocess.run([sys.executable, "-c", _ASKED], capture_output=True, text=True, check=True)
        modules, coefficient, count = done.stdout.splitlines()[0].rsplit(" ", 2)
        self.assertEqual(modules, "[]")
        self.assertAlmostEqual(float(coefficient), 1.0)
        self.assertLessEqual(int(count) - int(finders.stdout), 1, "an editable installation may add a finder of its own")
        self.assertEqual(done.stdout.splitlines()[1], "True")
