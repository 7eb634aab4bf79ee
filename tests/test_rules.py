"""Rules of the house that machines can hold."""

import ast
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import lamppost
from lamppost.service.openapi import document

ROOT = Path(__file__).resolve().parents[1]
SOURCE = ROOT / "src" / "lamppost"

#: Which top-level rooms each room may use, beside itself. Modules at the top stand under "".
MAY_USE = {
    "core": set(),
    "package": {"core"},
    "runtime": {"core", "package"},
    "packing": {"core", "package", "runtime"},
    "store": {"core"},
    "client": {"core"},
    "service": {"core", "package", "runtime", "store", ""},
    "serving": {"core", "packing", "client"},
    "cli": {"core", "package", "packing", "runtime", "store", "service", "client", ""},
    "": {"core", "packing", "client", "serving", "cli"},
}
#: The rooms inside of core and of the service, lower ones first: a module uses its own room and those before it. A name stands for the
#: modules directly in that folder, but for those that are named themselves.
ORDER = (
    "core",
    "core.engine",
    "core.schema",
    "core.payload",
    "core.drift",
    "core.artifact",
    "core.monitoring",
    "core.insight",
    "core.endpoint",
    "core.explanation",
    "core.bulk",
    "core.desk",
    "core.load",
    "core.sweep",
    "runtime.confinement",
    "runtime",
    "service",
    "service.processes",
    "service.logs",
    "service.packages",
    "service.records",
    "service.grpc.predict_pb2",
    "service.grpc.columns",
    "service.remote",
    "service.prediction",
    "service.deployment",
    "service.explanation",
    "service.bulk",
    "service.measuring",
    "service.pages",
    "service.hub",
    "service.monitoring",
    "service.desk",
    "service.http",
    "service.fronts",
    "service.grpc",
    "service.node",
    "service.outpost",
    "service.api",
    "service.app",
    "service.openapi",
)
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


def module_name(path: Path, source: Path) -> str:
    """The dotted name of a file below ``lamppost``; empty for its front."""
    parts = path.relative_to(source).with_suffix("").parts
    return ".".join(parts[:-1] if parts[-1] == "__init__" else parts)


def imported(path: Path) -> set[str]:
    """Every module that a file imports, wherever in it: inside of functions and for types only, too."""
    names: set[str] = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom):
            names |= {f"{node.module}.{alias.name}" for alias in node.names}
    return names


def import_graph(source: Path) -> dict[str, set[str]]:
    """Which of our modules each of our modules imports."""
    files = {module_name(path, source): path for path in source.rglob("*.py")}
    graph: dict[str, set[str]] = {}
    for module, path in files.items():
        used = graph[module] = set()
        for name in imported(path):
            if name == "lamppost" or name.startswith("lamppost."):
                inside = name.removeprefix("lamppost").removeprefix(".")
                used.add(inside if inside in files else inside.rpartition(".")[0])
        used.discard(module)
    return graph


def room_of(module: str) -> str:
    """The room in `ORDER` that a module belongs to, else its folder."""
    return next((room for room in (module, module.rpartition(".")[0]) if room in ORDER), module.rpartition(".")[0])


def broken_order(graph: dict[str, set[str]]) -> list[str]:
    """Imports that point to a room which the importing room may not use."""
    broken = []
    tops = {module.split(".")[0] for module in graph if "." in module}
    for module, used in graph.items():
        for other in used:
            top, other_top = (name.split(".")[0] if name.split(".")[0] in tops else "" for name in (module, other))
            if top != other_top:
                if other_top not in MAY_USE[top]:
                    broken.append(f"{module} may not use {other}: {top or 'the front'} stands below {other_top}")
                continue
            room, other_room = room_of(module), room_of(other)
            if room in ORDER and other_room in ORDER and ORDER.index(other_room) > ORDER.index(room):
                broken.append(f"{module} may not use {other}: {room} stands below {other_room}")
    return broken


def cycles(graph: dict[str, set[str]]) -> list[set[str]]:
    """Groups of modules that import each other in a circle (Tarjan's strongly connected components, by repeated reach)."""
    reach: dict[str, set[str]] = {}
    for start in graph:
        seen: set[str] = set()
        todo = [start]
        while todo:
            for other in graph.get(todo.pop(), ()):
                if other not in seen:
                    seen.add(other)
                    todo.append(other)
        reach[start] = seen
    found: list[set[str]] = []
    for module in graph:
        if module in reach[module] and not any(module in group for group in found):
            found.append({other for other in reach[module] if module in reach.get(other, ())})
    return found


class Imports(unittest.TestCase):
    def test_rooms_use_only_the_rooms_before_them(self) -> None:
        self.assertEqual(broken_order(import_graph(SOURCE)), [])

    def test_no_two_modules_import_each_other_in_a_circle(self) -> None:
        self.assertEqual(cycles(import_graph(SOURCE)), [])

    def test_a_planted_circle_and_a_planted_import_upwards_are_found(self) -> None:
        with tempfile.TemporaryDirectory() as name:
            source = Path(name)
            for path, text in {
                "__init__.py": "",
                "core/engine/one.py": "def one():\n    from lamppost.core.engine import two\n",
                "core/engine/two.py": "if TYPE_CHECKING:\n    from lamppost.core.engine.one import one\n",
                "core/schema/three.py": "from lamppost.core.payload.four import four\nimport lamppost.store.five\n",
                "core/payload/four.py": "",
                "store/five.py": "",
            }.items():
                (source / path).parent.mkdir(parents=True, exist_ok=True)
                (source / path).write_text(text)
            graph = import_graph(source)
        self.assertEqual(cycles(graph), [{"core.engine.one", "core.engine.two"}])
        self.assertEqual(
            sorted(broken_order(graph)),
            [
                "core.schema.three may not use core.payload.four: core.schema stands below core.payload",
                "core.schema.three may not use store.five: core stands below store",
            ],
        )

    def test_core_is_pure(self) -> None:
        for path in (SOURCE / "core").rglob("*.py"):
            self.assertFalse({name.split(".")[0] for name in imported(path)} & NOT_IN_CORE, path)
            called = {ast.unparse(node.func) for node in ast.walk(ast.parse(path.read_text())) if isinstance(node, ast.Call)}
            self.assertFalse(called & {"open", "io.open", "datetime.now", "datetime.today", "datetime.utcnow"}, path)

    def test_the_front_is_sorted_and_complete(self) -> None:
        self.assertEqual(list(lamppost.__all__), sorted(lamppost.__all__))
        for name in lamppost.__all__:
            self.assertIsNotNone(getattr(lamppost, name))
        self.assertRaises(AttributeError, getattr, lamppost, "nothing")

    def test_importing_and_asking_for_help_load_nothing_heavy(self) -> None:
        for code in ("import lamppost", "from lamppost.cli.command_table import make_command_line; make_command_line()"):
            script = f"import sys; {code}; print([name for name in {HEAVY} if name in sys.modules])"
            done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
            self.assertEqual(done.stdout.strip(), "[]", code)


class Files(unittest.TestCase):
    def test_no_folder_holds_more_than_twenty_five_modules(self) -> None:
        for folder in (path for path in SOURCE.rglob("*") if path.is_dir()):
            self.assertLessEqual(len(list(folder.glob("*.py"))), 26, folder)

    def test_no_file_is_longer_than_five_hundred_lines(self) -> None:
        for folder in ("src", "tests", "demo", "bench", "console/src", "scripts"):
            for path in (ROOT / folder).rglob("*"):
                if path.suffix in (".py", ".sql", ".ts", ".tsx", ".css", ".sh") and not path.name.endswith(".d.ts"):
                    self.assertLessEqual(len(path.read_text(encoding="utf-8").splitlines()), 500, path)

    def test_the_console_is_typed_from_the_present_api(self) -> None:
        kept = (SOURCE / "service" / "openapi.json").read_bytes()
        self.assertEqual(document(), kept, "make it anew: python -m lamppost.service.openapi")
