"""Reads models by their kind, and MiningModel, which combines several: https://dmg.org/pmml/v4-4-1/MultipleModels.html."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np

from lamppost.packing.compiling.graph import Tensor
from lamppost.packing.pmml.columns import Columns, ColumnValue, Truth
from lamppost.packing.pmml.counted import read_clustering, read_naive_bayes, read_scorecard
from lamppost.packing.pmml.dictionary import DataField, is_target, target_of, treated
from lamppost.packing.pmml.document import Element
from lamppost.packing.pmml.formulas import EXPRESSIONS, Scope, read_expression
from lamppost.packing.pmml.networks import read_network
from lamppost.packing.pmml.outcomes import Outcome, classified, recoded_scores
from lamppost.packing.pmml.predicates import predicate_of, read_predicate
from lamppost.packing.pmml.regression import read_general_regression, read_regression
from lamppost.packing.pmml.trees import Features, TreeReader, averaged_trees, read_tree_model, summed_trees

MODELS = (
    "RegressionModel", "GeneralRegressionModel", "TreeModel", "MiningModel", "NeuralNetwork", "Scorecard", "NaiveBayesModel",
    "ClusteringModel",
)  # fmt: skip
_METHODS = (
    "majorityVote", "weightedMajorityVote", "average", "weightedAverage", "max", "sum", "weightedSum", "selectFirst", "modelChain",
)  # fmt: skip
_READERS = {
    "RegressionModel": read_regression,
    "GeneralRegressionModel": read_general_regression,
    "TreeModel": read_tree_model,
    "NeuralNetwork": read_network,
    "Scorecard": read_scorecard,
    "NaiveBayesModel": read_naive_bayes,
}


class ModelReader:
    """Reads the models of a document. fields : of the data dictionary. labels : of the document's target; empty for a number."""

    def __init__(self, fields: Mapping[str, DataField], labels: Sequence[str]) -> None:
        self._fields = fields
        self._labels = tuple(labels)
        self._scopes: dict[int, Scope] = {}

    def read(self, element: Element, scope: Scope, top: bool = False) -> Outcome:
        """The outcome of a model, in the scope of what is around it. top : whether the model is the document's, and not within another."""
        inner = scope.inner()
        self._scopes[id(element)] = inner
        self._treat(element, scope, inner, top)
        inner.define(element.find("LocalTransformations"))
        labels = self._labels_of(element)
        if element.tag == "MiningModel":
            outcome = self._combined(element, inner, labels)
        elif element.tag == "ClusteringModel":
            outcome = read_clustering(element, inner)
        elif element.tag in _READERS:
            outcome = _READERS[element.tag](element, inner, labels)
        else:
            element.refuse(f"this kind of model is not supported; {', '.join(MODELS)} are")
        return _with_targets(element, scope.columns, outcome)

    def _treat(self, element: Element, scope: Scope, inner: Scope, top: bool) -> None:
        """Put the fields of the mining schema into the scope of the model, treated as it says."""
        for one in element.need("MiningSchema").all("MiningField"):
            name = one.get("name")
            if is_target(one):
                continue
            inner.values[name] = treated(scope.columns, scope.value(name, one), one, self._fields.get(name) if top else None)

    def _labels_of(self, element: Element) -> tuple[str, ...]:
        """The labels of a classification: those of its own target, else of the document's, else those that stand in it."""
        if element.one_of("functionName", ("regression", "classification", "clustering")) != "classification":
            return ()
        own = target_of(element.need("MiningSchema"))
        listed = self._fields[own].values if own is not None and own in self._fields else ()
        found = tuple(listed) or labels_in(element)
        return self._labels if set(found) <= set(self._labels) else found

    # -- several models -----------------------------------------------------------------------------------------------------------

    def _combined(self, element: Element, scope: Scope, labels: tuple[str, ...]) -> Outcome:
        segmentation = element.need("Segmentation")
        method = segmentation.one_of("multipleModelMethod", _METHODS)
        if segmentation.get("missingPredictionTreatment", "continue") == "skipSegment":
            segmentation.refuse("missingPredictionTreatment='skipSegment' is not supported")
        segments = list(segmentation.all("Segment"))
        if not segments:
            segmentation.refuse("it holds no Segment")
        if method == "modelChain":
            return self._chain(segments, scope)
        weighted = method.startswith("weighted")
        weights = [one.number("weight", 1.0) if weighted else 1.0 for one in segments]
        models = [_model_of(one) for one in segments]
        always = all(predicate_of(one).tag == "True" for one in segments)
        plain = method in ("sum", "weightedSum", "average", "weightedAverage", "majorityVote", "weightedMajorityVote")
        if always and plain and all(_is_plain_tree(model) for model in models):
            return self._forest(models, weights, method, scope, labels)
        truths = [None if predicate_of(one).tag == "True" else read_predicate(predicate_of(one), scope) for one in segments]
        outcomes = [self.read(model, scope) for model in models]
        return _united(element, scope.columns, method, labels, outcomes, truths, weights)

    def _chain(self, segments: Sequence[Element], scope: Scope) -> Outcome:
        """Models that read what those before them gave."""
        outcome: Outcome | None = None
        for one in segments:
            if predicate_of(one).tag != "True":
                one.refuse("a segment of a modelChain with a condition is not supported")
            model = _model_of(one)
            outcome = self.read(model, scope)
            scope.values.update(self.output_values(model, outcome))
        assert outcome is not None
        return outcome

    def _forest(self, models: Sequence[Element], weights: Sequence[float], method: str, scope: Scope, labels: Sequence[str]) -> Outcome:
        """Trees over the same columns, as one ensemble."""
        features = Features(scope.columns)
        reader = TreeReader(features, labels)
        trees = []
        for model in models:
            inner = scope.inner()
            self._treat(model, scope, inner, top=False)
            trees.append(reader.read(model, inner))
        if labels:
            return classified(scope.columns, averaged_trees(features, trees, weights, "ajority" in method), labels)
        if "ajority" in method:
            models[0].refuse("a vote needs labels, and these trees give numbers")
        total = summed_trees(features, trees, weights)
        return Outcome(scope.columns.number("Div", total, scope.columns.scalar(sum(weights))) if "verage" in method else total)

    def output_values(self, model: Element, outcome: Outcome) -> dict[str, ColumnValue]:
        """The columns that the Output of a model that was read names, for the models after it and for the answer."""
        output = model.find("Output")
        scope = self._scopes[id(model)]
        inner = scope.inner()
        made: dict[str, ColumnValue] = {}
        for one in () if output is None else output.all("OutputField"):
            name, feature = one.get("name"), one.get("feature", "predictedValue")
            if feature == "predictedValue":
                made[name] = outcome.predicted
            elif feature == "probability":
                made[name] = _probability(one, scope.columns, outcome)
            elif feature in ("transformedValue", "decision"):
                expression = next((child for child in one.children if child.tag in EXPRESSIONS), None)
                if expression is None:
                    one.refuse("it holds no expression that is supported")
                made[name] = read_expression(expression, inner)
            elif feature in ("clusterId", "entityId") and outcome.affinity is not None:
                made[name] = outcome.predicted
            elif feature in ("affinity", "clusterAffinity", "entityAffinity") and outcome.affinity is not None:
                made[name] = outcome.affinity
            else:
                continue  # such as a node's number: nothing that an answer is made of
            inner.values[name] = made[name]
        return made


def _is_plain_tree(model: Element) -> bool:
    return model.tag == "TreeModel" and model.find("LocalTransformations") is None and model.find("Targets") is None


def _model_of(segment: Element) -> Element:
    found = [child for child in segment.children if child.tag.endswith("Model") or child.tag in MODELS]
    return found[0] if len(found) == 1 else segment.refuse("it needs one model")


def labels_in(element: Element) -> tuple[str, ...]:
    """The labels that stand in a classification whose target lists none."""
    found: list[str] = []
    waiting = [element]
    while waiting:
        one = waiting.pop()
        waiting += reversed(one.children)
        if one.tag == "RegressionTable" or one.tag == "PCell":
            found += [one.attributes[key] for key in ("targetCategory",) if key in one.attributes]
        elif one.tag == "Node" and "score" in one.attributes:
            found.append(one.attributes["score"])
        elif one.tag in ("ScoreDistribution", "TargetValueCount") and "value" in one.attributes:
            found.append(one.attributes["value"])
        elif one.tag == "NeuralOutput":
            found += [norm.get("value") for derived in one.all("DerivedField") for norm in derived.all("NormDiscrete")]
    return tuple(dict.fromkeys(found)) or element.refuse("its labels are listed nowhere")


def _united(
    element: Element,
    columns: Columns,
    method: str,
    labels: tuple[str, ...],
    outcomes: Sequence[Outcome],
    truths: Sequence[Truth | None],
    weights: Sequence[float],
) -> Outcome:
    """One outcome of those of the segments whose conditions hold."""
    if labels:
        kept = outcomes
        if "ajority" in method:
            kept = [Outcome(label=one.label) for one in outcomes]
        parts = [recoded_scores(columns, one, labels) for one in kept]
    else:
        if any(one.value is None for one in outcomes):
            element.refuse("its segments give labels, and it gives a number")
        parts = [Tensor(one.predicted.name, 1) for one in outcomes]
    if method == "selectFirst":
        return _first(columns, labels, outcomes, parts, truths)
    masks = [None if truth is None else columns.choose(truth.yes, columns.scalar(1.0), columns.scalar(0.0)) for truth in truths]
    nothing = columns.scalar(-math.inf if method == "max" else 0.0)
    total, count = "", ""
    for part, truth, mask, weight in zip(parts, truths, masks, weights, strict=True):
        given = part.name if weight == 1 else columns.add("Mul", part.name, columns.scalar(weight))
        given = given if truth is None else columns.choose(truth.yes, given, nothing)
        total = given if not total else columns.add("Max" if method == "max" else "Add", total, given)
        here = columns.scalar(weight) if mask is None else columns.add("Mul", mask, columns.scalar(weight))
        count = here if not count else columns.add("Add", count, here)
    if "verage" in method or (labels and method != "max"):
        total = columns.add("Div", total, count)
    elif any(truth is not None for truth in truths):  # where no segment takes part there is no answer
        total = columns.choose(columns.add("Equal", count, columns.scalar(0.0)), columns.scalar(math.nan), total)
    total = columns.add("Add", total, columns.filled(0.0))
    if labels:
        return classified(columns, Tensor(total, len(labels)), labels)
    return Outcome(ColumnValue(total))


def _first(
    columns: Columns, labels: tuple[str, ...], outcomes: Sequence[Outcome], parts: Sequence[Tensor], truths: Sequence[Truth | None]
) -> Outcome:
    """The outcome of the first segment whose condition holds."""
    chosen = columns.scalar(math.nan)
    label = columns.code(len(labels) + 1)
    for outcome, part, truth in reversed(list(zip(outcomes, parts, truths, strict=True))):
        yes = columns.always(True).yes if truth is None else truth.yes
        chosen = columns.choose(yes, part.name, chosen)
        if labels:
            assert outcome.label is not None
            assert outcome.label.categories is not None
            places = [labels.index(one) for one in outcome.label.categories]
            own = columns.looked_up(outcome.label, places, len(labels), len(labels) + 1)
            label = columns.choose(yes, own, label)
    if not labels:
        return Outcome(ColumnValue(chosen))
    return Outcome(label=ColumnValue(label, labels), scores=Tensor(chosen, len(labels)))


# -- what is made of an outcome --------------------------------------------------------------------------------------------------


def _with_targets(element: Element, columns: Columns, outcome: Outcome) -> Outcome:
    """An outcome after the model's Targets."""
    targets = element.find("Targets")
    if targets is None:
        return outcome
    (target, *more) = list(targets.all("Target")) or [targets.refuse("it holds no Target")]
    if more:
        more[0].refuse("several targets are not supported")
    if outcome.value is None or any("defaultValue" in one.attributes for one in target.all("TargetValue")):
        if outcome.value is None and not {"min", "max", "rescaleFactor", "rescaleConstant", "castInteger"} & set(target.attributes):
            return outcome  # prior probabilities take the place of scores that are missing; no answer takes it here
        target.refuse("default values, and changes of what is no number, are not supported")
    value = outcome.value
    if "min" in target.attributes:
        low = columns.scalar(target.number("min"))
        value = ColumnValue(columns.choose(columns.add("Less", value, low), low, value))
    if "max" in target.attributes:
        high = columns.scalar(target.number("max"))
        value = ColumnValue(columns.choose(columns.add("Greater", value, high), high, value))
    if (factor := target.number("rescaleFactor", 1.0)) != 1:
        value = columns.number("Mul", value, columns.scalar(factor))
    if (shift := target.number("rescaleConstant", 0.0)) != 0:
        value = columns.number("Add", value, columns.scalar(shift))
    if "castInteger" in target.attributes:
        match target.one_of("castInteger", ("round", "ceiling", "floor")):
            case "round":
                value = columns.number("Floor", columns.number("Add", value, columns.scalar(0.5)))
            case "floor":
                value = columns.number("Floor", value)
            case _:
                value = columns.number("Neg", columns.number("Floor", columns.number("Neg", value)))
    return replace(outcome, value=value)


def _probability(element: Element, columns: Columns, outcome: Outcome) -> ColumnValue:
    if outcome.label is None or outcome.label.categories is None:
        element.refuse("a probability needs a classification")
    scores = recoded_scores(columns, outcome, outcome.label.categories)
    if "value" not in element.attributes:
        return ColumnValue(columns.graph.add("ReduceMax", scores.name, columns.graph.constant(np.array([1])), keepdims=1))
    if element.get("value") not in outcome.label.categories:
        element.refuse(f"{element.get('value')!r} is no label")
    return columns.split(scores)[outcome.label.categories.index(element.get("value"))]
