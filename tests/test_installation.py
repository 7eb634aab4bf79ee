"""What an installation holds: the packages of each extra, a client that runs without the others, a wheel that has the console."""

import os
import re
import shutil
import subprocess
import sys
import sysconfig
import tempfile
import tomllib
import unittest
import zipfile
from importlib import metadata
from pathlib import Path

from lamppost.cli.command_table import COMMANDS
from lamppost.core.extras import MODULES_OF_EXTRAS, missing_extra

ROOT = Path(__file__).resolve().parent.parent
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]
CLIENT_MB = 30


def name_of(requirement: str) -> str:
    """The name of a requirement such as ``psycopg[binary]>=3.2``, as metadata has it."""
    matched = re.match(r"[A-Za-z0-9._-]+", requirement)
    assert matched is not None
    return matched[0].lower().replace("_", "-")


def needed_by(requirements: list[str]) -> dict[str, metadata.Distribution]:
    """What requirements bring, by name: they themselves and all that they need on this machine."""
    found: dict[str, metadata.Distribution] = {}
    waiting = [(name_of(one), "[binary]" in one) for one in requirements if not one.startswith("lamppost[")]
    while waiting:
        name, binary = waiting.pop()
        if name in found:
            continue
        try:
            found[name] = metadata.distribution(name)
        except metadata.PackageNotFoundError:
            continue  # for another machine or version of Python
        waiting += [(name_of(one), False) for one in found[name].requires or () if "extra ==" not in one]
        if binary:
            waiting.append((f"{name}-binary", False))
    return found


class Installation(unittest.TestCase):
    def link(self, requirements: list[str]) -> Path:
        """A folder that holds these packages and Lamp Post alone, as links."""
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (folder / "lamppost").symlink_to(ROOT / "src" / "lamppost")
        for distribution in needed_by(requirements).values():
            for top in {file.parts[0] for file in distribution.files or () if file.parts[0] not in ("..", "__pycache__")}:
                if not (folder / top).exists():
                    (folder / top).symlink_to(Path(str(distribution.locate_file(top))).resolve())
        return folder

    def run_in(self, folder: Path, code: str) -> subprocess.CompletedProcess[str]:
        """Run code with the standard library and a folder's packages, and nothing else."""
        paths = [sysconfig.get_path("stdlib"), f"{sysconfig.get_path('stdlib')}/lib-dynload", str(folder)]
        program = f"import sys; sys.path[:] = {paths!r}; {code}"
        home = {"HOME": str(folder), "PATH": os.environ["PATH"]}
        return subprocess.run(
            [sys.executable, "-I", "-S", "-c", program], capture_output=True, text=True, timeout=120, check=False, env=home
        )

    def command(self, folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
        return self.run_in(folder, f"sys.argv = {['lamppost', *words]!r}; from lamppost.cli import main; main()")

    def test_the_table_of_extras_is_that_of_the_project(self) -> None:
        distributions = metadata.packages_distributions()
        extras = PROJECT["optional-dependencies"]
        known: set[str] = {"pandas"}
        for extra, modules in MODULES_OF_EXTRAS.items():
            named = {name_of(one) for one in extras[extra] if not one.startswith("lamppost[")}
            brought = {name.lower().replace("_", "-") for module in modules for name in distributions.get(module, ())}
            brought.discard("psycopg-binary")
            if extra == "torch":
                brought.add("torch")  # not on every machine
            self.assertEqual(brought - known, named - known, extra)
            known |= named | brought

    def test_the_missing_package_is_named_with_its_extra(self) -> None:
        error = missing_extra(ModuleNotFoundError(name="onnx.helper"))
        assert error is not None
        self.assertEqual(error.detail, "the package onnx is missing; install it with: pip install 'lamppost[pack]'")
        self.assertIsNone(missing_extra(ModuleNotFoundError(name="somebodys")))

    def test_the_client_and_its_commands_run_without_the_rest(self) -> None:
        folder = self.link(PROJECT["dependencies"])
        ran = self.run_in(folder, "import lamppost; print(lamppost.Client, lamppost.AsyncClient, 'numpy' in sys.modules)")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        self.assertIn("False", ran.stdout)
        self.assertEqual(self.command(folder, "--help").returncode, 0)
        modules = {entry.module for entry in COMMANDS.values()}
        for module in sorted(name for name in modules if not name.startswith(("lamp_files", "node"))):
            ran = self.run_in(folder, f"import lamppost.cli.{module}")
            self.assertEqual(ran.returncode, 0, f"{module}: {ran.stderr}")
        asked = self.command(folder, "endpoints", "--address", "http://127.0.0.1:9")
        self.assertEqual((asked.returncode, "nothing answers at" in asked.stderr), (3, True), asked.stderr)
        started = self.command(folder, "up")
        self.assertEqual(started.returncode, 1)
        self.assertIn("pip install 'lamppost[service]'", started.stderr)
        self.assertNotIn("Traceback", started.stderr)
        packed = self.command(folder, "pack", "m.joblib")
        self.assertIn("pip install 'lamppost[pack]'", packed.stderr)
        self.assertNotIn("Traceback", packed.stderr)
        ran = self.run_in(folder, "import lamppost; lamppost.pack")
        self.assertIn("pip install 'lamppost[pack]'", ran.stderr.splitlines()[-1])

    def test_a_client_is_small(self) -> None:
        size = sum(path.stat().st_size for path in (ROOT / "src" / "lamppost").rglob("*") if path.is_file() and path.suffix != ".pyc")
        for distribution in needed_by(PROJECT["dependencies"]).values():
            size += sum(Path(str(file.locate())).stat().st_size for file in distribution.files or () if file.suffix != ".pyc")
        self.assertLess(size, CLIENT_MB * 1e6)

    def test_packing_and_the_service_import_with_their_extras_alone(self) -> None:
        extras = PROJECT["optional-dependencies"]
        packing = self.link(PROJECT["dependencies"] + extras["pack"])
        ran = self.run_in(packing, "import lamppost; lamppost.pack; lamppost.serve; lamppost.Threshold; import lamppost.runtime.worker")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        service = self.link(PROJECT["dependencies"] + extras["pack"] + extras["service"])
        ran = self.run_in(service, "import lamppost.cli.node.up, lamppost.service.app")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        refused = self.command(service, "up", "--grpc-port", "1", "--data", str(service / "data"))
        self.assertIn("pip install 'lamppost[grpc]'", refused.stderr)


class Wheel(unittest.TestCase):
    def build(self, folder: Path, path: str) -> subprocess.CompletedProcess[str]:
        words = ["-m", "pip", "wheel", "-q", "--no-deps", "--no-build-isolation", "-w", str(folder), "."]
        return subprocess.run(
            [sys.executable, *words], cwd=ROOT, env={**os.environ, "PATH": path}, capture_output=True, text=True, timeout=300, check=False
        )

    def test_without_node_no_wheel_is_built_and_the_reason_is_said(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for name in ("hatch_build.py", "scripts/setup.sh", "console/package.json", "console/package-lock.json"):
            (folder / name).parent.mkdir(exist_ok=True)
            shutil.copy(ROOT / name, folder / name)
        node = folder / "node"
        node.write_text("#!/bin/sh\nexit 1\n")
        node.chmod(0o755)
        hook = "ConsoleBuildHook('.', {}, None, None, '.', '').initialize('standard', {})"
        built = subprocess.run(
            [sys.executable, "-c", f"from hatch_build import ConsoleBuildHook; {hook}"],
            cwd=folder,
            env={**os.environ, "PATH": f"{folder}:{os.environ['PATH']}"},
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
        self.assertEqual(built.returncode, 1)
        self.assertIn("install Node.js 20.19 or newer with npm", built.stderr.splitlines()[-1])

    def test_a_wheel_has_the_console_the_types_and_the_licence(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        built = self.build(folder, os.environ["PATH"])
        self.assertEqual(built.returncode, 0, built.stderr)
        with zipfile.ZipFile(next(folder.glob("*.whl"))) as wheel:
            names = wheel.namelist()
            about = wheel.read(next(name for name in names if name.endswith("METADATA"))).decode()
        self.assertIn("lamppost/console/dist/index.html", names)
        self.assertIn("lamppost/py.typed", names)
        self.assertTrue(any(name.endswith("licenses/LICENSE") for name in names))
        self.assertIn("License-Expression: Apache-2.0", about)
        self.assertNotRegex(about, r"Requires-Dist: (fastapi|numpy|httpx)\S*==")
