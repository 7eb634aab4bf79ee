"""Rules of the house that machines can hold."""

import ast
import subprocess
import sys
import unittest
from pathlib import Path

import lamppost
from lamppost.service.openapi import document

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "lamppost"

#: Which rooms each room may use, beside itself. Modules at the top stand under "".
MAY_USE = {
    "core": set(),
    "package": {"core"},
    "runtime": {"core", "package"},
    "packing": {"core", "package", "runtime"},
    "store": {"core"},
    "client": {"core"},
    "service": {"core", "package", "runtime", "store", ""},
    "cli": {"core", "package", "packing", "runtime", "store", "service", "client", ""},
    "": {"core", "packing", "client", "cli"},
}
#: What core never touches: files, sockets, clocks, threads, processes, and the libraries that do.
NOT_IN_CORE = {
    "asyncio",
    "socket",
    "os",
    "pathlib",
    "time",
    "threading",
    "subprocess",
    "multiprocessing",
    "tempfile",
    "random",
    "fastapi",
    "starlette",
    "psycopg",
    "psycopg_pool",
    "typer",
    "httpx",
    "uvicorn",
    "anyio",
    "sklearn",
    "skops",
}
#: What a client's process or a quick command need not load.
HEAVY = ("numpy", "pandas", "sklearn", "fastapi", "psycopg", "pydantic", "httpx")


def imported(path: Path) -> set[str]:
    """Every module that a file imports, wherever in it."""
    names: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            names |= {f"{node.module}.{alias.name}" for alias in node.names}
    return names


class Imports(unittest.TestCase):
    def test_rooms_use_only_the_rooms_above_them(self) -> None:
        rooms = {path.name for path in SOURCE.iterdir() if path.is_dir()}
        for path in SOURCE.rglob("*.py"):
            inside = path.relative_to(SOURCE).parts
            room = inside[0] if len(inside) > 1 else ""
            for name in imported(path):
                if name == "lamppost" or name.startswith("lamppost."):
                    used = name.split(".")[1] if name.count(".") else ""
                    used = used if used in rooms else ""
                    self.assertTrue(used == room or used in MAY_USE[room], f"{path}: {room or 'top'} may not use {name}")

    def test_core_is_pure(self) -> None:
        for path in (SOURCE / "core").glob("*.py"):
            self.assertFalse({name.split(".")[0] for name in imported(path)} & NOT_IN_CORE, path)
            called = {ast.unparse(node.func) for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.Call)}
            self.assertFalse(called & {"open", "io.open", "datetime.now", "datetime.today", "datetime.utcnow"}, path)

    def test_the_front_is_sorted_and_complete(self) -> None:
        self.assertEqual(list(lamppost.__all__), sorted(lamppost.__all__))
        for name in lamppost.__all__:
            self.assertIsNotNone(getattr(lamppost, name))
        self.assertRaises(AttributeError, getattr, lamppost, "nothing")

    def test_importing_and_asking_for_help_load_nothing_heavy(self) -> None:
        for code in ("import lamppost", "import lamppost.cli.app"):
            script = f"import sys; {code}; print([name for name in {HEAVY} if name in sys.modules])"
            done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
            self.assertEqual(done.stdout.strip(), "[]", code)


class Files(unittest.TestCase):
    def test_no_file_is_longer_than_five_hundred_lines(self) -> None:
        for folder in ("src", "tests", "demo", "bench", "console/src", "scripts"):
            for path in (ROOT / folder).rglob("*"):
                if path.suffix in (".py", ".sql", ".ts", ".tsx", ".css", ".sh") and not path.name.endswith(".d.ts"):
                    self.assertLessEqual(len(path.read_text(encoding="utf-8").splitlines()), 500, path)

    def test_the_console_is_typed_from_the_present_api(self) -> None:
        kept = (ROOT / "console" / "openapi.json").read_bytes()
        self.assertEqual(document(), kept, "make it anew: python -m lamppost.service.openapi > console/openapi.json")
