"""Runs every test module in a process of its own, as many at a time as there are cores; the last line is the sum.

``python -m tests [part of a module's name …]`` runs only those.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
PATIENCE_S = 600
SLOWEST = 10


@dataclass(frozen=True)
class Outcome:
    module: str
    run: int
    failed: int
    skipped: int
    seconds: float
    said: str


def run_module(module: str, environment: dict[str, str]) -> Outcome:
    start = time.monotonic()
    command = [sys.executable, "-W", "error", "-X", "faulthandler", "-m", "unittest", module]
    try:
        done = subprocess.run(command, cwd=ROOT, env=environment, capture_output=True, text=True, timeout=PATIENCE_S)
        said, code = done.stdout + done.stderr, done.returncode
    except subprocess.TimeoutExpired as late:
        said, code = f"{module} did not end within {PATIENCE_S} s\n{late.stdout!r}\n{late.stderr!r}", 1
    ran = re.search(r"^Ran (\d+) test", said, re.M)
    counts = dict(re.findall(r"(failures|errors|skipped)=(\d+)", said.rsplit("\n\n", 1)[-1]))
    failed = int(counts.get("failures", 0)) + int(counts.get("errors", 0))
    if code and not failed:
        failed = 1
    return Outcome(module, int(ran[1]) if ran else 0, failed, int(counts.get("skipped", 0)), time.monotonic() - start, said)


def main() -> int:
    files = sorted(ROOT.glob("tests/**/test_*.py"), key=lambda path: ("end_to_end" not in path.parts, str(path)))  # the slow ones first
    modules = [".".join(path.relative_to(ROOT).with_suffix("").parts) for path in files]
    if wanted := sys.argv[1:]:
        modules = [module for module in modules if any(part in module for part in wanted)]
    with tempfile.TemporaryDirectory(prefix="lamppost-tests-") as folder:
        Path(folder).chmod(0o755)
        environment = {**os.environ, "LAMPPOST_TEST_FOLDER": folder, "PYTHONPATH": str(ROOT)}
        with ThreadPoolExecutor(os.cpu_count() or 2) as pool:
            outcomes = []
            for outcome in pool.map(lambda module: run_module(module, environment), modules):
                outcomes.append(outcome)
                print(f"{'✗' if outcome.failed else '●'} {outcome.module:48s}{outcome.run:4d} tests {outcome.seconds:7.1f} s", flush=True)
                if outcome.failed:
                    print(outcome.said, flush=True)
    print("\nslowest:")
    for outcome in sorted(outcomes, key=lambda one: -one.seconds)[:SLOWEST]:
        print(f"  {outcome.module:48s}{outcome.seconds:7.1f} s")
    failed, skipped = sum(o.failed for o in outcomes), sum(o.skipped for o in outcomes)
    passed = max(0, sum(o.run for o in outcomes) - failed - skipped)
    print(f"\n{passed} passed, {failed} failed, {skipped} skipped")
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
