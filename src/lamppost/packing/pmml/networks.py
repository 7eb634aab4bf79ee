"""Reads NeuralNetwork: https://dmg.org/pmml/v4-4-1/NeuralNetwork.html."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lamppost.packing.compiling.graph import Tensor, softmax
from lamppost.packing.pmml.columns import Columns, ColumnValue
from lamppost.packing.pmml.document import Element
from lamppost.packing.pmml.formulas import Scope, denormalised, read_derived
from lamppost.packing.pmml.outcomes import Outcome, classified
from lamppost.packing.pmml.regression import shares

_MAX_WEIGHTS = 20_000_000


def read_network(element: Element, scope: Scope, labels: Sequence[str]) -> Outcome:
    """A NeuralNetwork whose layers are fully or partly connected to those before."""
    columns = scope.columns
    names: list[str] = []
    parts: list[ColumnValue] = []
    for one in element.need("NeuralInputs").all("NeuralInput"):
        names.append(one.get("id"))
        parts.append(read_derived(one.need("DerivedField"), scope))
    known = columns.joined(parts)
    places = {name: at for at, name in enumerate(names)}
    layers = list(element.all("NeuralLayer"))
    for layer in layers:
        given = _layer(element, layer, columns, known, places)
        known = columns.graph.join([known, given])
    neurons = columns.split(known)
    outputs = [(one.get("outputNeuron"), one.need("DerivedField")) for one in element.need("NeuralOutputs").all("NeuralOutput")]
    if lost := [name for name, _ in outputs if name not in places]:
        element.refuse(f"there is no neuron {lost[0]!r}")
    if not labels:
        if len(outputs) != 1:
            element.refuse("a network that gives one number has one output; several are not supported")
        name, derived = outputs[0]
        norm = derived.find("NormContinuous")
        if norm is None and derived.find("FieldRef") is None:
            derived.refuse("it is neither a FieldRef nor a NormContinuous")
        return Outcome(neurons[places[name]] if norm is None else denormalised(columns, neurons[places[name]], norm))
    by_label = {derived.need("NormDiscrete").get("value"): neurons[places[name]] for name, derived in outputs}
    if set(by_label) != set(labels):
        element.refuse(f"its outputs are {', '.join(by_label)}, and the labels are {', '.join(labels)}")
    return classified(columns, columns.joined([by_label[label] for label in labels]), labels)


def _layer(element: Element, layer: Element, columns: Columns, known: Tensor, places: dict[str, int]) -> Tensor:
    neurons = list(layer.all("Neuron"))
    layer.only("Neuron")
    function = layer.attributes.get("activationFunction") or element.get("activationFunction")
    if function == "radialBasis":
        layer.refuse("radialBasis is not supported")
    if known.width * len(neurons) > _MAX_WEIGHTS:
        layer.refuse("the network is too large")
    weights = np.zeros((known.width, len(neurons)))
    for at, neuron in enumerate(neurons):
        for con in neuron.all("Con"):
            if con.get("from") not in places:
                con.refuse(f"there is no neuron {con.get('from')!r} before it")
            weights[places[con.get("from")], at] += con.number("weight")
    read = np.flatnonzero(weights.any(axis=1))
    totals = columns.graph.matmul(columns.graph.pick(known, read), weights[read], [one.number("bias", 0.0) for one in neurons])
    threshold = layer.number("threshold", element.number("threshold", 0.0))
    given = Tensor(_activated(layer, columns, totals.name, function, threshold), totals.width)
    method = layer.attributes.get("normalizationMethod") or element.get("normalizationMethod", "none")
    if method == "softmax":
        given = softmax(columns.graph, given)
    elif method == "simplemax":
        given = shares(columns, given)
    elif method != "none":
        layer.refuse(f"normalizationMethod={method!r} is not supported")
    for neuron in neurons:
        if neuron.get("id") in places:
            neuron.refuse(f"there are two neurons {neuron.get('id')!r}")
        places[neuron.get("id")] = len(places)
    return given


def _activated(layer: Element, columns: Columns, name: str, function: str, threshold: float) -> str:
    add, one = columns.add, columns.scalar(1.0)
    match function:
        case "identity":
            return name
        case "logistic":
            return add("Sigmoid", name)
        case "tanh":
            return add("Tanh", name)
        case "rectifier":
            return columns.choose(add("Greater", name, columns.scalar(0.0)), name, add("Mul", name, columns.scalar(0.0)))
        case "exponential":
            return add("Exp", name)
        case "reciprocal":
            return add("Div", one, name)
        case "square":
            return add("Mul", name, name)
        case "Gauss":
            return add("Exp", add("Neg", add("Mul", name, name)))
        case "Elliott":
            return add("Div", name, add("Add", one, add("Abs", name)))
        case "threshold":
            return columns.choose(add("Greater", name, columns.scalar(threshold)), one, columns.scalar(0.0))
    return layer.refuse(f"the activation function {function!r} is not supported")
