"""What packages name as libraries reaches pip as names and versions only, and pip reaches nothing of the service."""

import os
import subprocess
import sys
import tarfile
import tempfile
import unittest
from pathlib import Path

from lamppost.core.artifact.manifest import Provenance
from lamppost.core.errors import PackageRefused
from lamppost.package.read import read_lamp
from lamppost.runtime.confinement.worker_home import WorkerHome, WorkerRules
from lamppost.runtime.library_environments import LibraryEnvironments
from tests.support.hostile import changed_lamp
from tests.support.lamps import moody_lamp, run_folder
from tests.support.models import Moody

HOSTILE = (
    ("--index-url", "http://127.0.0.1/"),
    ("tallowlib @ file:///tmp/x.whl", "1"),
    ("/tmp/tallowlib-1.0.tar.gz", "1"),
    ("git+file:///tmp/repository", "1"),
    ("tallowlib", "1.0 --extra-index-url=http://127.0.0.1/"),
    ("tallowlib[all]", "1.0"),
    ("tallowlib", ""),
    ("tallowlib", "1.0; python_version > '3'"),
    ("tallow\nlib", "1.0"),
)


class Libraries(unittest.IsolatedAsyncioTestCase):
    def test_names_that_are_none_are_refused(self) -> None:
        for name, version in HOSTILE:
            with self.subTest(name), self.assertRaises(PackageRefused):
                Provenance(libraries={name: version})
        self.assertEqual(Provenance(libraries={"scikit-learn": "1.9.1", "torch": "2.13.0+cpu"}).python, "")

    def test_a_package_that_names_an_option_is_refused(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

        def name_an_option(manifest: dict[str, object]) -> None:
            manifest["provenance"] = {"libraries": {"--target": "/tmp"}}

        with self.assertRaises(PackageRefused) as caught:
            read_lamp(changed_lamp(moody_lamp("moody", Moody()), folder / "hostile.lamp", name_an_option))
        self.assertIn("which is none", caught.exception.detail)

    async def test_a_source_distribution_runs_no_code(self) -> None:
        """Its setup.py would leave a mark; pip does not even build it."""
        folder = Path(self.enterContext(tempfile.TemporaryDirectory(dir=run_folder())))
        source = folder / "tallowlib-1.0"
        source.mkdir()
        mark = folder / "mark"
        (source / "setup.py").write_text(
            f"open({str(mark)!r}, 'w').close()\nfrom setuptools import setup\nsetup(name='tallowlib', version='1.0')\n"
        )
        with tarfile.open(folder / "tallowlib-1.0.tar.gz", "w:gz") as archive:
            archive.add(source, "tallowlib-1.0")
        self.enterContext(_Variables(PIP_NO_INDEX="1", PIP_FIND_LINKS=str(folder)))
        environments = LibraryEnvironments(folder / "environments", WorkerRules(folder / "workers"))
        home = WorkerHome(WorkerRules(folder / "workers"))
        self.addCleanup(home.delete)
        last, code = await environments._install("tallow", ["tallowlib==1.0"], home)
        self.assertNotEqual(code, 0)
        self.assertIn("No matching distribution found for tallowlib==1.0", last)
        self.assertFalse(mark.exists())


class Started(unittest.TestCase):
    def test_environments_count_as_running_code(self) -> None:
        data = self.enterContext(tempfile.TemporaryDirectory())
        done = subprocess.run(
            [sys.executable, "-m", "lamppost", "up", "--data", data, "--environments"],
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
        self.assertEqual(done.returncode, 1)
        self.assertIn("--allow-code", done.stderr)


class _Variables:
    """Sets variables of the environment inside the block."""

    def __init__(self, **values: str) -> None:
        self._values = values

    def __enter__(self) -> None:
        self._before = {name: os.environ.get(name) for name in self._values}
        os.environ.update(self._values)

    def __exit__(self, *_: object) -> None:
        for name, value in self._before.items():
            if value is None:
                del os.environ[name]
            else:
                os.environ[name] = value
