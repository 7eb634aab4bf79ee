"""A process of a load: reads its task as JSON from standard input, and writes what came of it."""

from __future__ import annotations

import asyncio
import gc
import sys

import orjson

from lamppost.client.load.caller import ProcessTask, run_task
from lamppost.core.load.load_result import write_steps


def main() -> int:
    """Carry out one task."""
    task = ProcessTask(**orjson.loads(sys.stdin.buffer.read()))
    gc.disable()
    try:
        step = asyncio.run(run_task(task))
    except OSError as error:
        sys.stdout.buffer.write(orjson.dumps({"failed": f"{type(error).__name__}: {error}"}))
        return 1
    sys.stdout.buffer.write(orjson.dumps(write_steps([step])[0]))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
