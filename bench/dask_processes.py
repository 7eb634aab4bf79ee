"""A Dask cluster on loopback, for figures and for tests: a scheduler and worker processes, as somebody would have started them."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

from bench.servers import free_port


class Cluster:
    """Started with so many workers of one thread. address : of the scheduler. workers : processes; `kill_worker` ends one."""

    def __init__(self, workers: int) -> None:
        self.folder = tempfile.TemporaryDirectory(prefix="lamppost-test-cluster-")
        port = free_port()
        self.address = f"tcp://127.0.0.1:{port}"
        self._log = (Path(self.folder.name) / "log").open("ab")
        self._scheduler = self._start("distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", str(port), "--no-dashboard")
        self.workers = [self.add_worker() for _ in range(workers)]

    def _start(self, module: str, *words: str) -> subprocess.Popen[bytes]:
        command = [sys.executable, "-m", module, *words]
        return subprocess.Popen(command, cwd=self.folder.name, stdout=self._log, stderr=self._log, start_new_session=True)

    def add_worker(self) -> subprocess.Popen[bytes]:
        """Another worker, which ends with its process, without anybody who starts it again."""
        words = ("--nthreads", "1", "--nworkers", "1", "--no-nanny", "--no-dashboard", "--local-directory", self.folder.name)
        return self._start("distributed.cli.dask_worker", self.address, "--host", "127.0.0.1", *words)

    def wait(self, workers: int) -> None:
        """Until so many workers are there."""
        import distributed

        connect: Any = distributed.Client
        with connect(self.address, timeout=60) as client:
            client.wait_for_workers(workers, timeout=60)

    def kill_worker(self, at: int = 0) -> None:
        """End a worker with everything that it started, at once."""
        os.killpg(self.workers[at].pid, signal.SIGKILL)
        self.workers[at].wait()

    def stop(self) -> None:
        """End every process."""
        for process in [*self.workers, self._scheduler]:
            if process.poll() is None:
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()
        self._log.close()
        self.folder.cleanup()
