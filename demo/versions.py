"""Later versions of ``outage-risk``: one that is right and slow, one that is quick and wrong, and a better one; each is rolled out.

The guards take the first two back by themselves, at the first step; the third ends up serving.
"""

from __future__ import annotations

import threading
import time
import warnings
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import lamppost
from demo.lamps import FIELDS, make_lamps, make_traffic
from demo.train import CHOICES, FLAGS, NUMBERS, TARGET, curved_pipeline, outage_pipeline, train_outage_risk
from lamppost.core.errors import LampPostError
from lamppost.packing.pack_warnings import PackWarning

ENDPOINT = "outage-risk"
STEPS = [{"share": 5, "calls": 100}, {"share": 25, "calls": 150}, {"share": 50, "calls": 200}]
CALLERS = 8
RECIPE: dict[str, Any] = {"name": ENDPOINT, "target": TARGET, "fields": FIELDS}


def pack_slow(to: Path) -> None:
    """The same forest behind code that waits for something."""
    lamps = make_lamps(2_000, seed=41)
    inputs = lamps[CHOICES + NUMBERS + FLAGS]
    model = outage_pipeline(trees=60, depth=10).fit(inputs, lamps[TARGET])
    weather = lamppost.Code(Path(__file__).with_name("slow.py"), "slow:Weather", ["voltage_v"], {"wind_ms": {"kind": "number"}})
    notes = "Asks for the wind, for later use."
    recipe = RECIPE | {"labels": {0: "holds", 1: "fails"}, "notes": notes, "by": "night-shift", "proof_rows": 8}
    lamppost.pack(model, lamps.head(400), to=to, quiet=True, before=[weather], **recipe)


def pack_wrong(to: Path) -> None:
    """A forest whose labels were turned round somewhere: it answers ``fails`` for lamps that hold."""
    lamps = make_lamps(6_000, seed=42)
    inputs = lamps[CHOICES + NUMBERS + FLAGS]
    model = outage_pipeline(trees=60, depth=10).fit(inputs, lamps[TARGET])
    notes = "Trained on the new export of the fault register."
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", PackWarning)  # packing says that the labels are turned round, and somebody did not read it
        lamppost.pack(model, lamps, to=to, quiet=True, labels={1: "holds", 0: "fails"}, by="day-shift", notes=notes, **RECIPE)


def pack_better(to: Path) -> None:
    """One that is right more often on the lamps that were held out, and smaller and faster too."""
    model, frame, metrics, held_out = train_outage_risk(curved_pipeline())
    told: dict[str, Any] = RECIPE | {"metrics": metrics, "held_out": held_out}
    notes = "Odds with curves for voltage and flicker instead of a forest: right for 84.8 % of the lamps held out, not for 84.2 %."
    lamppost.pack(model, frame, to=to, quiet=True, labels={0: "holds", 1: "fails"}, by="lighting-department", notes=notes, **told)


PACKS: dict[str, Callable[[Path], None]] = {"slow": pack_slow, "wrong": pack_wrong, "better": pack_better}


@contextmanager
def traffic(client: lamppost.Client, seed: int) -> Iterator[None]:
    """Callers who ask about lamp after lamp while the block runs."""
    rows = make_traffic(8_000, seed=seed, firmware=True)  # lamp after lamp: the same few over and over would look like no training
    over = threading.Event()

    def call(at: int) -> None:
        while not over.is_set():
            at += CALLERS
            try:
                client.predict(ENDPOINT, rows[at * 37 % len(rows)])
            except LampPostError:
                time.sleep(0.05)

    with ThreadPoolExecutor(CALLERS) as callers:
        asking = [callers.submit(call, at) for at in range(CALLERS)]
        try:
            yield
        finally:
            over.set()
    for one in asking:
        one.result()


def rolled_out(client: lamppost.Client, version: str, patience_s: float = 120.0) -> dict[str, Any]:
    """Roll a version out while callers ask, until it is over; returns how it ended."""
    deadline = time.monotonic() + patience_s
    with traffic(client, seed=int(time.time())):
        client.roll_out(ENDPOINT, version, {"steps": STEPS})
        while True:
            time.sleep(0.25)
            stands: dict[str, Any] = client.fetch("GET", f"/api/endpoints/{ENDPOINT}/rollouts")[0]
            if stands["ended_at"] is not None or time.monotonic() > deadline:
                return stands


def roll_out_all(client: lamppost.Client, data: Path) -> None:
    """One after the other, and say how each ended."""
    for kind, pack in PACKS.items():
        print(f"rolling out somebody's {kind} version, with callers asking …", flush=True)
        file = data / f"{ENDPOINT}-{kind}.lamp"
        pack(file)
        version = client.push(file)["version"]
        print(f"  {rolled_out(client, version)['reason']}", flush=True)
