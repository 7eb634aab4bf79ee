"""The reference: what inputs and answers looked like in training, small enough to travel with the package.

Quantiles are by linear interpolation (type 7 of Hyndman and Fan, *The American Statistician* 50(4), 1996).
"""

from __future__ import annotations

import base64
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from dataclasses import field as default
from functools import cache
from typing import Any, ClassVar

import numpy as np
import orjson
from pydantic import TypeAdapter, ValidationError

from lamppost.core.columns import microseconds
from lamppost.core.errors import PackageRefused
from lamppost.core.fields import Field, Schema
from lamppost.core.images import decode

CELLS = 20
KEPT_CHOICES = 63
SAMPLE_ROWS = 500
SAMPLE_HEAVY = 50
"""Rows of the sample where they hold pictures or tensors."""


@dataclass(frozen=True, slots=True)
class Profile:
    """One field over the rows of the reference, or one figure of it: an element of a vector (``scores.fails``), the mean and the sd of
    a tensor's elements (``spectrum.mean``), the mean pixel of a picture, 0 to 255 (``photo.brightness``).

    count : rows, missing ones included. missing : rows without a value.
    quantiles : of a number (of a text: of its length, of a time: of its seconds since 1970 in UTC), at 0, 5, …, 100 %.
    tails : at 0.1 and 99.9 %. mean, sd : of the same.
    choices : counts of the 63 most frequent values of a choice or yes/no, the most frequent first. rest : count of all others.
    """

    name: str
    count: int
    missing: int
    quantiles: tuple[float, ...] = ()
    tails: tuple[float, ...] = ()
    mean: float | None = None
    sd: float | None = None
    choices: dict[str, int] = default(default_factory=dict)
    rest: int = 0


@dataclass(frozen=True, slots=True)
class Reference:
    """Profiles of inputs and answers over ``rows`` rows, and a sample of input rows spread evenly over them."""

    rows: int
    inputs: tuple[Profile, ...]
    answers: tuple[Profile, ...]
    sample: list[dict[str, Any]]

    __pydantic_config__: ClassVar = {"extra": "forbid"}


def make_reference(inputs: Schema, rows: Sequence[dict[str, Any]], answers: Schema, said: Sequence[dict[str, Any]]) -> Reference:
    """The reference of some rows and the answers to them, one a row. Of private fields only what is missing is kept."""
    private = {field.name for field in inputs if field.private}
    heavy = any(field.kind in ("image", "tensor") for field in inputs)
    places = np.linspace(0, len(rows) - 1, num=min(len(rows), SAMPLE_HEAVY if heavy else SAMPLE_ROWS)).astype(int).tolist()
    sample = [{name: value for name, value in rows[place].items() if name not in private} for place in places]
    return Reference(len(rows), profiles(inputs, rows), profiles(answers, said), sample)


def profiles(schema: Schema, rows: Sequence[dict[str, Any]]) -> tuple[Profile, ...]:
    """A profile for each field, for each element of a vector."""
    out = []
    for field in schema:
        values = [row[field.name] for row in rows]
        if field.private:
            out.append(Profile(field.name, len(values), sum(value is None for value in values)))
        elif field.kind == "tensor":
            arrays = [np.asarray(value, dtype=np.float64) for value in values]
            out.append(_of_numbers(f"{field.name}.mean", [float(array.mean()) if array.size else None for array in arrays]))
            out.append(_of_numbers(f"{field.name}.sd", [float(array.std()) if array.size else None for array in arrays]))
        elif field.kind == "image":
            out.append(_of_numbers(f"{field.name}.brightness", [None if value is None else _brightness(field, value) for value in values]))
        elif field.kind == "vector":
            out += [_of_numbers(f"{field.name}.{name}", [value[name] for value in values]) for name in field.choices]
        else:
            out.append(_profile(field, values))
    return tuple(out)


def _profile(field: Field, values: list[Any]) -> Profile:
    if field.kind in ("number", "integer"):
        return _of_numbers(field.name, values)
    if field.kind == "time":
        return _of_numbers(field.name, [None if value is None else microseconds(value) / 1e6 for value in values])
    if field.kind == "text":
        return _of_numbers(field.name, [None if value is None else len(value) for value in values])
    counts = Counter("true" if value is True else "false" if value is False else value for value in values if value is not None)
    kept = dict(sorted(counts.items(), key=lambda item: (-item[1], item[0]))[:KEPT_CHOICES])
    there = sum(counts.values())
    return Profile(field.name, len(values), len(values) - there, choices=kept, rest=there - sum(kept.values()))


def _brightness(field: Field, value: str) -> float:
    """Mean of a picture's pixels over height, width and channels, 0 to 255."""
    return float(decode(field, base64.b64decode(value)).mean())


def _of_numbers(name: str, values: list[Any]) -> Profile:
    there = np.array([value for value in values if value is not None], dtype=np.float64)
    missing = len(values) - len(there)
    if not len(there):
        return Profile(name, len(values), missing)
    cells = np.quantile(there, np.linspace(0, 1, CELLS + 1))
    low, high = np.quantile(there, (0.001, 0.999))
    return Profile(name, len(values), missing, tuple(cells.tolist()), (float(low), float(high)), float(there.mean()), float(there.std()))


@cache
def _adapter() -> TypeAdapter[Reference]:
    return TypeAdapter(Reference)


def write_reference(reference: Reference) -> bytes:
    """Canonical JSON bytes."""
    return orjson.dumps(_adapter().dump_python(reference, mode="json", exclude_defaults=True), option=orjson.OPT_SORT_KEYS)


def read_reference(data: bytes) -> Reference:
    """Read what `write_reference` wrote; raise PackageRefused for anything else."""
    try:
        return _adapter().validate_json(data)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        raise PackageRefused(f"the reference cannot be read at {'.'.join(map(str, first['loc']))}: {first['msg'].lower()}") from error
