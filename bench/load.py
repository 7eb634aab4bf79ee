"""One load from ``wrk`` on loopback, bounded in time and connections, and what it measured."""

from __future__ import annotations

import json
import re
import subprocess
import tempfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

_SCRIPT = """
local bodies = {%s}
local paths = {%s}
local at = 0
wrk.method = "POST"
%s
request = function()
  at = at + 1
  return wrk.format(nil, paths[at %% math.max(1, #paths) + 1], nil, bodies[(at - 1) %% #bodies + 1])
end
done = function(summary, latency, requests)
  io.write(string.format("@@ %%d %%d %%d %%d %%d %%d\\n", summary.requests, summary.duration,
    summary.errors.status + summary.errors.connect + summary.errors.read + summary.errors.write + summary.errors.timeout,
    latency:percentile(50), latency:percentile(95), latency:percentile(99)))
end
"""


@dataclass(frozen=True, slots=True)
class Measured:
    """One measurement: requests a second, latency quantiles in milliseconds, answers that were errors."""

    per_s: float
    p50_ms: float
    p95_ms: float
    p99_ms: float
    errors: int


def load(url: str, rows: Sequence[object], clients: int, seconds: int, headers: Mapping[str, str], paths: Sequence[str] = ()) -> Measured:
    """POST each row in turn from ``clients`` connections for some seconds, to each of the paths in turn where some are given."""
    assert url.startswith("http://127.0.0.1:"), "load goes to loopback only"
    bodies = ",".join(f"[==[{json.dumps(row)}]==]" for row in rows)
    sets = "\n".join(f'wrk.headers["{name}"] = "{value}"' for name, value in {"Content-Type": "application/json", **headers}.items())
    with tempfile.TemporaryDirectory() as folder:
        script = Path(folder) / "load.lua"
        script.write_text(_SCRIPT % (bodies, ",".join(f'"{path}"' for path in paths), sets))
        command = ["wrk", "-t1", f"-c{clients}", f"-d{seconds}s", "--timeout", "30s", "-s", str(script), url]
        done = subprocess.run(command, capture_output=True, text=True, check=True, timeout=seconds + 60)
    found = re.search(r"@@ (\d+) (\d+) (\d+) (\d+) (\d+) (\d+)", done.stdout)
    assert found, done.stdout
    requests, micros, errors, p50, p95, p99 = map(int, found.groups())
    return Measured(requests / (micros / 1e6), p50 / 1e3, p95 / 1e3, p99 / 1e3, errors)
