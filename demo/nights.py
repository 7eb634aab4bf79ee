"""Tallowby scores all of its lamps every night: three past nights, a schedule for those to come, and a file with rows that do not fit."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pandas as pd

import lamppost
from demo.lamps import FIRMWARE, make_lamps

LAMPS = 18_000
NIGHTS = 3
ZONE = "Europe/Lisbon"
SCHEDULE = "nightly-risk"
REPORT_TEXT = """Good morning. Of Tallowby's {{ "{:,}".format(answered) }} lamps,
{{ "{:,}".format(answers.get("fails", 0)) }} are expected to fail within 30 days{% if run_before %};
last time it was {{ "{:,}".format(answers_before.get("fails", 0)) }}{% endif %}. The list begins with those that are most likely to.
{% if rejects %}
{{ rejects }} lamps could not be judged: their records do not fit.{% endif %}"""
_SEED = 505
_CHECKED = 400


def lamps_of_night(night: int) -> pd.DataFrame:
    """All lamps as they are on a night, counted from the first: the same lamps, a night older, with what their sensors say then.

    The last night is the first on which the sensors of one district have their new firmware.
    """
    lamps = make_lamps(LAMPS, _SEED).drop(columns="failed")
    lamps.insert(0, "lamp", np.arange(1, LAMPS + 1))
    lamps["nights_since_visit"] += night
    random = np.random.default_rng(_SEED + night)
    lamps["voltage_v"] = (lamps["voltage_v"] + random.normal(0, 0.4, LAMPS)).round(1)
    lamps["flicker_per_night"] = (lamps["flicker_per_night"] * random.uniform(0.9, 1.1, LAMPS)).round(2)
    if night == NIGHTS - 1:
        district, scale = FIRMWARE
        lamps["voltage_v"] = lamps["voltage_v"].where(lamps["district"] != district, (lamps["voltage_v"] * scale).round(1))
    return lamps


def write_lamps_to_check(file: Path) -> None:
    """A file as somebody keeps it by hand: most rows are right, a few are not."""
    lines = lamps_of_night(0).head(_CHECKED).to_csv(index=False).splitlines()
    for row, (before, after) in {40: (",led,", ",LED lamp,"), 120: (",sodium,", ",sodium vapour,"), 250: (",", ";")}.items():
        at = next(place for place in range(row, len(lines)) if before in lines[place])
        lines[at] = lines[at].replace(before, after)
    file.write_text("\n".join(lines) + "\n", encoding="utf-8")


def score_nights(client: lamppost.Client, files: Path, version: str, to: list[str]) -> None:
    """Score the past nights, and keep a schedule for those to come. to : mail channels that get the report of each night."""
    report = {"to": to, "where": ["label = fails"], "sort": ["-scores.fails"], "rows": 15, "text": REPORT_TEXT}
    print(f"scoring all {LAMPS:,} lamps of the last {NIGHTS} nights …", flush=True)
    today = datetime.now(UTC).date()
    lamps_of_night(NIGHTS - 1).to_parquet(files / "lamps.parquet", index=False)
    for night in range(NIGHTS):
        day = today - timedelta(days=NIGHTS - night)
        lamps_of_night(night).to_parquet(files / f"lamps-{day}.parquet", index=False)
        target = f"files:risks-{day}.parquet"
        order: dict[str, Any] = {"keep": ["lamp", "district"], "name": f"night-of-{day}", "replace": True, "report": report}
        run = client.bulk(version, f"files:lamps-{day}.parquet", target, **order)
        facts = run.wait().facts
        print(f"  {facts['rows']:,} lamps in {facts['busy_s']:.1f} s: {files / f'risks-{day}.parquet'}", flush=True)
    order = {
        "questions": [{"of": version.partition("@")[0]}],
        "source": "files:lamps.parquet",
        "target": "files:risks-{date}.parquet",
        "keep": ["lamp", "district"],
        "replace": True,
        "report": report,
    }
    client.fetch("PUT", f"/api/schedules/{SCHEDULE}", {"every": "0 5 * * *", "zone": ZONE, "run": order})
    print(f"from now on the schedule {SCHEDULE} does so at 5 in the morning")
