"""Tallowby's street lamps: made from a seed, with the traits that decide whether a lamp fails within 30 days."""

from __future__ import annotations

import numpy as np
import pandas as pd

SEED = 8420
DISTRICTS = ("harbour", "hill", "market", "mill", "old-town", "park", "station", "weir")
LAMP_TYPES = ("led", "metal-halide", "sodium")
MAKERS = ("Brightwell", "Copperline", "Duskworks", "Farrow & Pole", "Nightjar")
_RISK_OF_TYPE = {"led": -1.1, "metal-halide": 0.35, "sodium": 0.65}
_RISK_OF_MAKER = {"Brightwell": -0.25, "Copperline": 0.0, "Duskworks": 0.55, "Farrow & Pole": 0.1, "Nightjar": -0.1}
_SALTY = {"harbour": 0.7, "weir": 0.3}

FIELDS: dict[str, dict[str, object]] = {
    "district": {"unseen": "refuse", "meaning": "part of the town"},
    "lamp_type": {"unseen": "refuse", "meaning": "what makes the light"},
    "maker": {"unseen": "accept", "meaning": "who made the lantern"},
    "age_years": {"unit": "years", "low": 0, "high": 80, "meaning": "years since the lantern was put up"},
    "height_m": {"unit": "m", "low": 1, "high": 30, "meaning": "height of the lantern above the ground"},
    "voltage_v": {"unit": "V", "low": 0, "high": 500, "meaning": "mean supply voltage of the last week"},
    "flicker_per_night": {"low": 0, "meaning": "times the light went out and came back, mean of the last week"},
    "nights_since_visit": {"unit": "nights", "low": 0, "meaning": "nights since somebody looked at it"},
    "under_trees": {"meaning": "branches touch the lantern or its cable"},
}
"""What is to be said about each input beyond what the frame shows."""


def make_lamps(rows: int = 24_000, seed: int = SEED) -> pd.DataFrame:
    """A frame of lamps with the inputs of ``outage-risk`` and the column ``failed`` (1 if it failed within 30 days, else 0)."""
    rng = np.random.default_rng(seed)
    district = rng.choice(DISTRICTS, rows, p=[0.10, 0.14, 0.12, 0.11, 0.17, 0.13, 0.12, 0.11])
    lamp_type = rng.choice(LAMP_TYPES, rows, p=[0.52, 0.14, 0.34])
    maker = rng.choice(MAKERS, rows, p=[0.31, 0.18, 0.16, 0.22, 0.13])
    age = np.where(lamp_type == "led", rng.gamma(2.2, 2.1, rows), rng.gamma(5.0, 3.4, rows)).clip(0, 60)
    height = rng.choice([4.0, 5.0, 6.0, 8.0, 10.0], rows, p=[0.22, 0.25, 0.27, 0.18, 0.08]) + rng.normal(0, 0.12, rows)
    voltage = rng.normal(229.5, 3.2, rows) - 6.0 * (district == "mill") * (rng.random(rows) < 0.3)
    flicker = rng.gamma(0.9, 0.5 + 0.05 * age)
    nights = rng.integers(0, 900, rows)
    under_trees = rng.random(rows) < np.where(np.isin(district, ["park", "hill"]), 0.45, 0.12)
    logit = (
        -3.9
        + 0.075 * age
        + 0.34 * np.minimum(flicker, 8)
        + 0.09 * np.abs(voltage - 230.0)
        + 0.0009 * nights
        + np.vectorize(_RISK_OF_TYPE.get)(lamp_type)
        + np.vectorize(_RISK_OF_MAKER.get)(maker)
        + np.vectorize(lambda name: _SALTY.get(name, 0.0))(district)
        + 0.6 * under_trees * (flicker > 1.5)
    )
    failed = (rng.random(rows) < 1 / (1 + np.exp(-logit))).astype(int)
    frame = pd.DataFrame(
        {
            "district": district,
            "lamp_type": lamp_type,
            "maker": maker,
            "age_years": age.round(1),
            "height_m": height.round(2),
            "voltage_v": voltage.round(1),
            "flicker_per_night": flicker.round(2),
            "nights_since_visit": nights,
            "under_trees": under_trees,
            "failed": failed,
        }
    )
    for name, share in (("voltage_v", 0.06), ("flicker_per_night", 0.03), ("maker", 0.04)):
        frame.loc[rng.random(rows) < share, name] = np.nan if name != "maker" else None
    return frame


FIRMWARE = ("harbour", 1.11)
"""The district whose sensors got new firmware lately, and what it multiplies the voltage by."""


def make_traffic(rows: int, seed: int, firmware: bool = False) -> list[dict[str, object]]:
    """Freshly made lamps as a caller would send them; with the new firmware or as training had them."""
    sent = as_sent(make_lamps(rows, seed).drop(columns="failed"))
    return [scaled(row) for row in sent] if firmware else sent


def scaled(row: dict[str, object]) -> dict[str, object]:
    """A row as the new firmware makes it."""
    district, factor = FIRMWARE
    volts = row["voltage_v"]
    return row | {"voltage_v": round(volts * factor, 1)} if row["district"] == district and isinstance(volts, float) else row


def as_sent(frame: pd.DataFrame) -> list[dict[str, object]]:
    """Rows of a frame as a caller would send them: None for what is missing."""
    return [
        {str(name): None if value != value else value for name, value in row.items()}
        for row in frame.astype(object).to_dict(orient="records")
    ]
