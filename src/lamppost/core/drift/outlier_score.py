"""Scores how unlike the rows of the reference a row is, feature by feature and for all numbers together.

For each feature, p is the part of the reference that lies as far out or is as rare; for all numbers together, p comes from the squared
Mahalanobis distance of their location scores (chi-squared with as many degrees of freedom as there are numbers). A row's outlier score is
-log10 of the smallest p times their number (Bonferroni): one row of a thousand reaches 3 by chance. The scores of the reference's own rows
are kept with it, because numbers are never quite normal.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

import numpy as np
from numpy.typing import NDArray

from lamppost.core.drift.baseline import ReferenceField
from lamppost.core.drift.coded_texts import CodedTexts
from lamppost.core.drift.distributions import chi_squared_tail
from lamppost.core.drift.sketches import Sketcher, Values, number_array
from lamppost.core.drift.watched_features import ANSWERS

Floats = NDArray[np.float64]
_FAR = 0.002
"""The part of the reference beyond its range at 0.1 and 99.9 %."""
JOINT = "together"


class OutlierScorer:
    """Scores rows against a reference by the features of inputs; answers do not count."""

    def __init__(self, sketcher: Sketcher) -> None:
        against = sketcher.against
        self._sketcher = sketcher
        self._known = [feature for feature in against.known if not feature.name.startswith(ANSWERS)]
        self._inverse: Floats | None = None
        if against.pairs is not None and len(against.pairs.names) > 1:
            # a little of the unit matrix, so that fields that say the same do not blow up what differs between them
            self._inverse = np.asarray(np.linalg.inv(0.95 * against.pairs.correlations + 0.05 * np.eye(len(against.pairs.names))))
        self._rare = {feature.name: _rarity(feature) for feature in self._known if not feature.numbers}

    def score_rows(self, columns: Mapping[str, Values], rows: int) -> tuple[Floats, list[str]]:
        """Each row's outlier score (0 and above), and the feature that gave it; ``together`` where no single feature did."""
        names: list[str] = []
        scores: list[Floats] = []
        for feature in self._known:
            if feature.name in columns:
                if feature.numbers:
                    scores.append(_tail(feature, number_array(columns[feature.name])))
                else:
                    rare, unseen = self._rare[feature.name]
                    values = columns[feature.name]
                    if isinstance(values, CodedTexts):
                        scores.append(values.map_numbers(partial(_rarity_of_text, rare, unseen, _missing(feature))))
                    else:
                        there = (_rarity_of_text(rare, unseen, _missing(feature), value) for value in values)
                        scores.append(np.fromiter(there, dtype=np.float64, count=rows))
                names.append(feature.name)
        if self._inverse is not None and rows:
            matrix = self._sketcher.location_scores(columns, rows)
            distance = np.einsum("ij,jk,ik->i", matrix, self._inverse, matrix)
            scores.append(chi_squared_tail(matrix.shape[1], distance))
            names.append(JOINT)
        if not scores or not rows:
            return np.zeros(rows), [""] * rows
        p = np.stack(scores)
        least = p.argmin(axis=0)
        score = -np.log10(np.clip(p[least, np.arange(rows)] * len(scores), 1e-12, 1.0))
        return score, [names[at] for at in least]


def _rarity_of_text(rare: Mapping[str, float], unseen: float, missing: float, text: str | None) -> float:
    return missing if text is None else rare.get(text, unseen)


def _missing(known: ReferenceField) -> float:
    return max(known.missing, 0.5) / max(1, known.rows)


def _rarity(known: ReferenceField) -> tuple[dict[str, float], float]:
    """For each choice, the part of rows whose choice is as rare or rarer; and the same for a choice that was never seen."""
    counts = np.asarray(known.bins.counts, dtype=np.float64)
    total = max(1.0, counts.sum())
    rare = {choice: float(counts[counts <= count].sum() / total) for choice, count in zip(known.bins.choices, counts, strict=False)}
    return rare, float(max(counts[-1], 0.5) / total)


def _tail(known: ReferenceField, given: Floats) -> Floats:
    """Two-sided part of the reference beyond a number: by bins inside its range, decreasing with the distance outside it."""
    bins = known.bins
    counts = np.asarray(bins.counts, dtype=np.float64)
    shares = counts / counts.sum()
    below = np.cumsum(shares) - shares
    places = np.searchsorted(np.asarray(bins.edges), given, side="left").clip(0, len(counts) - 1)
    p = np.minimum(1.0, 2 * np.minimum(below[places] + shares[places], 1 - below[places]))
    width = max(bins.high - bins.low, 1e-9 * max(1.0, abs(bins.high)))
    beyond = np.maximum(bins.low - given, given - bins.high) / width
    tail = np.where(beyond > 0, _FAR * np.exp(-10 * np.minimum(np.nan_to_num(beyond), 3.0)), p)
    part: Floats = np.where(np.isnan(given), _missing(known), tail)
    return part
