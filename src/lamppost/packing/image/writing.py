"""Writes the image of a package, after what it adds to its base was run, and held against the package's own answers."""

from __future__ import annotations

import os
import secrets
import socket
import subprocess
import sys
import tarfile
import tempfile
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import httpx

from lamppost.core.errors import BadRequest, SetupError
from lamppost.package.read import Lamp
from lamppost.packing.export.checking import CheckedForm, Row, check_form
from lamppost.packing.image.contents import LIBRARY, PACKAGES, extras_of, interpreter_name, library_files
from lamppost.packing.image.layout import ImageLayout, Layer, write_image, write_layer

PORT = 8421
_START_S = 90.0
_PIECE = 500
_USER = "65532:65532"


@dataclass(frozen=True, slots=True)
class WrittenImage:
    """An image that was written. digest : of its manifest. added_bytes : of the layers beside the base's."""

    digest: str
    size_bytes: int
    added_bytes: int
    checked: CheckedForm


def write_package_image(lamp: Lamp, base: Path, reference: str, formats: frozenset[str], to: Path) -> WrittenImage:
    """Write the image layout of a package as a tar. Nothing is written where what is added does not give the package's answers.

    base : an image layout as a tar, with the Python that runs here. reference : the image's name. formats : that may be opened.
    Raise BadRequest for a base that is none or has another Python, DiffersFromPackage, SetupError.
    """
    layout = ImageLayout(base)
    try:
        interpreter = _interpreter_in(layout)
        with tempfile.TemporaryDirectory(prefix="lamppost-image-") as name:
            folder = Path(name)
            folder.chmod(0o755)
            inside = f"{PACKAGES}/{lamp.manifest.name}.lamp"
            layers = [
                write_layer(library_files(extras_of(lamp.manifest)), folder / "library"),
                write_layer({inside: lamp.path}, folder / "package"),
            ]
            command = _command(f"/{interpreter}", inside, formats)
            checked = _checked(lamp, layers, command, formats, folder)
            part = to.with_name(f".{to.name}.part")
            try:
                digest = write_image(layout, layers, _configured(layout.config, layers, command, lamp), reference, part)
                part.replace(to)
            finally:
                part.unlink(missing_ok=True)
            return WrittenImage(digest, to.stat().st_size, sum(layer.descriptor["size"] for layer in layers), checked)
    finally:
        layout.close()


def _interpreter_in(layout: ImageLayout) -> str:
    """The path of the interpreter in the base; raise BadRequest if it has none of this kind."""
    name = interpreter_name()
    places = [f"usr/local/bin/{name}", f"usr/bin/{name}", f"opt/python/bin/{name}"]
    found = {path for layer in layout.layers for path in layout.names_in(layer) if path.endswith(f"bin/{name}")}
    if not found:
        raise BadRequest(f"{layout.path} has no {name}, for which the libraries here are built; take a base image with that Python")
    return next((place for place in places if place in found), min(found))


def _command(interpreter: str, package: str, formats: frozenset[str]) -> list[str]:
    allowed = [*(["--allow-pickle"] if "pickle" in formats else []), *(["--allow-code"] if "python" in formats else [])]
    return [interpreter, "-m", "lamppost", "serve", package, *allowed]


def _configured(base: dict[str, Any], layers: Sequence[Layer], command: list[str], lamp: Lamp) -> dict[str, Any]:
    """The configuration of the base with the new layers, and what a container of it starts."""
    config = dict(base.get("config") or {})
    given = [one for one in config.get("Env") or [] if not str(one).startswith("PYTHONPATH=")]
    config |= {
        "Env": [*given, f"PYTHONPATH={LIBRARY}", "PYTHONDONTWRITEBYTECODE=1"],
        "Entrypoint": command,
        "Cmd": ["--host", "0.0.0.0", "--port", str(PORT)],  # noqa: S104 - a container's own network
        "ExposedPorts": {f"{PORT}/tcp": {}},
        "User": _USER,
        "WorkingDir": "/",
        "Labels": {
            **(config.get("Labels") or {}),
            "org.opencontainers.image.title": lamp.manifest.name,
            "org.opencontainers.image.revision": lamp.digest,
        },
    }
    roots = dict(base.get("rootfs") or {"type": "layers", "diff_ids": []})
    roots["diff_ids"] = [*roots.get("diff_ids", []), *(layer.diff_id for layer in layers)]
    added = [{"created_by": "lamppost export", "comment": comment} for comment in ("Lamp Post and its libraries", lamp.manifest.name)]
    return {**base, "config": config, "rootfs": roots, "history": [*(base.get("history") or []), *added]}


# -- running what was added ------------------------------------------------------------------------------------------------------


def _checked(lamp: Lamp, layers: Sequence[Layer], command: list[str], formats: frozenset[str], folder: Path) -> CheckedForm:
    """Run the added layers with the interpreter of this machine, and compare answers."""
    root = folder / "root"
    for layer in layers:
        with tarfile.open(layer.file, "r:gz") as tar:
            tar.extractall(root, filter="data")
    return check_form(lamp, lamp.unpack(folder), formats, _serving(root, command, folder), "image")


def _serving(root: Path, command: list[str], folder: Path) -> Callable[[Sequence[Row]], list[Row]]:
    """What a service answers that is started from the layers alone."""

    def answer(rows: Sequence[Row]) -> list[Row]:
        token = folder / "token"
        token.touch(mode=0o600)
        token.write_text(secret := secrets.token_urlsafe(32))
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            port = probe.getsockname()[1]
        package = str(root / command[4].lstrip("/"))
        base = getattr(sys, "_base_executable", sys.executable)  # outside of a virtual environment, whose libraries do not count
        words = [base, *command[1:4], package, *command[5:], "--port", str(port), "--token-file", str(token)]
        environment = {"PATH": os.environ.get("PATH", ""), "HOME": str(folder), "PYTHONPATH": str(root / LIBRARY.lstrip("/"))}
        with (folder / "log").open("wb") as log:
            process = subprocess.Popen(words, stdout=log, stderr=log, env=environment, cwd=folder)
        try:
            with httpx.Client(base_url=f"http://127.0.0.1:{port}", headers={"authorization": f"Bearer {secret}"}, timeout=60) as client:
                _wait(client, process, folder / "log")
                (name,) = [one["name"] for one in client.get("/api/endpoints").json()]
                given: list[Row] = []
                for at in range(0, len(rows), _PIECE):
                    reply = client.post(f"/predict/{name}", json={"rows": list(rows[at : at + _PIECE])})
                    if reply.status_code != 200:
                        raise SetupError(f"what the image starts answers {reply.status_code}: {reply.text[:300]}")
                    given += reply.json()["answers"]
                return given
        finally:
            process.terminate()
            process.wait(30)

    return answer


def _wait(client: httpx.Client, process: subprocess.Popen[bytes], log: Path) -> None:
    deadline = time.monotonic() + _START_S
    while process.poll() is None and time.monotonic() < deadline:
        try:
            if client.get("/health/ready").status_code == 200:
                return
        except httpx.TransportError:
            pass
        time.sleep(0.2)
    raise SetupError(f"what the image starts does not come up: {log.read_text(errors='replace').strip()[-800:]}")
