"""Measures what workers of this machine are confined to: a process confines itself like a worker, and then tries what must fail.

`measure_confinement` starts that process: ``python -m lamppost.runtime.confinement.probe CONFINES SECRET``.
"""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import json
import logging
import os
import resource
import socket
import sys
import tempfile
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path

from lamppost.runtime.confinement.confine import Confines, confine
from lamppost.runtime.confinement.control_groups import join_groups
from lamppost.runtime.confinement.system_calls import machine_numbers, system_call
from lamppost.runtime.confinement.worker_home import WorkerHome, WorkerRules

log = logging.getLogger("lamppost.workers")

_PROBE_S = 30.0
_ROOM_BYTES = 64 * 2**20


@dataclass(frozen=True, slots=True)
class ConfinementReport:
    """What was measured. Each is True where the kernel holds it.

    files : only libraries, the worker's packages and its scratch can be opened. network : no sockets. processes : no process is started,
    and none can be looked into. signals : none to other processes. memory : of each, bounded by the kernel. own_user : each worker is
    a user of its own. groups : all workers together are bounded by control groups.
    """

    files: bool = False
    network: bool = False
    processes: bool = False
    signals: bool = False
    memory: bool = False
    own_user: bool = False
    groups: bool = False

    @property
    def summary(self) -> str:
        """What is in force and what is not, in a sentence."""
        named = {"files": self.files, "network": self.network, "processes": self.processes, "signals": self.signals, "memory": self.memory}
        held = [name for name, in_force in named.items() if in_force]
        open_ = [name for name, in_force in named.items() if not in_force]
        user = "each worker is a user of its own" if self.own_user else "workers are the service's user"
        together = "; control groups bound all of them together" if self.groups else ""
        if not held:
            return f"workers are not confined; {user}{together}"
        return f"workers are confined: {', '.join(held)}" + (f"; not {', '.join(open_)}" if open_ else "") + f"; {user}{together}"


async def measure_confinement(rules: WorkerRules) -> ConfinementReport:
    """Start a process that tries what must fail. What cannot be measured counts as not confined."""
    if not rules.confined:
        return ConfinementReport(groups=bool(rules.groups))
    with tempfile.TemporaryDirectory(prefix="lamppost-probe-", dir=await asyncio.to_thread(_base, rules)) as outside:
        home, secret = WorkerHome(rules), Path(outside, "secret")
        await asyncio.to_thread(secret.write_text, "secret")
        try:
            process = await asyncio.create_subprocess_exec(
                *(sys.executable, "-m", "lamppost.runtime.confinement.probe", home.confines.to_json(), str(secret)),
                stdin=asyncio.subprocess.DEVNULL,
                stdout=asyncio.subprocess.PIPE,
                stderr=asyncio.subprocess.PIPE,
                cwd=home.scratch,
            )
            try:
                output, errors = await asyncio.wait_for(process.communicate(), _PROBE_S)
            except TimeoutError:
                process.kill()
                await process.wait()
                log.warning("what workers are confined to was not measured within %g s", _PROBE_S)
                return ConfinementReport()
            try:
                return ConfinementReport(**json.loads(output))
            except (ValueError, TypeError):
                log.warning("what workers are confined to cannot be measured: %s", errors.decode("utf-8", "replace").strip()[-500:])
                return ConfinementReport()
        finally:
            await asyncio.to_thread(home.delete)


def _base(rules: WorkerRules) -> Path | None:
    if rules.folder is not None:
        rules.folder.mkdir(mode=0o711, parents=True, exist_ok=True)
    return rules.folder


# -- the other side -----------------------------------------------------------------------------------------------------


def _fails(attempt: Callable[[], object]) -> bool:
    try:
        attempt()
    except (OSError, MemoryError):
        return True
    return False


def _fork() -> None:
    if os.fork() == 0:
        os._exit(0)
    with contextlib.suppress(ChildProcessError):
        os.wait()


def _connect(path: str) -> None:
    with socket.socket(socket.AF_UNIX) as connection:
        connection.connect(path)


def _look_into(pid: int) -> None:
    numbers = machine_numbers()
    assert numbers is not None
    os.close(system_call(numbers["pidfd_open"], pid, 0))


def try_what_must_fail(confines: Confines, secret: Path) -> ConfinementReport:
    """Confine this process, and try. secret : a file of the service."""
    groups = bool(confines.groups) and join_groups(confines.groups)
    confine(confines)
    own, parent = Path(confines.scratch, "own"), confines.parent
    files = (
        not _fails(lambda: own.write_text("own"))
        and _fails(secret.read_bytes)
        and _fails(lambda: secret.with_name("new").touch())
        and _fails(lambda: list(secret.parent.iterdir()))
        and _fails(lambda: secret.chmod(0o666))
        and _fails(lambda: Path("/proc", str(parent), "environ").read_bytes())
    )
    network = _fails(lambda: socket.socket(socket.AF_INET).close()) and _fails(lambda: _connect(str(own)))
    processes = machine_numbers() is not None and _fails(_fork) and _fails(lambda: _look_into(parent))
    signals = _fails(lambda: os.kill(parent, 0)) and _fails(lambda: os.killpg(0, 0))
    size = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (size + _ROOM_BYTES, size + _ROOM_BYTES))
    memory = _fails(lambda: ctypes.create_string_buffer(2 * _ROOM_BYTES))
    own_user = confines.user is not None and os.getuid() == confines.user
    return ConfinementReport(files, network, processes, signals, memory, own_user, groups)


def main() -> None:
    """Print the report as JSON."""
    sys.stdout.write(json.dumps(asdict(try_what_must_fail(Confines.from_json(sys.argv[1]), Path(sys.argv[2])))))


if __name__ == "__main__":
    main()
