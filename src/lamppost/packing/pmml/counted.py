"""Reads Scorecard, NaiveBayesModel and ClusteringModel.

https://dmg.org/pmml/v4-4-1/Scorecard.html, NaiveBayes.html and ClusteringModel.html.
"""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from lamppost.packing.compiling.graph import Tensor, softmax
from lamppost.packing.pmml.columns import Columns, ColumnValue
from lamppost.packing.pmml.document import Element
from lamppost.packing.pmml.formulas import EXPRESSIONS, Scope, equal_to, number_of, read_derived, read_expression
from lamppost.packing.pmml.functions import as_number
from lamppost.packing.pmml.outcomes import Outcome, classified
from lamppost.packing.pmml.predicates import predicate_of, read_predicate


def read_scorecard(element: Element, scope: Scope, labels: Sequence[str]) -> Outcome:
    """A Scorecard: the initial score and the partial score of the first attribute that holds of each characteristic."""
    if labels:
        element.refuse("a scorecard gives a number")
    columns = scope.columns
    total = columns.filled(element.number("initialScore", 0.0))
    for one in element.need("Characteristics").all("Characteristic"):
        partial = columns.scalar(math.nan)
        for attribute in reversed(list(one.all("Attribute"))):
            truth = read_predicate(predicate_of(attribute), scope)
            partial = columns.choose(truth.yes, _partial(attribute, scope), partial)
        total = columns.number("Add", total, partial)
    return Outcome(total)


def _partial(attribute: Element, scope: Scope) -> str:
    computed = attribute.find("ComplexPartialScore")
    if computed is None:
        return scope.columns.scalar(attribute.number("partialScore"))
    expression = next((child for child in computed.children if child.tag in EXPRESSIONS), None)
    if expression is None:
        computed.refuse("it holds no expression that is supported")
    return as_number(computed, scope.columns, read_expression(expression, scope)).name


def read_naive_bayes(element: Element, scope: Scope, labels: Sequence[str]) -> Outcome:
    """A NaiveBayesModel; an input that is missing is left out."""
    columns = scope.columns
    threshold = element.number("threshold")
    output = element.need("BayesOutput")
    counts = _counts(output.need("TargetValueCounts"), labels)
    total: str = columns.graph.constant(np.log(np.array([counts])))
    for one in element.need("BayesInputs").all("BayesInput"):
        name = one.get("fieldName")
        derived = one.find("DerivedField")
        value = scope.value(name, one) if derived is None else read_derived(derived, scope)
        stats = one.find("TargetValueStats")
        if stats is None:
            likely = _by_counts(one, columns, value, labels, threshold)
        else:
            likely = _by_distribution(stats, columns, as_number(one, columns, value), labels, threshold)
        total = columns.add("Add", total, columns.choose(columns.is_missing(value), columns.scalar(0.0), likely))
    shape = columns.add("Add", columns.filled(0.0), total)  # a row each, also where no input is read
    return classified(columns, softmax(columns.graph, Tensor(shape, len(labels))), labels)


def _counts(element: Element, labels: Sequence[str]) -> list[float]:
    counts = {one.get("value"): one.number("count") for one in element.all("TargetValueCount")}
    if unknown := counts.keys() - set(labels):
        element.refuse(f"it counts {sorted(unknown)[0]!r}, which is no label")
    return [counts.get(label, 0.0) for label in labels]


def _by_counts(one: Element, columns: Columns, value: ColumnValue, labels: Sequence[str], threshold: float) -> str:
    """Logarithms of the share of the rows of each label that have a value; the threshold for one that none has."""
    pairs = [(pair.get("value"), _counts(pair.need("TargetValueCounts"), labels)) for pair in one.all("PairCounts")]
    if not pairs:
        one.refuse("it has neither PairCounts nor TargetValueStats")
    totals = np.array([counts for _, counts in pairs]).sum(axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        found = np.array([counts for _, counts in pairs]) / totals
    found = np.log(np.where((found > 0) & np.isfinite(found), found, threshold or np.finfo(float).tiny))
    result = columns.scalar(0.0)  # a value that was never counted says nothing
    for (text, _), likely in reversed(list(zip(pairs, found, strict=True))):
        result = columns.choose(equal_to(one, columns, value, text).yes, columns.graph.constant(likely[None, :]), result)
    return result


def _by_distribution(element: Element, columns: Columns, value: ColumnValue, labels: Sequence[str], threshold: float) -> str:
    """Logarithms of the density of a number for each label, which is normally distributed."""
    stats = {one.get("value"): one for one in element.all("TargetValueStat")}
    if set(stats) != set(labels):
        element.refuse(f"it has distributions for {', '.join(stats)}, and the labels are {', '.join(labels)}")
    normal = [stats[label].need("GaussianDistribution") for label in labels]
    means = np.array([[one.number("mean") for one in normal]])
    variances = np.array([[one.number("variance") for one in normal]])
    if (variances <= 0).any():
        element.refuse("a variance is not above 0")
    graph = columns.graph
    far = columns.add("Sub", value, graph.constant(means))
    scaled = columns.add("Div", columns.add("Mul", far, far), graph.constant(-2 * variances))
    likely = columns.add("Add", scaled, graph.constant(-0.5 * np.log(2 * np.pi * variances)))
    if threshold > 0:
        low = columns.scalar(math.log(threshold))
        likely = columns.choose(columns.add("Less", likely, low), low, likely)
    return likely


_COMPARE = ("absDiff", "gaussSim", "delta", "equal")
_MEASURES = ("euclidean", "squaredEuclidean", "cityBlock", "chebychev", "minkowski")


def read_clustering(element: Element, scope: Scope) -> Outcome:
    """A ClusteringModel with centres: the cluster whose centre is nearest, and how far that is."""
    element.one_of("modelClass", ("centerBased",))
    columns, graph = scope.columns, scope.columns.graph
    measure = element.need("ComparisonMeasure")
    measure.one_of("kind", ("distance",))
    kind = next((child for child in measure.children if child.tag in _MEASURES), None)
    if kind is None:
        measure.refuse(f"its measure is not supported; {', '.join(_MEASURES)} are")
    if element.find("MissingValueWeights") is not None:
        element.refuse("MissingValueWeights are not supported")
    fields = [one for one in element.all("ClusteringField") if one.get("isCenterField", "true") == "true"]
    clusters = list(element.all("Cluster"))
    centres = [[cluster.as_number(text) for text in cluster.need("Array").array()] for cluster in clusters]
    if not clusters or any(len(centre) != len(fields) for centre in centres):
        element.refuse(f"each Cluster needs an Array with a number for each of the {len(fields)} fields")
    names = tuple(one.attributes.get("id") or one.attributes.get("name") or str(at) for at, one in enumerate(clusters, start=1))
    parts = []
    for at, one in enumerate(fields):
        value = number_of(one, scope, one.get("field"))
        far = columns.add("Sub", value, graph.constant(np.array([[centre[at] for centre in centres]])))
        compare = one.one_of("compareFunction", _COMPARE, measure.get("compareFunction", "absDiff"))
        parts.append((one.number("fieldWeight", 1.0), _compared(one, columns, far, compare)))
    distance = _distance(kind, columns, parts)
    graph_label = graph.add("Reshape", graph.add("ArgMin", distance, axis=1, keepdims=1), graph.constant(np.array([-1, 1])))
    nearest = graph.add("Neg", graph.add("ReduceMax", graph.add("Neg", distance), graph.constant(np.array([1])), keepdims=1))
    label = columns.choose(graph.add("IsNaN", nearest), columns.code(len(names) + 1), graph_label)
    return Outcome(label=ColumnValue(label, names), affinity=ColumnValue(nearest))


def _compared(element: Element, columns: Columns, far: str, compare: str) -> str:
    match compare:
        case "absDiff":
            return columns.add("Abs", far)
        case "gaussSim":
            scale = element.number("similarityScale")
            return columns.add("Exp", columns.add("Mul", columns.add("Mul", far, far), columns.scalar(-math.log(2) / scale**2)))
        case _:
            same = columns.add("Equal", far, columns.scalar(0.0))
            values = (0.0, 1.0) if compare == "delta" else (1.0, 0.0)
            return columns.choose(same, columns.scalar(values[0]), columns.scalar(values[1]))


def _distance(kind: Element, columns: Columns, parts: Sequence[tuple[float, str]]) -> str:
    power = {"euclidean": 2.0, "squaredEuclidean": 2.0, "cityBlock": 1.0}.get(kind.tag) or (
        kind.number("p-parameter") if kind.tag == "minkowski" else math.inf
    )
    result = ""
    for weight, part in parts:
        raised = (
            part
            if power in (1.0, math.inf)
            else columns.add("Mul", part, part)
            if power == 2.0
            else columns.add("Pow", part, columns.scalar(power))
        )
        weighted = columns.add("Mul", raised, columns.scalar(weight))
        result = weighted if not result else columns.add("Max" if power == math.inf else "Add", result, weighted)
    if kind.tag == "euclidean":
        return columns.add("Sqrt", result)
    return columns.add("Pow", result, columns.scalar(1.0 / power)) if kind.tag == "minkowski" else result
