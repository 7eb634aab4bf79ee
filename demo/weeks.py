"""Weeks of Tallowby's traffic, played in a minute: made up, answered by the versions in service, and brought in at their own time.

Every call of it is marked as simulated. What happens in those weeks:

- the nights grow longer: ``evening-load`` sees it, and stays steady, because a year of training had it too;
- for two days a gateway in weir loses the flicker counts: an alert begins, and ends;
- new firmware scales the voltage of harbour's lamps, and goes on doing so: an alert is open, and says where and since when;
- residents take to a new word for their lamps;
- the truth comes days later, and never for all.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

import numpy as np

import lamppost
from demo.feeders import TARGET as KWH
from demo.feeders import make_feeder_nights
from demo.lamps import as_sent, make_lamps, scaled
from demo.notes import TARGET as ABOUT
from demo.notes import make_notes
from lamppost.core.names import parse_version

Row = dict[str, Any]
SOURCE = "simulated"
DAYS = 28
LAMPS_A_WINDOW, WINDOW = 160, timedelta(hours=6)
FEEDERS_A_NIGHT, NOTES_A_DAY = 60, 120
FIRMWARE_SINCE = timedelta(hours=42)
GATEWAY = ("weir", timedelta(days=12), timedelta(days=10))
NEW_WORD = ("glowworm", timedelta(days=8))
WINDOWS = {"outage-risk": 360, "evening-load": 2_880, "fault-note": 1_440}
"""Minutes."""
_AT_ONCE = 500


def set_window(client: lamppost.Client, endpoint: str) -> None:
    """Let an endpoint be watched in windows that suit its traffic."""
    page = client.fetch("GET", f"/api/endpoints/{endpoint}")
    monitoring = page["setup"]["monitoring"] | {"window_minutes": WINDOWS[endpoint]}
    client.set_up(endpoint, page["setup"] | {"monitoring": monitoring}, page["revision"])


def play(client: lamppost.Client, endpoints: dict[str, str]) -> None:
    """Bring in the weeks before now. endpoints : which version answers at each."""
    now = datetime.now(UTC)
    truths = _bring(client, "outage-risk", endpoints["outage-risk"], lamp_calls(now))
    _tell(client, "outage-risk", truths, now - timedelta(days=9), part=0.4)
    truths = _bring(client, "evening-load", endpoints["evening-load"], feeder_calls(now))
    _tell(client, "evening-load", truths, now - timedelta(days=2), part=0.9)
    truths = _bring(client, "fault-note", endpoints["fault-note"], note_calls(now))
    _tell(client, "fault-note", truths, now - timedelta(days=3), part=0.5)


Asked = tuple[datetime, Row, Any]


def lamp_calls(now: datetime) -> Iterator[Asked]:
    """When, a lamp, and whether it failed."""
    first = datetime.fromtimestamp((now - timedelta(days=DAYS)).timestamp() // WINDOW.total_seconds() * WINDOW.total_seconds(), UTC)
    for window in range(int((now - first) / WINDOW) + 1):
        start = first + window * WINDOW
        lamps = make_lamps(LAMPS_A_WINDOW, seed=90_000 + window)
        failed = lamps.pop("failed").to_list()
        for at, (row, fails) in enumerate(zip(as_sent(lamps), failed, strict=True)):
            when = start + at * WINDOW / LAMPS_A_WINDOW
            if when >= now - timedelta(minutes=2):
                return
            if when > now - FIRMWARE_SINCE:
                row = scaled(row)
            if row["district"] == GATEWAY[0] and now - GATEWAY[1] < when < now - GATEWAY[2]:
                row["flicker_per_night"] = None
            yield when, row, "fails" if fails else "holds"


def feeder_calls(now: datetime) -> Iterator[Asked]:
    """When, a feeder on its night, and what it took. Asked each afternoon, for all feeders."""
    for day in range(DAYS + 14, 0, -1):
        at = (now - timedelta(days=day)).replace(hour=15, minute=0, second=0, microsecond=0)
        nights = make_feeder_nights(FEEDERS_A_NIGHT, seed=70_000 + day, day_of_year=at.timetuple().tm_yday)
        took = nights.pop(KWH).to_list()
        for place, (row, kwh) in enumerate(zip(as_sent(nights), took, strict=True)):
            yield at + timedelta(seconds=20 * place), row, kwh


def note_calls(now: datetime) -> Iterator[Asked]:
    """When, a note, and what it was about."""
    rng = np.random.default_rng(5)
    word, since = NEW_WORD
    for day in range(DAYS, 0, -1):
        at = (now - timedelta(days=day)).replace(hour=6, minute=0, second=0, microsecond=0)
        notes = make_notes(NOTES_A_DAY, seed=50_000 + day)
        for place, (note, about) in enumerate(zip(notes["note"], notes[ABOUT], strict=True)):
            when = at + timedelta(minutes=7 * place)
            fashion = when > now - since and rng.random() < 0.35
            yield when, {"note": str(note).replace("lamp", word) if fashion else str(note)}, str(about)


def _bring(client: lamppost.Client, endpoint: str, version: str, asked: Iterator[Asked]) -> list[tuple[datetime, str, Any]]:
    """Ask the version itself, bring the calls in; returns when, request id and truth of each."""
    name = parse_version(version)
    rng = np.random.default_rng(8)
    out: list[tuple[datetime, str, Any]] = []
    batch: list[Asked] = []

    def flush() -> None:
        if not batch:
            return
        rows = [row for _, row, _ in batch]
        said = client.fetch("POST", f"/api/models/{name.model}/versions/{name.number}/ask", {"rows": rows})["answers"]
        took = (1_500 * rng.lognormal(0.0, 0.45, len(batch))).astype(int).tolist()
        calls = [
            {
                "at": when.isoformat(),
                "version": version,
                "input": row,
                "answer": {"answer": answer, "version": version},
                "total_us": us,
                "phases_us": {"token": 20, "read": 30, "validate": 60, "queue": us // 5, "worker": us // 2, "answer": 40},
                "token": "lighting-department",
            }
            for (when, row, _), answer, us in zip(batch, said, took, strict=True)
        ]
        brought = client.fetch("POST", f"/api/endpoints/{endpoint}/calls", {"source": SOURCE, "batch": str(uuid4()), "calls": calls})
        out.extend((when, request_id, truth) for (when, _, truth), request_id in zip(batch, brought["request_ids"], strict=True))
        batch.clear()

    for one in asked:
        batch.append(one)
        if len(batch) == _AT_ONCE:
            flush()
    flush()
    return out


def _tell(client: lamppost.Client, endpoint: str, truths: list[tuple[datetime, str, Any]], until: datetime, part: float) -> None:
    """The truth of some of the answers that are old enough."""
    rng = np.random.default_rng(13)
    told = [{"request_id": request_id, "truth": truth} for when, request_id, truth in truths if when < until and rng.random() < part]
    for at in range(0, len(told), 5_000):
        client.fetch("POST", f"/api/endpoints/{endpoint}/outcomes", {"outcomes": told[at : at + 5_000]})
