"""Proposes which column of a file holds which field, for people who name columns in their own words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from lamppost.core.names import closest_name, plain_name


def propose_columns(fields: Sequence[str], labels: Mapping[str, str], columns: Sequence[str]) -> dict[str, str | None]:
    """By field, the column that most probably holds it; None where none is like it. A column is proposed once.

    fields : names. labels : by field, what people call it. Names that are equal win, then names and labels but for case and marks, then
    names that are similar.

    >>> propose_columns(["age_years", "maker"], {"age_years": "Age"}, ["AGE", "Maker", "note"])
    {'age_years': 'AGE', 'maker': 'Maker'}
    """
    found: dict[str, str | None] = dict.fromkeys(fields)
    free = list(dict.fromkeys(columns))

    def take(name: str, column: str | None) -> None:
        if column is not None:
            found[name] = column
            free.remove(column)

    for name in fields:
        take(name, name if name in free else None)
    for called in ({name: name for name in fields}, dict(labels)):
        for name in fields:
            plain = plain_name(called.get(name, ""))
            if found[name] is None and plain:
                take(name, next((column for column in free if plain_name(column) == plain), None))
    for name in fields:
        if found[name] is None:
            take(name, closest_name(name, free) or (closest_name(labels[name], free) if name in labels else None))
    return found
