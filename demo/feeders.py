"""Tallowby's feeders: each lights a few hundred lamps; how many kilowatt hours will one take tonight?"""

from __future__ import annotations

import numpy as np
import pandas as pd
from sklearn.compose import ColumnTransformer
from sklearn.ensemble import HistGradientBoostingRegressor
from sklearn.metrics import mean_absolute_error, r2_score
from sklearn.pipeline import Pipeline
from sklearn.preprocessing import OrdinalEncoder

from demo.lamps import DISTRICTS

SEED = 1_630
TARGET = "kwh"
FIELDS: dict[str, dict[str, object]] = {
    "district": {"meaning": "part of the town the feeder lights"},
    "lamps": {"low": 1, "meaning": "lamps on the feeder"},
    "led_share": {"low": 0, "high": 1, "meaning": "share of them that are LED"},
    "dark_hours": {"unit": "h", "low": 0, "high": 24, "meaning": "hours from lighting up to putting out"},
    "cloud_cover": {"low": 0, "high": 1, "meaning": "forecast for the evening, 0 clear to 1 overcast"},
    "temperature_c": {"unit": "°C", "low": -40, "high": 50, "meaning": "forecast for the night"},
    "market_day": {"meaning": "extra lights on the market square"},
}


def make_feeder_nights(rows: int = 8_000, seed: int = SEED, day_of_year: int | None = None) -> pd.DataFrame:
    """One row a feeder and night, with the column ``kwh``, through a year or of one day of it; some nights have no forecast."""
    rng = np.random.default_rng(seed)
    lamps = rng.integers(80, 420, rows)
    led = rng.beta(2.2, 1.8, rows)
    # in the order of the year, so that what is normal for a season can be told from the reference
    day = np.sort(rng.integers(0, 365, rows)) if day_of_year is None else np.full(rows, day_of_year)
    dark = 11.8 + 4.1 * np.cos(2 * np.pi * (day - 355) / 365)
    cloud, market = rng.beta(1.4, 1.0, rows), rng.random(rows) < 0.14
    temperature = 9.5 - 8.0 * (dark - 11.8) / 4.1 + rng.normal(0, 3.5, rows)
    district = rng.choice(DISTRICTS, rows)
    watts = 31 * led + 96 * (1 - led) + 0.25 * np.maximum(0, 5 - temperature)
    kwh = lamps * watts * (dark + 0.5 * cloud) / 1000 + 14 * market * (district == "market")
    frame = pd.DataFrame(
        {
            "district": district,
            "lamps": lamps,
            "led_share": led.round(3),
            "dark_hours": dark.round(2),
            "cloud_cover": cloud.round(2),
            "temperature_c": temperature.round(1),
            "market_day": market,
            TARGET: (kwh * rng.normal(1, 0.02, rows)).round(1),
        }
    )
    frame.loc[rng.random(rows) < 0.05, ["cloud_cover", "temperature_c"]] = np.nan
    return frame


def train_evening_load() -> tuple[Pipeline, pd.DataFrame, dict[str, float], list[bool]]:
    """The fitted pipeline, the frame (target included), its metrics on held-out nights, and which those are."""
    nights = make_feeder_nights()
    held = np.arange(len(nights)) % 5 == 0  # a fifth, and the rest stays in order
    train, held_out = nights[~held], nights[held]
    columns = ColumnTransformer([("district", OrdinalEncoder(), ["district"])], remainder="passthrough")
    model = Pipeline([("columns", columns), ("trees", HistGradientBoostingRegressor(max_iter=150, random_state=30))])
    inputs = list(FIELDS)
    model.fit(train[inputs], train[TARGET])
    said = model.predict(held_out[inputs])
    error = round(float(mean_absolute_error(held_out[TARGET], said)), 2)
    return model, nights, {"mae_kwh": error, "r2": round(float(r2_score(held_out[TARGET], said)), 4)}, held.tolist()
