"""Writes expressions for languages with the operators of C; what differs stands in a table of each language."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass

from lamppost.packing.export.expressions import Expression, Trees, statements


@dataclass(frozen=True, slots=True)
class Language:
    """How a language writes things. patterns : by operation, with {0}, {1} … for the parts. lookup, trees : of table and index, of table
    and target. infinity, nan : the values.
    """

    patterns: Mapping[str, str]
    lookup: str
    trees: str
    true: str
    false: str
    infinity: str
    nan: str


class ExpressionWriter:
    """Writes expressions with names for those that have one.

    tables : values of lookups, by the names of their tables. forests : names of ensembles, with their trees.
    """

    def __init__(self, language: Language) -> None:
        self.names: dict[int, str] = {}
        self.tables: dict[str, list[float | int]] = {}
        self.forests: dict[int, tuple[str, Trees]] = {}
        self.tree_names: dict[tuple[int, tuple[int, ...]], str] = {}
        self._language = language
        self._table_names: dict[tuple[float | int, ...], str] = {}

    def write_statements(
        self,
        outputs: Iterable[Expression],
        assign: Callable[[str, str, str], str],
        sum_trees: Callable[[str, str, Trees, list[str]], list[str]],
    ) -> list[str]:
        """The lines that compute what the outputs are written with. assign : the line for a kind, a name and an expression. sum_trees : the
        lines for a name, the name of a forest, its trees and its features.
        """
        lines: list[str] = []
        for one in statements(outputs):
            if one.operation == "trees":
                trees = one.value[0]
                key = (id(trees), tuple(map(id, one.parts)))
                if key not in self.tree_names:
                    forest, _ = self.forests.setdefault(id(trees), (f"F{len(self.forests)}", trees))
                    sums = self.tree_names[key] = f"s{len(self.tree_names)}"
                    lines += sum_trees(sums, forest, trees, [self.write(part) for part in one.parts])
                continue
            name = f"v{len(self.names)}"
            lines.append(assign(one.kind, name, self.write_whole(one)))
            self.names[id(one)] = name
        return lines

    def write(self, one: Expression) -> str:
        """An expression, by its name where it has one."""
        return self.names.get(id(one)) or self.write_whole(one)

    def write_whole(self, one: Expression) -> str:
        """An expression written out."""
        language = self._language
        if one.operation == "constant":
            return self._constant(one)
        if one.operation in ("number", "code"):
            return language.patterns[one.operation].format(one.value)
        if one.operation == "lookup":
            low = min(one.value)
            index = self.write(one.parts[0])
            return language.lookup.format(self._table(tuple(one.value.values())), f"{index} - {low}" if low else index)
        if one.operation == "trees":
            trees, target = one.value
            return language.trees.format(self.tree_names[id(trees), tuple(map(id, one.parts))], target)
        return language.patterns[one.operation].format(*(self.write(part) for part in one.parts))

    def _constant(self, one: Expression) -> str:
        value, language = one.value, self._language
        if isinstance(value, bool):
            return language.true if value else language.false
        if isinstance(value, float) and not math.isfinite(value):
            return language.nan if math.isnan(value) else language.infinity if value > 0 else f"(-{language.infinity})"
        return repr(value) if value >= 0 else f"({value!r})"

    def _table(self, values: tuple[float | int, ...]) -> str:
        name = self._table_names.get(values)
        if name is None:
            name = self._table_names[values] = f"T{len(self._table_names)}"
            self.tables[name] = list(values)
        return name
