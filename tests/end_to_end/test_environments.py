"""Packages with other library versions than the node's, side by side. The library is made here, so that no index is needed."""

import os
import subprocess
import sys
import tempfile
import unittest
import zipfile
from pathlib import Path

from lamppost.core.errors import LampPostError
from tests.support.lamps import run_folder
from tests.support.service import Service

PACK = """
import sys
import numpy as np, pandas as pd
from sklearn.linear_model import LinearRegression
import lamppost
from lamppost import Code
frame = pd.DataFrame({"x": np.arange(30.0)})
frame["y"] = frame["x"]
step = Code(sys.argv[1], "scaling:Scale", ["x"], {"scaled": {"kind": "number"}})
model = LinearRegression().fit(pd.DataFrame({"scaled": frame["x"]}), frame["y"])
lamppost.pack(model, frame, name="scaled", target="y", before=[step], to=sys.argv[2])
"""
SCALING = """
import tallowlib

class Scale:
    def run(self, columns):
        return {"scaled": columns["x"] * tallowlib.FACTOR}
"""


def wheel(folder: Path, version: str, factor: float) -> None:
    """A wheel of ``tallowlib``: one module with one number."""
    info = f"tallowlib-{version}.dist-info"
    with zipfile.ZipFile(folder / f"tallowlib-{version}-py3-none-any.whl", "w") as archive:
        archive.writestr("tallowlib/__init__.py", f"FACTOR = {factor}\n")
        archive.writestr(f"{info}/METADATA", f"Metadata-Version: 2.1\nName: tallowlib\nVersion: {version}\n")
        archive.writestr(f"{info}/WHEEL", "Wheel-Version: 1.0\nGenerator: tests\nRoot-Is-Purelib: true\nTag: py3-none-any\n")
        archive.writestr(f"{info}/RECORD", "")


class Environments(unittest.TestCase):
    service: Service
    folder: Path

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(dir=run_folder())
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        for version, factor in (("1.0", 2.0), ("2.0", 10.0)):
            wheel(cls.folder, version, factor)
        cls.index = {"PIP_NO_INDEX": "1", "PIP_FIND_LINKS": str(cls.folder)}
        cls.service = Service("--allow-code", "--environments")
        cls.service.environment |= cls.index
        cls.service.start()
        cls.addClassCleanup(cls.service.remove)

    def pack(self, version: str) -> Path:
        """Packed in a process that has that version of the library."""
        to = self.folder / f"scaled-{version}.lamp"
        if to.exists():
            return to
        there, code = self.folder / f"there-{version}", self.folder / "scaling.py"
        code.write_text(SCALING)
        environment = {**os.environ, **self.index}
        install = [sys.executable, "-m", "pip", "install", "-q", "--no-deps", "--target", str(there), f"tallowlib=={version}"]
        subprocess.run(install, check=True, env=environment)
        environment["PYTHONPATH"] = os.pathsep.join([str(there), environment.get("PYTHONPATH", "")])
        subprocess.run([sys.executable, "-W", "ignore", "-c", PACK, str(code), str(to)], check=True, env=environment)
        return to

    def test_two_versions_of_a_library_serve_side_by_side(self) -> None:
        lamps = {version: self.pack(version) for version in ("1.0", "2.0")}
        for version, lamp in lamps.items():
            self.service.serve(lamp, f"scaled-{version[0]}")
        with self.service.client() as client:
            self.assertAlmostEqual(client.predict("scaled-1", {"x": 3.0}).answer["y"], 6.0, places=9)
            self.assertAlmostEqual(client.predict("scaled-2", {"x": 3.0}).answer["y"], 30.0, places=9)
        made = [path for path in (self.service.data / "environments").iterdir() if not path.name.startswith(".")]
        self.assertEqual(len(made), 2)
        self.service.stop()
        self.service.environment.pop("PIP_FIND_LINKS")  # nothing is installed again
        self.service.start()
        with self.service.client() as client:
            self.assertAlmostEqual(client.predict("scaled-2", {"x": 3.0}).answer["y"], 30.0, places=9)
        self.service.environment |= self.index

    def test_a_shell_has_the_libraries_that_the_package_was_made_with(self) -> None:
        code = "import tallowlib; print('factor', tallowlib.FACTOR, predict(proof)['y'].sub(proof['trained.y']).abs().max() < 1e-9)"
        environment = {**os.environ, **self.index, "XDG_CACHE_HOME": str(self.folder / "cache"), "HOME": str(self.folder)}
        for version, factor in (("1.0", 2.0), ("2.0", 10.0)):
            command = [sys.executable, "-m", "lamppost", "shell", str(self.pack(version)), "--allow-code", "--run", code]
            done = subprocess.run(command, capture_output=True, text=True, env=environment)
            self.assertEqual((done.returncode, done.stdout), (0, f"factor {factor} True\n"), done.stderr)

    def test_what_cannot_be_installed_is_said_and_nothing_serves(self) -> None:
        lamp = self.pack("1.0")
        (self.folder / "tallowlib-1.0-py3-none-any.whl").rename(self.folder / "away")
        other = Service("--allow-code", "--environments")
        other.environment |= self.index
        self.addCleanup(other.remove)
        other.start()
        with other.client() as client:
            version = client.push(lamp)["version"]
            with self.assertRaisesRegex(LampPostError, "was packed with tallowlib==1.0, and pip cannot install that here"):
                client.point("scaled", version)
        (self.folder / "away").rename(self.folder / "tallowlib-1.0-py3-none-any.whl")
        self.assertEqual(list(other.data.glob("environments/*")), [])
