"""Small pictures of Tallowby's lamp posts, drawn by this code: is the post sound, does it lean, does it rust?"""

from __future__ import annotations

import io

import numpy as np
import pandas as pd
from PIL import Image, ImageDraw, ImageFilter
from sklearn.metrics import accuracy_score
from sklearn.model_selection import train_test_split
from sklearn.neural_network import MLPClassifier
from sklearn.pipeline import Pipeline, make_pipeline
from sklearn.preprocessing import StandardScaler

import lamppost

SEED = 1_802
TARGET = "post"
SIDE = 48
SEEN = 16
"""Pictures have 48 × 48 pixels; the model reads them at 16 × 16."""
FIELDS: dict[str, dict[str, object]] = {"photo": {"meaning": "the post from the street, the whole of it", "size": (SIDE, SIDE)}}


def draw_post(kind: str, rng: np.random.Generator) -> bytes:
    """One picture as PNG: a post before a sky, with a lamp on top. kind : sound, leans or rusts."""
    sky = rng.integers(95, 180) + rng.normal(0, 6, 3) + np.array([-6, 2, 24])
    rows = np.linspace(1.0, 0.75, SIDE)[:, None, None]
    picture = Image.fromarray(np.clip(rows * sky + rng.normal(0, 6, (SIDE, SIDE, 3)), 0, 255).astype(np.uint8))
    draw = ImageDraw.Draw(picture)
    draw.rectangle((0, SIDE - 6, SIDE, SIDE), fill=(70, 78, 66))
    foot = SIDE / 2 + rng.uniform(-4, 4)
    lean = rng.choice([-1, 1]) * rng.uniform(9, 15) if kind == "leans" else rng.uniform(-1.5, 1.5)
    top, grey, width = 8 + rng.uniform(-2, 2), int(rng.integers(45, 80)), int(rng.integers(4, 6))
    draw.line((foot, SIDE - 5, foot + lean, top), fill=(grey, grey + 3, grey + 8), width=width)
    draw.ellipse((foot + lean - 5, top - 6, foot + lean + 5, top + 3), fill=(236, 205, 130))
    if kind == "rusts":
        for _ in range(int(rng.integers(4, 8))):
            down = rng.uniform(0.25, 0.95)
            x, y = foot + lean * (1 - down), top + down * (SIDE - 5 - top)
            size = rng.uniform(2, 4)
            rust = (int(rng.integers(140, 185)), int(rng.integers(60, 85)), int(rng.integers(15, 40)))
            draw.ellipse((x - size, y - size, x + size, y + size), fill=rust)
    buffer = io.BytesIO()
    picture.filter(ImageFilter.GaussianBlur(0.5)).save(buffer, "PNG")
    return buffer.getvalue()


def make_photos(rows: int = 1_800, seed: int = SEED) -> pd.DataFrame:
    """One row a picture, with the column ``post``."""
    rng = np.random.default_rng(seed)
    kinds = rng.choice(["sound", "leans", "rusts"], rows, p=[0.5, 0.25, 0.25])
    return pd.DataFrame({"photo": [draw_post(str(kind), rng) for kind in kinds], TARGET: kinds})


def pixels() -> lamppost.Pixels:
    """What makes numbers of a picture, in training and in service alike."""
    return lamppost.Pixels("photo", "pixels", size=(SEEN, SEEN))


def seen(photos: pd.Series) -> np.ndarray[tuple[int, ...], np.dtype[np.float64]]:
    """Pictures as the model reads them, 0 to 1, shape (n_rows, 16 * 16 * 3)."""
    small = [Image.open(io.BytesIO(photo)).convert("RGB").resize((SEEN, SEEN), Image.Resampling.BOX) for photo in photos]
    return np.stack([np.asarray(one) / 255 for one in small]).reshape(len(photos), -1)


def train_pole_photo() -> tuple[Pipeline, pd.DataFrame, dict[str, float], list[bool]]:
    """The fitted pipeline, the frame (target included), its metrics on held-out pictures, and which those are."""
    photos = make_photos()
    train, held_out = train_test_split(photos, test_size=0.2, random_state=30)
    model = make_pipeline(StandardScaler(), MLPClassifier((48,), alpha=0.01, max_iter=120, early_stopping=True, random_state=30))
    model.fit(seen(train["photo"]), train[TARGET])
    accuracy = round(float(accuracy_score(held_out[TARGET], model.predict(seen(held_out["photo"])))), 4)
    return model, photos, {"accuracy": accuracy}, photos.index.isin(held_out.index).tolist()
