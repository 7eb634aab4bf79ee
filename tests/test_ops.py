"""The deployment files are right by the judgement of the tools that they are for."""

import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
import unittest
from pathlib import Path

import yaml

import lamppost
from lamppost.cli.command_table import load_command

OPS = Path(__file__).resolve().parent.parent / "ops"
BESIDE_PYTHON = Path(sys.executable).parent


class DeploymentFiles(unittest.TestCase):
    def check(self, *words: str) -> str:
        """What a program says; fails if it finds fault."""
        done = subprocess.run(words, capture_output=True, text=True, timeout=60, check=False)
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return done.stdout + done.stderr

    def tool(self, name: str) -> str:
        found = shutil.which(name) or shutil.which(name, path="/usr/sbin:/sbin")
        if found is None:
            self.skipTest(f"{name} is not on this machine")
        return found

    def test_kubernetes(self) -> None:
        said = self.check(str(BESIDE_PYTHON / "kubernetes-validate"), "--strict", str(OPS / "kubernetes" / "lamppost.yaml"))
        self.assertEqual(said.count("passed for resource"), 6)

    def test_container_file(self) -> None:
        self.check(str(BESIDE_PYTHON / "hadolint"), str(OPS / "Containerfile"))

    def test_balancers(self) -> None:
        self.check(self.tool("haproxy"), "-c", "-f", str(OPS / "haproxy.cfg"))
        self.check(self.tool("nginx"), "-t", "-c", str(OPS / "nginx.conf"), "-g", f"error_log {tempfile.gettempdir()}/nginx.log;")
        compose = yaml.safe_load((OPS / "compose.yaml").read_text())
        with tempfile.NamedTemporaryFile("w", suffix=".cfg") as file:
            file.write(compose["configs"]["haproxy"]["content"])
            file.flush()
            self.check(self.tool("haproxy"), "-c", "-f", file.name)

    def test_compose_names_what_there_is(self) -> None:
        compose = yaml.safe_load((OPS / "compose.yaml").read_text())
        self.assertEqual(set(compose["services"]), {"node1", "node2", "node3", "database", "balancer"})
        for name, service in compose["services"].items():
            self.assertLessEqual(set(service.get("secrets", ())), set(compose["secrets"]), name)
            self.assertLessEqual(set(service.get("depends_on", ())), set(compose["services"]), name)
            self.assertLessEqual({volume.partition(":")[0] for volume in service.get("volumes", ())}, set(compose["volumes"]), name)

    def test_systemd(self) -> None:
        unit = (OPS / "lamppost.service").read_text()
        with tempfile.TemporaryDirectory() as folder:
            here = Path(folder) / "lamppost.service"
            here.write_text(unit.replace("/opt/lamppost/bin/lamppost", "/bin/true"))
            said = self.check(self.tool("systemd-analyze"), "verify", str(here))
            self.assertNotIn(str(here), said)
            exposure = self.check(self.tool("systemd-analyze"), "security", "--offline=true", str(here))
        level = re.search(r"Overall exposure level for lamppost.service: ([\d.]+)", exposure)
        assert level is not None
        self.assertLess(float(level[1]), 2.0)

    def test_every_option_and_variable_is_one_of_the_service(self) -> None:
        options = {str(parameter.name) for parameter in load_command("up").params}
        named = {name.replace("-", "_") for name in tomllib.loads((OPS / "lamppost.toml").read_text())}
        self.assertLessEqual(named, options)
        for file in OPS.rglob("*"):
            if file.is_file():
                variables = {name.lower() for name in re.findall(r"LAMPPOST_([A-Z_]+)\b", file.read_text())} - {"config"}
                self.assertLessEqual(variables, options, file.name)

    def test_images_are_of_this_version(self) -> None:
        for file in (OPS / "compose.yaml", OPS / "Containerfile", OPS / "kubernetes" / "lamppost.yaml"):
            for version in re.findall(r"lamppost:(\d+\.\d+\.\d+)", file.read_text()):
                self.assertEqual(version, lamppost.__version__, file.name)

    def test_the_containers_constraints_are_read_by_pip(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            made = subprocess.run(
                ["bash", "-c", r"grep -E '^[A-Za-z0-9_.-]+==' requirements.lock | sed 's/ *\\$//'"],
                cwd=OPS.parent,
                capture_output=True,
                text=True,
                check=True,
            )
            self.assertNotIn("\\", made.stdout)
            constraints = Path(folder) / "constraints.txt"
            constraints.write_text(made.stdout)
            self.check(
                sys.executable, "-m", "pip", "install", "--dry-run", "--no-index", "--constraint", str(constraints), "httpx", "numpy"
            )
