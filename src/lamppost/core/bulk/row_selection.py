"""Chooses and sorts rows of an output: for the rows of a report, and for a table that is looked at page by page."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal, get_args

from lamppost.core.errors import BadRequest
from lamppost.core.names import closest_name

if TYPE_CHECKING:
    import pyarrow as pa

Operator = Literal["=", "!=", "<", "<=", ">", ">=", "contains"]
_CONDITION = re.compile(r"\s*(.+?)\s*(<=|>=|!=|=|<|>|\scontains\s)\s*(.*?)\s*", re.DOTALL)
_YES = {"yes": True, "true": True, "no": False, "false": False}


@dataclass(frozen=True, slots=True)
class RowCondition:
    """What a row must be like to be chosen. value : as text, read by the type of the column; nothing stands for a missing value."""

    column: str
    operator: Operator
    value: str


@dataclass(frozen=True, slots=True)
class RowSelection:
    """where : conditions that all hold. sort : columns, the first counts most; ``-column`` for the largest first."""

    where: tuple[RowCondition, ...] = ()
    sort: tuple[str, ...] = ()

    def check(self, names: Sequence[str]) -> None:
        """Raise BadRequest for a column that the output does not have. names : of its columns."""
        for name in [*(one.column for one in self.where), *(_sort_key(key)[0] for key in self.sort)]:
            if name not in names:
                like = closest_name(name, names)
                raise BadRequest(
                    f"the output has no column {name!r}" + (f"; did you mean {like!r}?" if like else f"; it has {', '.join(names[:20])}")
                )


def read_condition(text: str) -> RowCondition:
    """Read a condition.

    >>> read_condition("scores.fails >= 0.8")
    RowCondition(column='scores.fails', operator='>=', value='0.8')
    """
    match = _CONDITION.fullmatch(text)
    if match is None:
        raise BadRequest(f"{text[:200]!r} is no condition; write COLUMN = VALUE, with {', '.join(get_args(Operator))}")
    return RowCondition(match[1], match[2].strip(), match[3])  # type: ignore[arg-type]


def _sort_key(key: str) -> tuple[str, str]:
    return (key[1:], "descending") if key.startswith("-") else (key, "ascending")


def select_places(table: pa.Table, selection: RowSelection) -> pa.Array:
    """The places of the chosen rows, in their order. Raise BadRequest for a value that a column cannot be compared with."""
    import pyarrow as pa
    import pyarrow.compute as pc

    selection.check(table.column_names)
    places: Any = pa.array(range(table.num_rows), pa.int64()) if not selection.where else None
    for condition in selection.where:
        mask = _mask(table.column(condition.column), condition)
        places = mask if places is None else pc.and_(places, mask)
    if selection.where:
        places = pc.indices_nonzero(pc.fill_null(places, False))
    if selection.sort:
        keys = [_sort_key(key) for key in selection.sort]
        chosen = table.select([name for name, _ in dict.fromkeys(keys)]).take(places)
        order = pc.sort_indices(chosen, sort_keys=keys)
        places = places.take(order)
    return places


def _mask(column: pa.ChunkedArray, condition: RowCondition) -> Any:
    import pyarrow as pa
    import pyarrow.compute as pc

    kind = column.type
    if condition.value == "" and condition.operator in ("=", "!="):
        return column.is_null() if condition.operator == "=" else column.is_valid()
    if condition.operator == "contains":
        return pc.match_substring(pc.cast(column, pa.string()), condition.value, ignore_case=True)
    compare = {"=": pc.equal, "!=": pc.not_equal, "<": pc.less, "<=": pc.less_equal, ">": pc.greater, ">=": pc.greater_equal}
    value: Any = condition.value
    if pa.types.is_boolean(kind):
        if value.lower() not in _YES or condition.operator not in ("=", "!="):
            raise BadRequest(f"{condition.column} is yes or no; {condition.operator} {value!r} says neither")
        value = _YES[value.lower()]
    elif pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        try:
            value = float(value)
        except ValueError:
            raise BadRequest(f"{condition.column} holds numbers, and {value[:100]!r} is none") from None
        column = pc.cast(column, pa.float64())
    else:
        column = pc.cast(column, pa.string())
    return compare[condition.operator](column, value)
