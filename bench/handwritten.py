"""The endpoint people would otherwise write: FastAPI, a Pydantic model, joblib, a data frame for each request.

Run by the benchmark with the model's file in ``BENCH_MODEL``.
"""

import os
from typing import Any

import joblib
import pandas as pd
from fastapi import FastAPI
from pydantic import BaseModel

app = FastAPI()
model = joblib.load(os.environ["BENCH_MODEL"])


class Lamp(BaseModel):
    """One lamp."""

    district: str
    lamp_type: str
    maker: str | None = None
    age_years: float
    height_m: float
    voltage_v: float | None = None
    flicker_per_night: float | None = None
    nights_since_visit: int
    under_trees: bool


@app.post("/predict")
def predict(lamp: Lamp) -> dict[str, Any]:
    """Label and scores."""
    frame = pd.DataFrame([lamp.model_dump()])
    scores = dict(zip(["holds", "fails"], map(float, model.predict_proba(frame)[0]), strict=True))
    return {"label": max(scores, key=lambda label: scores[label]), "scores": scores}
