"""What a model of a document gives for each row, and how classes are chosen."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from lamppost.packing.compiling.estimators import argmax
from lamppost.packing.compiling.graph import Tensor
from lamppost.packing.pmml.columns import Columns, ColumnValue


@dataclass(frozen=True, slots=True)
class Outcome:
    """value : of a regression. label : of a classification or clustering, a category. scores : (n_rows, n_labels) in the order of the
    label's categories, where it has some. affinity : distance to the chosen cluster.
    """

    value: ColumnValue | None = None
    label: ColumnValue | None = None
    scores: Tensor | None = None
    affinity: ColumnValue | None = None

    @property
    def predicted(self) -> ColumnValue:
        """The value or the label."""
        column = self.label if self.value is None else self.value
        assert column is not None
        return column


def classified(columns: Columns, scores: Tensor, labels: Sequence[str]) -> Outcome:
    """The outcome whose label has the highest score; the first of several. Without scores the label is missing."""
    graph = columns.graph
    highest = graph.add("Reshape", argmax(graph, scores), graph.constant(np.array([-1, 1])))
    total = graph.add("ReduceSum", scores.name, graph.constant(np.array([1])), keepdims=1)
    label = columns.choose(graph.add("IsNaN", total), columns.code(len(labels) + 1), highest)
    return Outcome(label=ColumnValue(label, tuple(labels)), scores=scores)


def recoded_scores(columns: Columns, outcome: Outcome, labels: Sequence[str]) -> Tensor:
    """The scores in the order of other labels; 1 for its label where it has no scores; 0 for labels that it does not know."""
    assert outcome.label is not None
    assert outcome.label.categories is not None
    known = outcome.label.categories
    scores = outcome.scores
    if scores is None:
        parts = [columns.add("Equal", outcome.label, columns.code(at)) for at in range(len(known))]
        ones = [ColumnValue(columns.choose(part, columns.scalar(1.0), columns.scalar(0.0))) for part in parts]
        gone = columns.is_missing(outcome.label)
        scores = columns.joined([ColumnValue(columns.choose(gone, columns.scalar(math.nan), one)) for one in ones])
    if tuple(labels) == known:
        return scores
    zero = columns.filled(0.0)
    split = columns.split(scores)
    return columns.joined([split[known.index(label)] if label in known else zero for label in labels])
