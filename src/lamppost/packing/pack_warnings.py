"""Finds inputs that are likely to be mistakes, each with what to do about it."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.schema.fields import Field, Schema

if TYPE_CHECKING:
    import pandas as pd

_LEAST_ROWS = 50
_ASKED_ROWS = 1_000
_FIRST_ASKED = 100
_MOST_FIELDS = 100
_NEARLY_ALL = 0.95
_ROWS_A_CHOICE = 5


class PackWarning(UserWarning):
    """Something about a package that is probably a mistake."""


def input_warnings(schema: Schema, frame: pd.DataFrame, target: pd.Series | None) -> list[str]:
    """Cautions about the inputs of a training frame; nothing is said about frames of fewer than 50 rows."""
    if len(frame) < _LEAST_ROWS:
        return []
    warnings = []
    for field in schema:
        series = frame[field.name]
        present = series.dropna()
        different = _plain(present).nunique()
        if different <= 1:
            warnings.append(f"{field.name} has the same value in every row; leave it out, it cannot matter")
        elif target is not None and _tells(_plain(series), target):
            warnings.append(
                f"{field.name} tells the target by itself; if it is not known when the model is asked, leave it out and train again"
            )
        elif field.kind in ("choice", "text") and _are_numbers(present):
            warnings.append(f"{field.name} holds numbers as text; make it a number before training, unless these are codes")
        elif field.kind == "text" and _ROWS_A_CHOICE * different <= len(present) and _is_code(field, present):
            warnings.append(
                f"{field.name} is read as text, because it has {different} different values; if these are choices, say so: "
                f"fields={{{field.name!r}: {{'kind': 'choice'}}}}"
            )
        elif (field.kind in ("choice", "integer") or _is_code(field, present)) and different >= _NEARLY_ALL * len(series):
            warnings.append(
                f"{field.name} is another in nearly every row, like a key; leave it out, or look known fields up by it (lamppost.Table)"
            )
    return warnings


def unused_input_warnings(schema: Schema, frame: pd.DataFrame, ask: Callable[[pd.DataFrame], Any]) -> list[str]:
    """A caution about inputs that the model's answers do not depend on: shuffled by themselves and together they change nothing.

    ask : answers to a frame of inputs, as an array of bytes with a row for each. Where none of n answers changes, at most 3 in n depend on
    the columns, with 95 % certainty (the rule of three).
    """
    if len(frame) < _LEAST_ROWS or len(schema) > _MOST_FIELDS:
        return []
    rng = np.random.default_rng(0)
    rows = frame.iloc[np.linspace(0, len(frame) - 1, num=min(len(frame), _ASKED_ROWS)).astype(int)].reset_index(drop=True)
    before = np.asarray(ask(rows))

    def changes_nothing(names: list[str]) -> bool:
        shuffled = rows.copy()
        for name in names:
            shuffled[name] = rows[name].iloc[rng.permutation(len(rows))].reset_index(drop=True)
        # most columns change one of the first answers
        return all(
            np.array_equal(before[part], np.asarray(ask(shuffled.iloc[part].reset_index(drop=True))))
            for part in (slice(0, _FIRST_ASKED), slice(_FIRST_ASKED, None))
            if len(before[part])
        )

    alone = [field.name for field in schema if _plain(rows[field.name]).nunique() > 1 and changes_nothing([field.name])]
    together: list[str] = []
    for name in alone:
        if not together or changes_nothing([*together, name]):
            together.append(name)
    if not together:
        return []
    verb, also, them = ("changes", "", "it") if len(together) == 1 else ("change", ", also together", "them")
    return [
        f"{_joined(together)} {verb} none of {len(rows):,} answers{also} (at most {3 / len(rows):.1%} of all answers depend on {them}, "
        f"with 95 % certainty); train without {them}, and callers need not send {them}"
    ]


def _joined(names: list[str]) -> str:
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _plain(series: pd.Series) -> pd.Series:
    """The column itself; one of arrays or lists as bytes, so that they can be counted."""
    if len(series) and isinstance(series.iloc[0], (np.ndarray, list, tuple)):
        return series.map(lambda value: np.asarray(value).tobytes())
    return series


def _tells(series: pd.Series, target: pd.Series) -> bool:
    """Whether equal values always go with equal targets, both ways, or two numbers are the same up to scale."""
    import pandas as pd

    both = pd.DataFrame({"a": series.to_numpy(), "b": target.to_numpy()}).dropna()
    if both["b"].nunique() < 2 or len(both) < _LEAST_ROWS:
        return False
    if all(pd.api.types.is_numeric_dtype(both[name]) for name in "ab"):
        a, b = both["a"].to_numpy(dtype=float), both["b"].to_numpy(dtype=float)
        if a.std() > 0 and b.std() > 0 and abs(np.corrcoef(a, b)[0, 1]) > 0.99999:
            return True
    pairs = both.drop_duplicates()
    return len(pairs) == both["a"].nunique() == both["b"].nunique() <= _LEAST_ROWS


def _is_code(field: Field, present: pd.Series) -> bool:
    """Whether texts are single words, such as account numbers, and nothing that somebody wrote."""
    return field.kind == "text" and not present.astype(str).str.contains(r"\s", regex=True).any()


def _are_numbers(present: pd.Series) -> bool:
    import pandas as pd

    return bool(len(present)) and bool(pd.to_numeric(present.astype(str), errors="coerce").notna().all())
