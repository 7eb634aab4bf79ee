"""The profile of training inputs and answers that drift is measured against, small enough to travel with the package.

Quantiles are by linear interpolation (type 7 of Hyndman and Fan, *The American Statistician* 50(4), 1996).
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from dataclasses import field as default
from functools import cache, partial
from typing import Any, ClassVar

import numpy as np
import orjson
from numpy.typing import NDArray
from pydantic import TypeAdapter, ValidationError

from lamppost.core.artifact.documents import check_document
from lamppost.core.artifact.manifest import FORMAT
from lamppost.core.artifact.older_formats import upgrade_reference
from lamppost.core.drift.baseline import DriftBaseline, PairBaseline, ReferenceField, location_scores_of_bins
from lamppost.core.drift.bins import BINS, FieldBins, bin_choices, bin_numbers
from lamppost.core.drift.field_tests import field_differences
from lamppost.core.drift.outlier_score import OutlierScorer
from lamppost.core.drift.sketches import Sketcher, pair_baseline, peak_scores
from lamppost.core.drift.watched_features import ANSWERS, Columns, FeatureExtractor, feature_columns, features_of_schema, frequent_words
from lamppost.core.errors import PackageRefused
from lamppost.core.schema.columns import to_microseconds
from lamppost.core.schema.fields import Schema

MAX_PAIRED = 40
KEPT_CHOICES = 63
SAMPLE_ROWS = 500
_LEAST_OTHERS = 50
SAMPLE_HEAVY = 50
"""Rows of the sample where they hold pictures or tensors."""


@dataclass(frozen=True, slots=True)
class FeatureProfile:
    """One figure (see `lamppost.core.drift.watched_features`) over the rows of the reference.

    count : rows, missing ones included. missing : rows without a value.
    quantiles : of a number, at 0, 5, …, 100 %; of a time, of its seconds since 1970 in UTC. tails : at 0.1 and 99.9 %.
    mean, sd : of the same.
    choices : counts of the 63 most frequent values of a choice or yes/no, the most frequent first. rest : count of all others.
    bins : the bins that windows are counted into; None for a time, and in packages of before bins existed.
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
    bins: FieldBins | None = None


@dataclass(frozen=True, slots=True)
class PairCorrelations:
    """Correlations of the location scores of the inputs that are numbers, row by row above the diagonal, in the order of ``names``.

    most_apart : the largest difference of each correlation between blocks of the reference; empty where no difference exceeds chance.
    variances, kurtoses : of what a row adds to each (see `lamppost.core.drift.pair_tests`); empty in packages of before these were kept.
    """

    names: tuple[str, ...]
    correlations: tuple[float, ...]
    most_apart: tuple[float, ...] = ()
    variances: tuple[float, ...] = ()
    kurtoses: tuple[float, ...] = ()

    __pydantic_config__: ClassVar = {"extra": "forbid"}


@dataclass(frozen=True, slots=True)
class Reference:
    """Profiles of inputs and answers over ``rows`` rows, and a sample of input rows spread evenly over them.

    words : for each text field, the words of every second row. unseen : whether the answers are to rows that the model was not fitted on.
    fitted : of answers to rows that it was fitted on, how far they lie from answers to other rows, in location, spread and shape.
    odd : outlier scores of the reference's own rows at 50, 99 and 99.9 %.
    """

    rows: int
    inputs: tuple[FeatureProfile, ...]
    answers: tuple[FeatureProfile, ...]
    sample: list[dict[str, Any]]
    words: dict[str, tuple[str, ...]] = default(default_factory=dict)
    unseen: bool = False
    fitted: dict[str, tuple[float, float, float]] = default(default_factory=dict)
    pairs: PairCorrelations | None = None
    odd: tuple[float, ...] = ()

    __pydantic_config__: ClassVar = {"extra": "forbid"}


def make_reference(
    inputs: Schema, rows: Sequence[dict[str, Any]], answers: Schema, document: Sequence[dict[str, Any]], unseen: bool = False
) -> Reference:
    """The reference of input rows and answers. unseen : whether the answers are to other rows, which the model was not fitted on. Of
    private fields only the number of missing values is kept.
    """
    private = {field.name for field in inputs if field.private}
    heavy = any(field.kind in ("image", "tensor") for field in inputs)
    places = np.linspace(0, len(rows) - 1, num=min(len(rows), SAMPLE_HEAVY if heavy else SAMPLE_ROWS)).astype(int).tolist()
    sample = [{name: value for name, value in rows[place].items() if name not in private} for place in places]
    texts = [field.name for field in inputs if field.kind == "text" and not field.private]
    words = {name: frequent_words([row[name] for row in rows]) for name in texts}
    columns = FeatureExtractor(inputs, answers, words).extract_columns(rows, document)
    reference = Reference(
        len(rows),
        feature_profiles(inputs, rows, columns, words),
        feature_profiles(answers, document, columns, {}, ANSWERS),
        sample,
        words,
        unseen=unseen,
    )
    return _finished(reference, columns, len(rows))


def with_fitted_sizes(reference: Reference, answers: Schema, document: Sequence[dict[str, Any]]) -> Reference:
    """The reference with how far its answers, to rows that the model was fitted on, lie from answers to other rows. document : these."""
    if len(document) < _LEAST_OTHERS:
        return reference
    known = [field for field in drift_baseline(reference).known if field.name.startswith(ANSWERS)]
    sketcher = Sketcher(DriftBaseline(tuple(known), reference.rows))
    columns = {ANSWERS + name: values for name, values in feature_columns(features_of_schema(answers), {}, document).items()}
    window = sketcher.sketch_window(columns, len(document))
    sizes: dict[str, tuple[float, float, float]] = {}
    for field in known:
        found = {one.what: round(one.size, 3) for one in field_differences(field, window.fields[field.name])}
        sizes[field.name.removeprefix(ANSWERS)] = found.get("location", 0.0), found.get("spread", 0.0), found.get("shape", 0.0)
    return replace(reference, fitted=sizes)


def feature_profiles(
    schema: Schema, rows: Sequence[dict[str, Any]], columns: Columns, words: Mapping[str, Sequence[str]], prefix: str = ""
) -> tuple[FeatureProfile, ...]:
    """A profile for each feature. columns : values of the features, by their names under the prefix."""
    figures = features_of_schema(schema, words)
    profiles = []
    for field in schema:
        values = [row[field.name] for row in rows] if field.private or field.kind == "time" else []
        if field.private:
            profiles.append(FeatureProfile(field.name, len(values), sum(value is None for value in values)))
        elif field.kind == "time":
            profiles.append(
                _of_numbers(field.name, [None if value is None else to_microseconds(value) / 1e6 for value in values], bins=False)
            )
        else:
            for figure in figures:
                if figure.field == field.name:
                    # every other row made the words, the rows between say how many others there are
                    values = columns[prefix + figure.name]
                    column = values[1::2] if figure.name == f"{field.name}.new words" else values
                    profiles.append((_of_numbers if figure.numbers else _of_choices)(figure.name, column))
    return tuple(profiles)


def _of_choices(name: str, values: list[Any]) -> FeatureProfile:
    there = [value for value in values if value is not None]
    kept = dict(sorted(Counter(there).items(), key=lambda item: (-item[1], item[0]))[:KEPT_CHOICES])
    bins = bin_choices(values) if there else None
    return FeatureProfile(name, len(values), len(values) - len(there), choices=kept, rest=len(there) - sum(kept.values()), bins=bins)


def _of_numbers(name: str, values: list[Any], bins: bool = True) -> FeatureProfile:
    given = np.array([np.nan if value is None else value for value in values], dtype=np.float64)
    there = given[~np.isnan(given)]
    missing = len(values) - len(there)
    if not len(there):
        return FeatureProfile(name, len(values), missing)
    at = tuple(np.quantile(there, np.linspace(0, 1, BINS + 1)).tolist())
    tails = tuple(np.quantile(there, (0.001, 0.999)).tolist())
    binned = bin_numbers(given) if bins else None
    return FeatureProfile(name, len(values), missing, at, tails, float(there.mean()), float(there.std()), bins=binned)


def drift_baseline(reference: Reference) -> DriftBaseline:
    """The baseline that windows are compared with; answers are named ``answers.NAME``. Empty for a reference without bins."""
    known = []
    mirrored = _mirrored(reference.answers)
    for prefix, listed in (("", reference.inputs), (ANSWERS, reference.answers)):
        for profile in listed:
            if profile.bins is not None and profile not in mirrored:
                numbers = not profile.bins.choices
                fitted = reference.fitted.get(profile.name, ()) if prefix == ANSWERS and not reference.unseen else None
                known.append(ReferenceField(prefix + profile.name, numbers, profile.bins, profile.count, profile.missing, fitted))
    pairs = reference.pairs
    if pairs is None:
        return DriftBaseline(tuple(known), reference.rows)
    square = partial(_square, len(pairs.names))
    correlations = square(pairs.correlations, 1.0)
    variances, kurtoses = (square(pairs.variances, 1.0), square(pairs.kurtoses, 3.0)) if pairs.variances else _usual(pairs.names, known)
    baseline = PairBaseline(
        pairs.names,
        correlations,
        variances,
        kurtoses,
        peak_scores(known, pairs.names),
        square(pairs.most_apart, 0.0) if pairs.most_apart else None,
    )
    return DriftBaseline(tuple(known), reference.rows, pairs.names, baseline)


def _usual(names: Sequence[str], known: Sequence[ReferenceField]) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Variances and kurtoses of what rows would add to correlations, were fields independent."""
    by_name = {field.name: field for field in known}
    fourth = []
    for name in names:
        counts = np.asarray(by_name[name].bins.counts if name in by_name else (1,), dtype=np.float64)
        scores = location_scores_of_bins(by_name[name]) if name in by_name else np.zeros(1)
        fourth.append(max(1.0, float((counts * scores**4).sum() / counts.sum())))
    return np.ones((len(names), len(names))), np.outer(fourth, fourth)


def _mirrored(answers: Sequence[FeatureProfile]) -> list[FeatureProfile]:
    """The first of two scores that add up to 1, which carries all that the second does."""
    mirrored = []
    for answer in answers:
        stem = answer.name.rpartition(".")[0]
        pair = [other for other in answers if stem and other.name.rpartition(".")[0] == stem]
        if len(pair) == 2 and answer is pair[0] and abs((pair[0].mean or 0.0) + (pair[1].mean or 0.0) - 1.0) < 1e-6:
            mirrored.append(answer)
    return mirrored


def _square(size: int, above: Sequence[float], diagonal: float) -> NDArray[np.float64]:
    square = np.zeros((size, size))
    square[np.triu_indices(size, 1)] = above
    square += square.T
    np.fill_diagonal(square, diagonal)
    return square


def _finished(reference: Reference, columns: Columns, rows: int) -> Reference:
    """The reference, completed with the correlations of its numbers and the outlier scores of its own rows."""
    base = drift_baseline(reference)
    names = tuple(feature.name for feature in base.known if feature.numbers and not feature.name.startswith(ANSWERS))[:MAX_PAIRED]
    if len(names) > 1 and rows >= 10:
        found = pair_baseline(Sketcher(DriftBaseline(base.known, base.rows, names)), columns, rows)
        upper = np.triu_indices(len(names), 1)
        kept = [
            () if square is None else tuple(square[upper].round(5).tolist())
            for square in (found.correlations, found.most_apart, found.variances, found.kurtoses)
        ]
        reference = replace(reference, pairs=PairCorrelations(names, *kept))
    scores = OutlierScorer(Sketcher(drift_baseline(reference))).score_rows(columns, rows)[0]
    return replace(reference, odd=tuple(np.quantile(scores, (0.5, 0.99, 0.999)).round(4).tolist()))


@cache
def _adapter() -> TypeAdapter[Reference]:
    return TypeAdapter(Reference)


def write_reference(reference: Reference) -> bytes:
    """Canonical JSON bytes."""
    return orjson.dumps(_adapter().dump_python(reference, mode="json", exclude_defaults=True), option=orjson.OPT_SORT_KEYS)


def read_reference(data: bytes, package_format: int = FORMAT) -> Reference:
    """Read what `write_reference` wrote into a lamp file of ``package_format``; raise PackageRefused for anything else."""
    try:
        raw = orjson.loads(data)
    except ValueError as error:
        raise PackageRefused(f"the reference is not JSON ({error}); pack the model again") from error
    check_document(raw, data, "the reference")
    try:
        return _adapter().validate_json(data if package_format == FORMAT else orjson.dumps(upgrade_reference(raw, package_format)))
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        raise PackageRefused(f"the reference cannot be read at {'.'.join(map(str, first['loc']))}: {first['msg'].lower()}") from error
