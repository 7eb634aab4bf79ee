"""Writes a stored version in another open format, in a confined process of its own: packages are strangers' bytes."""

from __future__ import annotations

import asyncio
import logging
import os
import shutil
import sys
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

import orjson

from lamppost.core.errors import BadRequest, LampPostError, Unavailable, from_problem
from lamppost.runtime.confinement.worker_home import WorkerHome, WorkerRules

log = logging.getLogger("lamppost.packages")

ServedForm = Literal["onnx", "pmml"]
"""Forms whose check runs nothing but data. The others are checked by running what was written, which is for the packer's own machine."""
MEDIA_TYPES: dict[ServedForm, str] = {"onnx": "application/octet-stream", "pmml": "application/xml"}
_EXPORT_S = 300.0
_MOST_WAITING = 4


@dataclass(frozen=True, slots=True)
class WrittenForm:
    """A form, and how it was held against the package. largest : the largest difference between numbers."""

    content: bytes
    rows_checked: int
    largest: float


class PackageExport:
    """Exports versions on one node, one at a time. rules : what workers of this service are confined to."""

    def __init__(self, rules: WorkerRules) -> None:
        self._rules = rules
        self._turn = asyncio.Lock()
        self._waiting = 0

    async def write(self, lamp_file: Path, name: str, form: ServedForm) -> WrittenForm:
        """A form of a lamp file. Raise BadRequest where there is none, or where it would answer otherwise; Unavailable while too many wait.

        name : of the model.
        """
        if self._waiting >= _MOST_WAITING:
            raise Unavailable(f"{_MOST_WAITING} packages are being exported already; ask again in a moment", retry_after_s=10)
        self._waiting += 1
        try:
            async with self._turn:
                return await self._write(lamp_file, name, form)
        finally:
            self._waiting -= 1

    async def _write(self, lamp_file: Path, name: str, form: ServedForm) -> WrittenForm:
        home = await asyncio.to_thread(WorkerHome, self._rules)
        try:
            package = home.packages / f"{name}.lamp"
            await asyncio.to_thread(shutil.copyfile, lamp_file, package)
            return await self._run(home, package, form)
        finally:
            await asyncio.to_thread(home.delete)

    async def _run(self, home: WorkerHome, package: Path, form: ServedForm) -> WrittenForm:
        written = home.scratch / "form"
        confines = replace(home.confines, installs=True)  # files of its own get modes
        command = [sys.executable, "-m", "lamppost.runtime.confinement.run_module", confines.to_json(), "lamppost", "export"]
        process = await asyncio.create_subprocess_exec(
            *(*command, str(package), "--as", form, "--to", str(written), "--json"),
            stdin=asyncio.subprocess.DEVNULL,
            stdout=asyncio.subprocess.PIPE,
            stderr=asyncio.subprocess.PIPE,
            cwd=home.scratch,
            env={"PATH": os.environ.get("PATH", ""), "HOME": str(home.scratch), "TMPDIR": str(home.scratch), "OMP_NUM_THREADS": "1"},
            start_new_session=True,
        )
        try:
            out, error = await asyncio.wait_for(process.communicate(), _EXPORT_S)
        except TimeoutError:
            raise Unavailable(f"the export took longer than {_EXPORT_S:g} s; run lamppost export on another machine") from None
        finally:
            if process.returncode is None:
                process.kill()
                await process.wait()
        if process.returncode != 0:
            raise _refusal(error)
        told = orjson.loads(out)
        return WrittenForm(await asyncio.to_thread(written.read_bytes), int(told["rows_checked"]), float(told["largest_difference"]))


def _refusal(error: bytes) -> LampPostError:
    """The problem that the command printed as JSON; what it printed otherwise goes to the log."""
    for line in reversed(error.splitlines()):
        if line.startswith(b"{"):
            try:
                return from_problem(orjson.loads(line), 400)
            except (orjson.JSONDecodeError, KeyError, TypeError):
                break
    log.error("an export ended without a word: %s", error.decode("utf-8", "replace")[-2_000:])
    return BadRequest("the package could not be exported; the log of the service says more")
