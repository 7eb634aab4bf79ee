"""Made-up weeks of calls, brought in as answered elsewhere."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from functools import cache
from typing import Any
from uuid import uuid4

import pandas as pd

import lamppost
from demo.lamps import make_traffic
from tests.support import models

Row = dict[str, Any]


def window_start(hours_ago: int) -> datetime:
    """The start of a whole hour."""
    return datetime.now(UTC).replace(minute=0, second=0, microsecond=0) - timedelta(hours=hours_ago)


@cache
def _model() -> Any:
    return models.small_outage_model()[0]


def answered(rows: list[Row]) -> list[Row]:
    """What the model of ``outage-risk`` says."""
    said = _model().predict_proba(pd.DataFrame(rows)).tolist()
    return [{"answer": {"label": "fails" if fails > 0.5 else "holds", "scores": {"holds": holds, "fails": fails}}} for holds, fails in said]


def bring(
    client: lamppost.Client, endpoint: str, version: str, rows: list[Row], start: datetime, minutes: float = 58, token: str | None = None
) -> list[str]:
    """Rows as calls, spread evenly over some minutes; returns their request ids."""
    step = timedelta(minutes=minutes) / max(1, len(rows))
    calls = [
        {
            "at": (start + at * step).isoformat(),
            "version": version,
            "input": row,
            "answer": answer,
            "total_us": 2_000 + 10 * at,
            "phases_us": {"queue": 100, "worker": 1_500},
            "token": token,
        }
        for at, (row, answer) in enumerate(zip(rows, answered(rows), strict=True))
    ]
    said = client.fetch("POST", f"/api/endpoints/{endpoint}/calls", {"source": "simulated", "batch": str(uuid4()), "calls": calls})
    return [str(one) for one in said["request_ids"]]


def usual(count: int, seed: int) -> list[Row]:
    """Lamps as training had them."""
    return make_traffic(count, seed)  # type: ignore[return-value]


def scaled(rows: list[Row], district: str, factor: float) -> list[Row]:
    """The same, with the voltage of one district scaled."""

    def one(row: Row) -> Row:
        there = row["district"] == district and row["voltage_v"] is not None
        return row | {"voltage_v": round(row["voltage_v"] * factor, 1)} if there else row

    return [one(row) for row in rows]
