"""Runs every test module in a process of its own, as many at a time as there are cores; the last line is the sum.

``python -m tests [part of a module's name …]`` runs only those.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PATIENCE_S = 600
SLOWEST = 10


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


def run_module(module: str, environment: dict[str, str]) -> Outcome:
    start = time.monotonic()
    command = [sys.executable, "-W", "error", "-X", "faulthandler", "-m", "unittest", module]
    with tempfile.TemporaryFile("w+") as file:
        process = subprocess.Popen(command, cwd=ROOT, env=environment, stdout=file, stderr=file)
        late = threading.Timer(PATIENCE_S, process.kill)
        late.start()
        _, status, used = os.wait4(process.pid, 0)
        process.returncode = code = os.waitstatus_to_exitcode(status)
        late.cancel()
        file.seek(0)
        output = file.read()
    seconds = time.monotonic() - start
    if seconds > PATIENCE_S:
        output += f"\n{module} did not end within {PATIENCE_S} s"
    ran = re.search(r"^Ran (\d+) test", output, re.M)
    counts = dict(re.findall(r"(failures|errors|skipped)=(\d+)", output.rsplit("\n\n", 1)[-1]))
    failed = int(counts.get("failures", 0)) + int(counts.get("errors", 0))
    if code and not failed:
        failed = 1
    return Outcome(
        module,
        run=int(ran[1]) if ran else 0,
        failed=failed,
        skipped=int(counts.get("skipped", 0)),
        seconds=seconds,
        cpu_s=used.ru_utime + used.ru_stime,
        output=output,
    )


def main() -> int:
    files = sorted(ROOT.glob("tests/**/test_*.py"), key=lambda path: ("end_to_end" not in path.parts, str(path)))  # the slow ones first
    modules = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in files]
    if parts := sys.argv[1:]:
        modules = [module for module in modules if any(part in module for part in parts)]
    with tempfile.TemporaryDirectory(prefix="lamppost-tests-") as folder:
        Path(folder).chmod(0o755)
        environment = {**os.environ, "LAMPPOST_TEST_FOLDER": folder, "PYTHONPATH": str(ROOT)}
        with ThreadPoolExecutor(os.cpu_count() or 2) as pool:
            outcomes = []
            for outcome in pool.map(lambda module: run_module(module, environment), modules):
                outcomes.append(outcome)
                mark = "✗" if outcome.failed else "●"
                times = f"{outcome.seconds:7.1f} s  (cpu {outcome.cpu_s:5.0f} s)"
                print(f"{mark} {outcome.module:48s}{outcome.run:4d} tests {times}", flush=True)
                if outcome.failed:
                    print(outcome.output, flush=True)
    print("\nslowest:")
    for outcome in sorted(outcomes, key=lambda outcome: -outcome.seconds)[:SLOWEST]:
        print(f"  {outcome.module:48s}{outcome.seconds:7.1f} s")
    failed, skipped = sum(o.failed for o in outcomes), sum(o.skipped for o in outcomes)
    passed = max(0, sum(o.run for o in outcomes) - failed - skipped)
    print(f"\n{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
