import unittest
from importlib import metadata

import numpy as np
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import FunctionTransformer, StandardScaler
from sklearn.tree import DecisionTreeClassifier

from lamppost.packing.pins import find_pins, imports_of, modules_of


class Environment(unittest.TestCase):
    def test_what_the_steps_import_is_pinned_and_nothing_else(self) -> None:
        model = make_pipeline(FunctionTransformer(np.log1p), StandardScaler(), DecisionTreeClassifier())
        model.fit(np.arange(1.0, 9.0).reshape(-1, 1), [0, 1] * 4)
        code = {
            "steps/0/code/clean.py": b"import json\nfrom pydantic import BaseModel\nfrom . import other\n",
            "steps/0/code/words.txt": b"import x",
        }
        found = find_pins(model, code)
        self.assertEqual(list(found), ["numpy", "pydantic", "scikit-learn"])
        self.assertEqual(found["numpy"], metadata.version("numpy"))
        self.assertEqual(list(find_pins(1, {}, ("onnxruntime",))), ["onnxruntime"])

    def test_modules_are_read_off_the_object_without_running_it(self) -> None:
        self.assertIn("sklearn.tree._classes", modules_of([DecisionTreeClassifier()]))
        self.assertIn("cloudpickle.cloudpickle", modules_of(lambda: None))
        self.assertEqual(imports_of({"a.py": b"import os.path as p, numpy.linalg\n"}), {"os.path", "numpy.linalg"})
