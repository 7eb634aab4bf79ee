"""Runs every test module in a process of its own, one more at a time than there are cores; the last line is the sum.

Up to two modules that failed are run once more at the end, with nothing beside them: what then passes failed for want of a core, and is
named above the sum. More failures than that are not repeated.

``python -m tests [part of a module's name …]`` runs only those. Each process is a fork of this one, which has imported the large libraries
already: importing them in every process would take a fifth of the whole run.
"""

from __future__ import annotations

import contextlib
import faulthandler
import os
import re
import shutil
import signal
import socket
import sys
import tempfile
import time
import traceback
import unittest
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from tests.support.starter import STARTER, run_starter

ROOT = Path(__file__).resolve().parent.parent
PATIENCE_S = 600
SLOWEST = 10
MOST_REPEATED = 2
AT_ONCE = (os.cpu_count() or 2) + 1
"""Modules that wait for their services leave room for one more."""
_ONE_THREAD = {"OMP_NUM_THREADS": "1", "OPENBLAS_NUM_THREADS": "1"}
"""Numerics in one thread: as many tests run as there are cores, and threads that wait for each other cost time."""


@dataclass(frozen=True)
class Outcome:
    """What came of a module. cpu_s : of its process and all that it waited for."""

    module: str
    run: int
    failed: int
    skipped: int
    seconds: float
    cpu_s: float
    output: str


@dataclass
class Running:
    """A module that is being run. output : what its process has written."""

    module: str
    started: float
    output: IO[str]


def start_module(module: str) -> tuple[int, Running]:
    """Fork a process that runs a module; its id."""
    output = tempfile.TemporaryFile("w+")  # noqa: SIM115 - closed when the module has ended
    running = Running(module, time.monotonic(), output)
    pid = os.fork()
    if pid == 0:
        os.dup2(output.fileno(), 1)
        os.dup2(output.fileno(), 2)
        faulthandler.enable()
        failed = True
        try:
            failed = not unittest.main(module=None, argv=["unittest", module], exit=False).result.wasSuccessful()
        except BaseException:  # such as a module that cannot be imported; what this process inherited is not its own to end
            traceback.print_exc()
        finally:
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(failed)
    return pid, running


def outcome_of(running: Running, code: int, cpu_s: float) -> Outcome:
    """Read the figures of a module that has ended from what it wrote."""
    running.output.seek(0)
    output = running.output.read()
    running.output.close()
    seconds = time.monotonic() - running.started
    if seconds > PATIENCE_S:
        output += f"\n{running.module} did not end within {PATIENCE_S} s"
    ran = re.search(r"^Ran (\d+) test", output, re.M)
    counts = dict(re.findall(r"(failures|errors|skipped)=(\d+)", output.rsplit("\n\n", 1)[-1]))
    failed = int(counts.get("failures", 0)) + int(counts.get("errors", 0))
    if code and not failed:
        failed = 1
    return Outcome(
        running.module,
        run=int(ran[1]) if ran else 0,
        failed=failed,
        skipped=int(counts.get("skipped", 0)),
        seconds=seconds,
        cpu_s=cpu_s,
        output=output,
    )


def run_modules(modules: list[str], at_once: int = AT_ONCE) -> list[Outcome]:
    """Run all modules, at_once at a time, and print what came of each as soon as it has ended."""
    outcomes: list[Outcome] = []
    waiting = list(modules)
    present: dict[int, Running] = {}
    try:
        while waiting or present:
            while waiting and len(present) < at_once:
                pid, running = start_module(waiting.pop(0))
                present[pid] = running
            pid, status, used = os.wait4(-1, os.WNOHANG)
            if pid not in present:
                for late, running in present.items():
                    if time.monotonic() - running.started > PATIENCE_S:
                        os.kill(late, signal.SIGKILL)
                time.sleep(0.05)
                continue
            outcome = outcome_of(present.pop(pid), os.waitstatus_to_exitcode(status), used.ru_utime + used.ru_stime)
            outcomes.append(outcome)
            mark = "✗" if outcome.failed else "●"
            times = f"{outcome.seconds:7.1f} s  (cpu {outcome.cpu_s:5.0f} s)"
            print(f"{mark} {outcome.module:48s}{outcome.run:4d} tests {times}", flush=True)
            if outcome.failed:
                print(outcome.output, flush=True)
    finally:
        for late in present:  # this process was told to end
            os.kill(late, signal.SIGKILL)
    return outcomes


def repeat_alone(outcomes: list[Outcome]) -> list[Outcome]:
    """The outcomes, with those of failed modules replaced by what came of them when nothing ran beside them."""
    failed = [outcome.module for outcome in outcomes if outcome.failed]
    if not 0 < len(failed) <= MOST_REPEATED or len(outcomes) == len(failed):
        return outcomes
    print(f"\nonce more, with nothing beside: {', '.join(failed)}", flush=True)
    again = {outcome.module: outcome for outcome in run_modules(failed, 1)}
    return [again.get(outcome.module, outcome) for outcome in outcomes]


def import_large_libraries() -> None:
    """Import what most modules need and what takes long."""
    import onnxruntime  # noqa: F401
    import pandas  # noqa: F401
    import sklearn.compose
    import sklearn.ensemble  # noqa: F401

    import lamppost.packing.pack  # noqa: F401
    import tests.support.service
    import tests.support.zoo  # noqa: F401
    from lamppost.package.skops_import import import_skops

    import_skops()


def start_starter(folder: Path) -> int:
    """Fork the process that services are forked from: one that has imported the service, and none of the libraries of models. Its id."""
    import lamppost.cli.node.up
    import lamppost.service.app  # noqa: F401

    path = str(folder / "starter")
    with socket.socket(socket.AF_UNIX) as listener:
        listener.bind(path)
        listener.listen(64)
        pid = os.fork()
        if pid == 0:
            run_starter(listener)
    os.environ[STARTER] = path
    return pid


def main() -> int:
    if not sys.warnoptions:  # warnings are errors, also those of imports
        os.execve(sys.executable, [sys.executable, "-W", "error", "-m", "tests", *sys.argv[1:]], {**os.environ, **_ONE_THREAD})
    os.chdir(ROOT)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    files = sorted(ROOT.glob("tests/**/test_*.py"), key=lambda path: ("end_to_end" not in path.parts, str(path)))  # the slow ones first
    modules = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in files]
    if parts := sys.argv[1:]:
        modules = [module for module in modules if any(part in module for part in parts)]
    folder = Path(tempfile.mkdtemp(prefix="lamppost-tests-"))
    folder.chmod(0o755)
    os.environ.update({"LAMPPOST_TEST_FOLDER": str(folder), "PYTHONPATH": str(ROOT)})
    starter = start_starter(folder)
    try:
        import_large_libraries()
        first = run_modules(modules)
        outcomes = repeat_alone(first)
    finally:
        with contextlib.suppress(ProcessLookupError):
            os.kill(starter, signal.SIGKILL)
        shutil.rmtree(folder, ignore_errors=True)
    print("\nslowest:")
    for outcome in sorted(outcomes, key=lambda outcome: -outcome.seconds)[:SLOWEST]:
        print(f"  {outcome.module:48s}{outcome.seconds:7.1f} s")
    failed, skipped = sum(o.failed for o in outcomes), sum(o.skipped for o in outcomes)
    passed = max(0, sum(o.run for o in outcomes) - failed - skipped)
    for before, after in zip(first, outcomes, strict=True):
        if before.failed and not after.failed:
            print(f"\n{before.module} failed beside others ({before.failed} of {before.run}) and passed alone")
    print(f"\n{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
