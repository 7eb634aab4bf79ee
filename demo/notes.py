"""Tallowby's residents write notes about their street lamps; what is each about?"""

from __future__ import annotations

import numpy as np
import pandas as pd
from sklearn.feature_extraction.text import TfidfVectorizer
from sklearn.linear_model import LogisticRegression
from sklearn.metrics import accuracy_score
from sklearn.model_selection import train_test_split
from sklearn.pipeline import Pipeline, make_pipeline

SEED = 1_745
TARGET = "about"
EXAMPLE = "The lamp by the well has been dark since the market, could somebody come and look?"
FIELDS: dict[str, dict[str, object]] = {"note": {"kind": "text", "meaning": "what the resident wrote", "example": EXAMPLE}}

_PLACES = ["by the well", "at the mill", "in Candle Lane", "near the old bridge", "behind the school", "on the green", "at our gate"]
_SAID: dict[str, list[str]] = {
    "dark": ["is dark", "has gone out", "gives no light", "does not come on in the evening", "stays black all night"],
    "flickers": ["flickers", "goes on and off", "blinks like a firefly", "is restless, on then off", "keeps winking"],
    "damaged": ["has broken glass", "was hit by a cart", "hangs by its wire", "has lost its hood", "has an open door with wires"],
    "noise": ["hums all night", "buzzes like a bee", "whines so that we cannot sleep", "makes a loud noise", "crackles when it rains"],
    "by day": ["burns by day", "is lit at noon", "never goes off in the morning", "shines in full sun", "wastes power all day"],
}
_BEFORE = ["Hello,", "Good evening.", "Again:", "To the lighting department:", "Dear all,", "Sorry to bother you,", ""]
_AFTER = ["Please have a look.", "Since Tuesday.", "My neighbour says so too.", "It is not safe.", "Thank you!", "Third time I write.", ""]
_LAMPS = ["The lamp", "the street lamp", "Our lamp", "That lamp", "lamp number {number}", "One of the lamps"]


def make_notes(rows: int = 4_000, seed: int = SEED) -> pd.DataFrame:
    """One row a note, with the column ``about``; some are mistyped, some name two things and are about the first."""
    rng = np.random.default_rng(seed)
    subjects = list(_SAID)
    about = rng.choice(subjects, rows, p=[0.34, 0.24, 0.18, 0.12, 0.12])
    notes = []
    for subject in about:
        lamp = str(rng.choice(_LAMPS)).format(number=rng.integers(1, 18_000))
        text = f"{rng.choice(_BEFORE)} {lamp} {rng.choice(_PLACES)} {rng.choice(_SAID[subject])}"
        if rng.random() < 0.12:
            other = rng.choice([one for one in subjects if one != subject])
            text += f", and the next one {rng.choice(_SAID[str(other)])}"
        notes.append(_mistyped(f"{text}. {rng.choice(_AFTER)}".strip(), rng))
    return pd.DataFrame({"note": notes, TARGET: about})


def _mistyped(text: str, rng: np.random.Generator) -> str:
    if rng.random() < 0.7:
        return text
    at = int(rng.integers(1, len(text) - 1))
    return text[:at] + text[at + 1] + text[at] + text[at + 2 :]


def train_fault_note() -> tuple[Pipeline, pd.DataFrame, dict[str, float], list[bool]]:
    """The fitted pipeline, the frame (target included), its metrics on held-out notes, and which those are."""
    notes = make_notes()
    train, held_out = train_test_split(notes, test_size=0.2, random_state=30)
    model = make_pipeline(TfidfVectorizer(ngram_range=(1, 2), min_df=3, sublinear_tf=True), LogisticRegression(C=4.0, max_iter=500))
    model.fit(train["note"], train[TARGET])
    accuracy = round(float(accuracy_score(held_out[TARGET], model.predict(held_out["note"]))), 4)
    return model, notes, {"accuracy": accuracy}, notes.index.isin(held_out.index).tolist()
