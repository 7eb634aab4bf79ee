"""Reads TreeModel: https://dmg.org/pmml/v4-4-1/TreeModel.html.

A node's children are asked in their order, and each asks a predicate that may be unknown. Here every predicate becomes a split of two
sides over one column, so that a tree of any shape is one of those that a graph evaluates at once: a threshold where the predicate compares
a number, and otherwise a column of what the predicate says (1, 0, or missing for unknown).
"""

from __future__ import annotations

import math
import sys
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from lamppost.packing.compiling.graph import Tensor
from lamppost.packing.compiling.trees import Tree, add_ensemble
from lamppost.packing.pmml.columns import Columns, ColumnValue
from lamppost.packing.pmml.document import Element
from lamppost.packing.pmml.formulas import Scope
from lamppost.packing.pmml.outcomes import Outcome, classified
from lamppost.packing.pmml.predicates import COMPARISONS, fields_of, predicate_of, read_predicate

MAX_NODES = 500_000
_STRATEGIES = ("none", "lastPrediction", "nullPrediction", "defaultChild")
_NODE = (
    "Node", "ScoreDistribution", "Partition", "True", "False", "SimplePredicate", "SimpleSetPredicate", "CompoundPredicate",
)  # fmt: skip


@dataclass(slots=True)
class Features:
    """The columns that trees ask about, each once, by what they were made of."""

    columns: Columns
    values: list[ColumnValue] = field(default_factory=list)
    _places: dict[str, int] = field(default_factory=dict)
    _predicates: dict[str, tuple[int, bool]] = field(default_factory=dict)

    def place(self, value: ColumnValue) -> int:
        """The place of a column."""
        if value.name not in self._places:
            self._places[value.name] = len(self.values)
            self.values.append(value)
        return self._places[value.name]

    def predicate_place(self, element: Element, scope: Scope) -> tuple[int, bool]:
        """The place of the column of what a predicate says (0 where it is true, 1 where not), and whether it is always known."""
        key = f"{id(scope)} {_as_text(element)}"
        if key not in self._predicates:
            truth = read_predicate(element, scope)
            number = self.columns.choose(truth.yes, self.columns.scalar(0.0), self.columns.scalar(1.0))
            if truth.unknown is not None:
                number = self.columns.choose(truth.unknown, self.columns.scalar(math.nan), number)
            self._predicates[key] = self.place(ColumnValue(number)), all(value.whole for value in fields_of(element, scope))
        return self._predicates[key]

    def tensor(self) -> Tensor:
        """All columns side by side."""
        return self.columns.joined(self.values or [self.columns.filled(0.0)])


def _as_text(element: Element) -> str:
    inner = "".join(map(_as_text, element.children))
    return f"<{element.tag} {sorted(element.attributes.items())}>{element.text.strip()}{inner}</>"


@dataclass(slots=True)
class _Growing:
    """A tree being made. Every predicate is asked as ``column <= threshold`` for the left side."""

    left: list[int] = field(default_factory=list)
    right: list[int] = field(default_factory=list)
    feature: list[int] = field(default_factory=list)
    threshold: list[float] = field(default_factory=list)
    gone_left: list[bool] = field(default_factory=list)
    leaf: list[int] = field(default_factory=list)

    def add(self, feature: int = -1, threshold: float = 0.0, leaf: int = -1) -> int:
        self.left.append(-1)
        self.right.append(-1)
        self.feature.append(feature)
        self.threshold.append(threshold)
        self.gone_left.append(False)
        self.leaf.append(leaf)
        return len(self.left) - 1

    def finished(self, values: Sequence[float]) -> Tree:
        leaf = np.array([one >= 0 for one in self.leaf])
        value = np.array([values[one] if one >= 0 else 0.0 for one in self.leaf])
        to = np.int64
        return Tree(
            np.array(self.left, to),
            np.array(self.right, to),
            np.maximum(np.array(self.feature, to), 0),
            np.array(self.threshold, np.float64),
            leaf,
            np.array(self.gone_left),
            value,
        )


@dataclass(slots=True)
class ReadTree:
    """A tree that was read. leaves : for each leaf the numbers that stand in it (a value, or a share for each label); NaN for none.

    chosen : for each leaf the place of its label, -1 for none.
    """

    growing: _Growing = field(default_factory=_Growing)
    leaves: list[list[float]] = field(default_factory=list)
    chosen: list[int] = field(default_factory=list)

    def as_tree(self, values: Sequence[float]) -> Tree:
        """The tree with a number for each leaf."""
        return self.growing.finished(values)


@dataclass(frozen=True, slots=True)
class _Split:
    """A predicate as a threshold. yes_left : whether it is true at the threshold or below. whole : whether it is always known."""

    feature: int
    threshold: float
    yes_left: bool
    whole: bool


@dataclass(frozen=True, slots=True)
class _Score:
    """What stands in a node: numbers, and the place of its label."""

    numbers: list[float]
    chosen: int = -1


class TreeReader:
    """Reads the trees of a model into columns that they share. labels : of a classification, empty for a regression."""

    def __init__(self, features: Features, labels: Sequence[str]) -> None:
        self._features = features
        self._labels = list(labels)
        self._nodes = 0

    def read(self, element: Element, scope: Scope) -> ReadTree:
        """One TreeModel."""
        strategy = element.one_of("missingValueStrategy", _STRATEGIES, "none")
        last = element.one_of("noTrueChildStrategy", ("returnNullPrediction", "returnLastPrediction"), "returnNullPrediction")
        reading = _Reading(self, ReadTree(), scope, strategy, last == "returnLastPrediction")
        reading.begin(element.need("Node"))
        return reading.tree

    def count(self, element: Element) -> None:
        """Raise PmmlRefused when there are too many nodes."""
        self._nodes += 1
        if self._nodes > MAX_NODES:
            element.refuse(f"the trees have more than {MAX_NODES:,} nodes")

    def nothing(self) -> _Score:
        """The score where there is none."""
        return _Score([math.nan] * max(1, len(self._labels)))

    def score(self, node: Element) -> _Score | None:
        """What stands in a node; None for a node without a score."""
        shares = list(node.all("ScoreDistribution"))
        if not self._labels:
            return None if "score" not in node.attributes else _Score([node.number("score")])
        stated = node.attributes.get("score")
        if unknown := {one.get("value") for one in shares} - set(self._labels) | ({stated} - {None, *self._labels}):
            node.refuse(f"it scores {sorted(map(str, unknown))[0]!r}, which is no label; labels are {', '.join(self._labels)[:200]}")
        if not shares:
            if stated is None:
                return None
            return _Score([1.0 if label == stated else 0.0 for label in self._labels], self._labels.index(stated))
        probable = all("probability" in one.attributes for one in shares)
        counts = {one.get("value"): one.number("probability" if probable else "recordCount") for one in shares}
        total = 1.0 if probable else sum(counts.values())
        if total <= 0:
            node.refuse("its records count 0")
        numbers = [counts.get(label, 0.0) / total for label in self._labels]
        return _Score(numbers, int(np.argmax(numbers)) if stated is None else self._labels.index(stated))

    def split(self, predicate: Element, scope: Scope) -> _Split:
        """A predicate as a threshold of a column."""
        if predicate.tag == "SimplePredicate" and predicate.attributes.get("operator") in COMPARISONS:
            value = scope.value(predicate.get("field"), predicate)
            if value.categories is None:
                operator = predicate.get("operator")
                limit = predicate.number("value")
                limit = float(np.float32(limit)) if value.single else limit
                strict = operator in ("lessThan", "greaterOrEqual")
                threshold = math.nextafter(limit, -math.inf) if strict else limit
                return _Split(self._features.place(value), threshold, operator.startswith("less"), value.whole)
        place, whole = self._features.predicate_place(predicate, scope)
        return _Split(place, 0.5, True, whole)


@dataclass(slots=True)
class _Reading:
    """One tree that is being read. last : whether the node is answered none of whose children is true."""

    reader: TreeReader
    tree: ReadTree
    scope: Scope
    strategy: str
    last: bool

    def begin(self, root: Element) -> None:
        if _predicate(root).tag == "True":
            self._node(root, None)
        else:
            self._first_true(root, [root], 0, None)

    def _node(self, node: Element, above: _Score | None) -> int:
        """A node that a row has come to. above : what stands in the nodes above it."""
        children = list(node.all("Node"))
        score = self.reader.score(node)
        score = above if score is None and self.last else score
        return self._first_true(node, children, 0, score) if children else self._leaf(score, node)

    def _leaf(self, score: _Score | None, element: Element) -> int:
        self.reader.count(element)
        score = score or self.reader.nothing()
        self.tree.leaves.append(score.numbers)
        self.tree.chosen.append(score.chosen)
        return self.tree.growing.add(leaf=len(self.tree.leaves) - 1)

    def _first_true(self, node: Element, children: list[Element], at: int, score: _Score | None) -> int:
        """The first of the children, from one on, whose predicate is true."""
        if at == len(children):
            return self._leaf(score if self.last else None, node)
        child, predicate = children[at], _predicate(children[at])
        if predicate.tag == "False":
            return self._first_true(node, children, at + 1, score)
        if predicate.tag == "True":
            return self._node(child, score)
        growing = self.tree.growing
        opposite = at == len(children) - 2 and _are_opposite(predicate, _predicate(children[at + 1]))
        split = self.reader.split(predicate, self.scope)
        goes = "no" if split.whole else self._where_unknown(node, children, at, opposite)
        guard = growing.add(split.feature, sys.float_info.max) if goes == "elsewhere" else None
        place = growing.add(split.feature, split.threshold)
        yes = self._node(child, score)
        no = self._node(children[at + 1], score) if opposite else self._first_true(node, children, at + 1, score)
        growing.left[place], growing.right[place] = (yes, no) if split.yes_left else (no, yes)
        growing.gone_left[place] = (goes == "yes") == split.yes_left
        if guard is None:
            return place
        growing.left[guard], growing.right[guard] = place, self._elsewhere(node, children, score)
        return guard

    def _where_unknown(self, node: Element, children: list[Element], at: int, opposite: bool) -> str:
        """Where a row goes of which it is not known whether the predicate of a child is true."""
        if self.strategy == "none":
            return "elsewhere" if opposite else "no"
        if self.strategy != "defaultChild" or node is children[0]:
            return "elsewhere"
        default = self._default(node, children)
        return "yes" if default is children[at] else "no" if opposite and default is children[at + 1] else "elsewhere"

    def _default(self, node: Element, children: list[Element]) -> Element:
        name = node.get("defaultChild")
        found = next((child for child in children if child.attributes.get("id") == name), None)
        return found or node.refuse(f"its default child {name!r} is none of its children")

    def _elsewhere(self, node: Element, children: list[Element], score: _Score | None) -> int:
        if self.strategy == "defaultChild" and node is not children[0]:
            return self._node(self._default(node, children), score)
        if self.strategy == "lastPrediction":
            return self._leaf(score, node)
        return self._leaf(score if self.strategy == "none" and self.last else None, node)


def _predicate(node: Element) -> Element:
    """The predicate of a node, which holds nothing that is not known."""
    node.only(*_NODE)
    return predicate_of(node)


_OPPOSITE = {("lessOrEqual", "greaterThan"), ("lessThan", "greaterOrEqual"), ("equal", "notEqual"), ("isIn", "isNotIn")}


def _are_opposite(left: Element, right: Element) -> bool:
    """Whether one predicate is true exactly where the other is false."""
    if left.tag != right.tag or left.attributes.get("field") != right.attributes.get("field"):
        return False
    key = {"SimplePredicate": "operator", "SimpleSetPredicate": "booleanOperator"}.get(left.tag)
    if key is None or left.attributes.get("value") != right.attributes.get("value"):
        return False
    if left.tag == "SimpleSetPredicate" and set(left.need("Array").array()) != set(right.need("Array").array()):
        return False
    pair = left.attributes.get(key, ""), right.attributes.get(key, "")
    return pair in _OPPOSITE or pair[::-1] in _OPPOSITE


def summed_trees(features: Features, trees: Sequence[ReadTree], weights: Sequence[float]) -> ColumnValue:
    """The sum of the values of regression trees, each with a weight."""
    columns = features.columns
    made = [tree.as_tree([leaf[0] * weight for leaf in tree.leaves]) for tree, weight in zip(trees, weights, strict=True)]
    return ColumnValue(add_ensemble(columns.graph, features.tensor(), made, [0] * len(made), 1).name)


def averaged_trees(features: Features, trees: Sequence[ReadTree], weights: Sequence[float], votes: bool) -> Tensor:
    """The weighted mean over classification trees of the shares of their leaves, or of one vote for its label each: (n_rows, n_labels)."""
    columns, graph = features.columns, features.columns.graph
    numbered, table, start = [], [], 0
    for tree, weight in zip(trees, weights, strict=True):
        rows = np.array(tree.leaves)
        if votes:
            rows = np.where(np.isnan(rows), rows, np.arange(rows.shape[1]) == np.array(tree.chosen)[:, None])
        table.append(rows * weight)
        numbered.append(tree.as_tree([float(start + at) for at in range(len(rows))]))
        start += len(rows)
    reached = add_ensemble(graph, features.tensor(), numbered, list(range(len(trees))), len(trees))
    leaf_values = graph.add("Gather", graph.constant(np.concatenate(table)), graph.add("Cast", reached.name, to=columns.INT64), axis=0)
    total = graph.add("ReduceSum", leaf_values, graph.constant(np.array([1])), keepdims=0)
    whole = float(sum(weights))
    return Tensor(total if whole == 1 else graph.add("Div", total, columns.scalar(whole)), table[0].shape[1])


def read_tree_model(element: Element, scope: Scope, labels: Sequence[str]) -> Outcome:
    """One TreeModel alone."""
    features = Features(scope.columns)
    tree = TreeReader(features, labels).read(element, scope)
    if not labels:
        return Outcome(summed_trees(features, [tree], [1.0]))
    scores = averaged_trees(features, [tree], [1.0], votes=False)
    outcome = classified(scope.columns, scores, labels)
    if all(chosen < 0 or chosen == int(np.argmax(leaf)) for chosen, leaf in zip(tree.chosen, tree.leaves, strict=True)):
        return outcome
    voted = classified(scope.columns, averaged_trees(features, [tree], [1.0], votes=True), labels)
    return Outcome(label=voted.label, scores=scores)
