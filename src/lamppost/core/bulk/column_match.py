"""Matches the columns of a file or table with the fields of a schema, before anything is scored."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from lamppost.core.errors import BadBody
from lamppost.core.names import closest_name, plain_name
from lamppost.core.schema.fields import Schema

ROW = "row"
"""The output's first column where no column of the source is kept: the number of the row in the source, from 0."""


@dataclass(frozen=True, slots=True)
class ColumnMatch:
    """How columns become fields.

    columns : by field, its column. defaults : fields that no column holds, and that have a default or may be missing. keep : columns that
    go into the output. unused : columns that do nothing.
    """

    columns: dict[str, str]
    defaults: tuple[str, ...] = ()
    keep: tuple[str, ...] = ()
    unused: tuple[str, ...] = ()


def match_columns(schema: Schema, columns: Sequence[str], stated: Mapping[str, str], keep: Sequence[str], what: str) -> ColumnMatch:
    """The match of columns and fields. stated : by field, a column of another name. what : the file or table, for messages.

    Raise BadBody that names everything that does not fit, with the closest names.
    """
    faults: list[str] = []
    if twice := sorted(name for name, times in Counter(columns).items() if times > 1):
        faults.append(f"the column {twice[0]!r} stands there more than once; rename or remove one of them")
    there = set(columns)
    for name, column in stated.items():
        if name not in schema.names:
            faults.append(f"{name!r}, which a column was stated for, is no field{_meant(name, schema.names)}")
        elif column not in there:
            faults.append(f"there is no column {column!r}, which was stated for {name}{_meant(column, columns)}")
    matched: dict[str, str] = {}
    defaults: list[str] = []
    free = [column for column in columns if column not in schema.names and column not in stated.values()]
    for field in schema:
        column = stated.get(field.name, field.name)
        if column in there:
            matched[field.name] = column
        elif field.name in stated:
            continue  # said above
        elif field.required or (like := _same_but_for_case(field.name, free)) is not None:
            like = closest_name(field.name, free)
            hint = f"; did you mean {like!r}? State it: {field.name}={like}" if like else ""
            faults.append(f"no column holds {field.name}, {field.expected_text()}{hint}")
        else:
            defaults.append(field.name)
    kept = tuple(dict.fromkeys(column for name in keep for column in (columns if name == "*" else (name,))))
    faults += [f"there is no column {column!r} to keep{_meant(column, columns)}" for column in kept if column not in there]
    if faults:
        shown = "; ".join(faults[:8]) + (f"; and {len(faults) - 8} more" if len(faults) > 8 else "")
        raise BadBody(f"{what} does not fit: {shown}. Its columns are {_listed(columns)}")
    used = {*matched.values(), *kept}
    return ColumnMatch(matched, tuple(defaults), kept, tuple(column for column in columns if column not in used))


def _same_but_for_case(name: str, columns: Sequence[str]) -> str | None:
    """A column that is meant beyond doubt: a field that may be missing must not go without it for want of a capital letter."""
    return next((column for column in columns if plain_name(column) == plain_name(name)), None)


def _meant(name: str, known: Sequence[str]) -> str:
    like = closest_name(name, known)
    return f" (did you mean {like!r}?)" if like else ""


def _listed(names: Sequence[str]) -> str:
    shown = ", ".join(name[:100] for name in names[:20])
    return shown + (f" and {len(names) - 20} more" if len(names) > 20 else "") if names else "none"
