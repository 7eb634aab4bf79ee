"""Carries out a load step by step, each by processes of its own."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict

import orjson

from lamppost.client.load.caller import ProcessTask
from lamppost.core.errors import LampPostError
from lamppost.core.load.load_plan import LoadPlan, split_clients
from lamppost.core.load.load_result import LoadStep, add_steps, read_steps

_GRACE_S = 60.0


def run_load(plan: LoadPlan, url: str, token: str, bodies: Mapping[str, Sequence[str]]) -> Iterator[LoadStep]:
    """Each step when it is done. bodies : JSON of a row, by endpoint. Raise LampPostError where the service cannot be reached."""
    most = max(1, (os.cpu_count() or 2) // 2)
    for clients in plan.clients:
        shares = split_clients(clients, most)
        tasks = [
            ProcessTask(
                url=url,
                token=token,
                bodies={name: list(rows) for name, rows in bodies.items()},
                clients=share,
                seconds=plan.seconds,
                warm_s=plan.warm_s,
                rate=plan.rate,
                order=plan.order,
                process=at,
                processes=len(shares),
            )
            for at, share in enumerate(shares)
        ]
        yield add_steps(_run_tasks(tasks), clients)


def _run_tasks(tasks: Sequence[ProcessTask]) -> list[LoadStep]:
    running: list[subprocess.Popen[bytes]] = []
    try:
        command = [sys.executable, "-m", "lamppost.client.load.load_process"]
        running += [subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE) for _ in tasks]
        for process, task in zip(running, tasks, strict=True):
            assert process.stdin is not None
            process.stdin.write(orjson.dumps(asdict(task)))
            process.stdin.close()
        steps = []
        for process, task in zip(running, tasks, strict=True):
            assert process.stdout is not None
            reply = process.stdout.read()
            process.wait(task.warm_s + task.seconds + _GRACE_S)
            document = orjson.loads(reply) if reply else {"failed": "the process of the load ended without a result"}
            if "failed" in document:
                raise LampPostError(f"{task.url} cannot be reached: {document['failed']}; is the service running?")
            steps += read_steps([document])
        return steps
    finally:
        for process in running:
            if process.poll() is None:
                process.kill()
                process.wait()
