"""Every example in a docstring is run, and every name in single backquotes is there."""

import ast
import doctest
import importlib
import re
import unittest
from pathlib import Path

SOURCE = Path(__file__).resolve().parents[1] / "src" / "lamppost"
FILES = sorted(path for path in SOURCE.rglob("*.py") if not path.name.endswith("_pb2.py"))


def module_of(path: Path) -> str:
    parts = path.relative_to(SOURCE.parent).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


class Docstrings(unittest.TestCase):
    def test_examples_hold(self) -> None:
        ran = 0
        for path in FILES:
            if ">>> " in path.read_text(encoding="utf-8"):
                with self.subTest(path.name):
                    found = doctest.testmod(importlib.import_module(module_of(path)), optionflags=doctest.ELLIPSIS)
                    self.assertEqual(found.failed, 0)
                    ran += found.attempted
        self.assertGreater(ran, 10)

    def test_names_that_are_referred_to_exist(self) -> None:
        known: set[str] = set()
        for path in FILES:
            known |= set(re.findall(r"\b[A-Za-z_]\w*\b", ast.unparse(_without_docstrings(ast.parse(path.read_text(encoding="utf-8"))))))
        modules = {module_of(path) for path in FILES} | {module_of(path).rpartition(".")[0] for path in FILES}
        for path in FILES:
            for name in re.findall(r"(?<!`)`([A-Za-z_][\w.]*)`(?!`)", path.read_text(encoding="utf-8")):
                there = name in modules or name.rpartition(".")[2] in known
                self.assertTrue(there, f"{path}: `{name}` is not there")


def _without_docstrings(tree: ast.Module) -> ast.Module:
    for node in ast.walk(tree):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef) and ast.get_docstring(node) is not None:
            node.body = node.body[1:] or [ast.Pass()]
    return tree
