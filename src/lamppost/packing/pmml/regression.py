"""Reads RegressionModel and GeneralRegressionModel: https://dmg.org/pmml/v4-4-1/Regression.html and GeneralRegression.html."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lamppost.packing.compiling.graph import Tensor, softmax
from lamppost.packing.pmml.columns import Columns, ColumnValue
from lamppost.packing.pmml.document import Element
from lamppost.packing.pmml.formulas import Scope, equal_to, number_of
from lamppost.packing.pmml.outcomes import Outcome, classified

_TABLE = ("NumericPredictor", "CategoricalPredictor", "PredictorTerm")


class _Terms:
    """The terms of a model's tables, each a column once, and their weights in each table."""

    def __init__(self, scope: Scope, tables: int) -> None:
        self._scope = scope
        self._places: dict[tuple[str, ...], int] = {}
        self._columns: list[ColumnValue] = []
        self._weights: list[list[float]] = []
        self._tables = tables

    def add(self, key: tuple[str, ...], table: int, weight: float, make: object) -> None:
        if key not in self._places:
            self._places[key] = len(self._columns)
            self._columns.append(make())  # type: ignore[operator]
            self._weights.append([0.0] * self._tables)
        self._weights[self._places[key]][table] += weight

    def total(self, shift: Sequence[float]) -> Tensor:
        columns = self._scope.columns
        if not self._columns:
            return columns.joined([columns.filled(value) for value in shift])
        return columns.graph.matmul(columns.joined(self._columns), np.array(self._weights), np.array(shift))


def _power(columns: Columns, value: ColumnValue, exponent: float) -> ColumnValue:
    return value if exponent == 1 else columns.number("Pow", value, columns.scalar(exponent))


def indicator(element: Element, columns: Columns, value: ColumnValue, text: str) -> ColumnValue:
    """1 where a column is a value, 0 elsewhere, also where it is missing."""
    truth = equal_to(element, columns, value, text)
    return ColumnValue(columns.choose(truth.yes, columns.scalar(1.0), columns.scalar(0.0)))


def read_regression(element: Element, scope: Scope, labels: Sequence[str]) -> Outcome:
    """A RegressionModel."""
    tables = list(element.all("RegressionTable"))
    terms = _Terms(scope, len(tables))
    columns = scope.columns
    for at, table in enumerate(tables):
        table.only(*_TABLE)
        for one in table.all("NumericPredictor"):
            name, exponent = one.get("name"), one.number("exponent", 1.0)
            terms.add(
                ("number", name, str(exponent)),
                at,
                one.number("coefficient"),
                lambda one=one, name=name, exponent=exponent: _power(columns, number_of(one, scope, name), exponent),
            )
        for one in table.all("CategoricalPredictor"):
            name, text = one.get("name"), one.get("value")
            terms.add(
                ("category", name, text),
                at,
                one.number("coefficient"),
                lambda one=one, name=name, text=text: indicator(one, columns, scope.value(name, one), text),
            )
        for one in table.all("PredictorTerm"):
            names = [part.get("field") for part in one.all("FieldRef")] or [one.refuse("it names no field")]
            terms.add(("term", *sorted(names)), at, one.number("coefficient"), lambda one=one, names=names: _product(one, scope, names))
    if not tables:
        element.refuse("it has no RegressionTable")
    totals = terms.total([table.number("intercept") for table in tables])
    method = element.get("normalizationMethod", "none")
    if not labels:
        if len(tables) != 1:
            element.refuse("a regression has one RegressionTable")
        return Outcome(ColumnValue(_linked(element, columns, totals.name, "logit" if method == "softmax" else method)))
    own = [table.get("targetCategory") for table in tables]
    if len(set(own)) != len(own) or (len(own) < 2 and len(labels) != 2) or set(own) - set(labels):
        element.refuse(f"its tables are for {', '.join(own)}, and the labels are {', '.join(labels)}; one table each is needed")
    if len(own) == 1:
        own.append(next(label for label in labels if label != own[0]))
    if len(own) != len(labels):
        element.refuse(f"it has {len(own)} tables for {len(labels)} labels")
    scores = _scores(element, columns, totals, method, len(own))
    ordered = columns.split(scores)
    return classified(columns, columns.joined([ordered[own.index(label)] for label in labels]), labels)


def _product(element: Element, scope: Scope, names: Sequence[str]) -> ColumnValue:
    result = number_of(element, scope, names[0])
    for name in names[1:]:
        result = scope.columns.number("Mul", result, number_of(element, scope, name))
    return result


def _scores(element: Element, columns: Columns, totals: Tensor, method: str, count: int) -> Tensor:
    """The scores of the tables' labels, by the standard's normalization."""
    graph = columns.graph
    if method in ("softmax", "simplemax") and totals.width == count:
        return softmax(graph, totals) if method == "softmax" else shares(columns, totals)
    if count > 2 and method != "none":
        element.refuse(f"normalizationMethod={method!r} of more than two labels is not supported; none, softmax and simplemax are")
    first = columns.split(totals)
    if method == "softmax":  # of one table: the other's is 0
        method = "logit"
    kept = [ColumnValue(_linked(element, columns, one.name, method)) for one in first[: count - 1]]
    rest = columns.scalar(1.0)
    for one in kept:
        rest = columns.add("Sub", rest, one)
    return columns.joined([*kept, ColumnValue(rest)])


def shares(columns: Columns, tensor: Tensor) -> Tensor:
    """The columns of each row as shares of their sum."""
    total = columns.graph.add("ReduceSum", tensor.name, columns.graph.constant(np.array([1])), keepdims=1)
    return Tensor(columns.graph.add("Div", tensor.name, total), tensor.width)


def _linked(element: Element, columns: Columns, name: str, method: str, parameter: float = 1.0) -> str:
    """The inverse of a link function, for one or several columns."""
    match method:
        case "none" | "identity":
            return name
        case "logit":
            return columns.add("Sigmoid", name)
        case "exp" | "log":
            return columns.add("Exp", name)
        case "cloglog":
            return columns.add("Sub", columns.scalar(1.0), columns.add("Exp", columns.add("Neg", columns.add("Exp", name))))
        case "loglog":
            return columns.add("Exp", columns.add("Neg", columns.add("Exp", columns.add("Neg", name))))
        case "logc":
            return columns.add("Sub", columns.scalar(1.0), columns.add("Exp", name))
        case "power":
            return columns.add("Exp", name) if parameter == 0 else columns.add("Pow", name, columns.scalar(1.0 / parameter))
    return element.refuse(f"{method!r} is not supported; none, identity, logit, softmax, exp, log, cloglog, loglog, logc and power are")


def read_general_regression(element: Element, scope: Scope, labels: Sequence[str]) -> Outcome:
    """A GeneralRegressionModel."""
    kind = element.one_of("modelType", ("regression", "generalLinear", "generalizedLinear", "multinomialLogistic"))
    columns = scope.columns
    parameters = [one.get("name") for one in element.need("ParameterList").all("Parameter")]
    made = _parameter_columns(element, scope, parameters)
    cells = list(element.need("ParamMatrix").all("PCell"))
    reference = element.attributes.get("targetReferenceCategory")
    if kind == "multinomialLogistic" or (labels and kind == "generalizedLinear"):
        reference = reference if reference is not None else labels[-1] if labels else None
    targets = list(
        dict.fromkeys(one.get("targetCategory", "") for one in cells if not labels or one.get("targetCategory", "") != reference)
    )
    if labels and targets == [""] and len(labels) == 2:
        targets = [next(label for label in labels if label != reference)]
    weights = np.zeros((len(parameters), len(targets)))
    for cell in cells:
        target = cell.get("targetCategory", "") or targets[0]
        if cell.get("parameterName") not in parameters or target not in targets:
            cell.refuse("it is for a parameter or category that is not declared")
        weights[parameters.index(cell.get("parameterName")), targets.index(target)] += cell.number("beta")
    totals = columns.graph.matmul(columns.joined(made), weights)
    if "offsetVariable" in element.attributes:
        totals = Tensor(columns.add("Add", totals.name, number_of(element, scope, element.get("offsetVariable"))), totals.width)
    elif "offsetValue" in element.attributes:
        totals = Tensor(columns.add("Add", totals.name, columns.scalar(element.number("offsetValue"))), totals.width)
    link = element.get("linkFunction", "identity") if kind == "generalizedLinear" else "identity"
    if not labels:
        value = ColumnValue(_linked(element, columns, totals.name, link, element.number("linkParameter", 1.0)))
        if "trialsValue" in element.attributes:
            value = columns.number("Mul", value, columns.scalar(element.number("trialsValue")))
        return Outcome(value)
    if not set(targets) <= set(labels) or len(targets) != len(labels) - 1 or reference not in labels:
        element.refuse(f"its parameters are for {', '.join(targets)} beside {reference}, and the labels are {', '.join(labels)}")
    if kind == "generalizedLinear":
        if len(labels) != 2:
            element.refuse("a generalizedLinear classification has two labels")
        first = ColumnValue(_linked(element, columns, totals.name, link, element.number("linkParameter", 1.0)))
        scores = [first, columns.number("Sub", columns.scalar(1.0), first)]
    else:
        scores = columns.split(softmax(columns.graph, columns.joined([*columns.split(totals), columns.filled(0.0)])))
    own = [*targets, reference]
    return classified(columns, columns.joined([scores[own.index(label)] for label in labels]), labels)


def _parameter_columns(element: Element, scope: Scope, parameters: Sequence[str]) -> list[ColumnValue]:
    """The column of each parameter: the product of its covariates' powers, where its factors have their values."""
    columns = scope.columns
    factors = {one.get("name") for one in _predictors(element, "FactorList")}
    covariates = {one.get("name") for one in _predictors(element, "CovariateList")}
    made: dict[str, ColumnValue] = {}
    matrix = element.find("PPMatrix")
    for cell in () if matrix is None else matrix.all("PPCell"):
        name, parameter = cell.get("predictorName"), cell.get("parameterName")
        if name in factors:
            column = indicator(cell, columns, scope.value(name, cell), cell.get("value"))
            # a factor that is missing has no value of its own
            gone = columns.is_missing(scope.value(name, cell))
            column = ColumnValue(columns.choose(gone, columns.scalar(float("nan")), column))
        elif name in covariates:
            column = _power(columns, number_of(cell, scope, name), cell.number("value", 1.0))
        else:
            cell.refuse(f"{name} is neither among the factors nor among the covariates")
        made[parameter] = columns.number("Mul", made[parameter], column) if parameter in made else column
    return [made.get(name, columns.filled(1.0)) for name in parameters]


def _predictors(element: Element, tag: str) -> list[Element]:
    found = element.find(tag)
    predictors = [] if found is None else list(found.all("Predictor"))
    for one in predictors:
        if (one.find("Categories") is None and one.find("Matrix") is not None) or "contrastMatrixType" in one.attributes:
            one.refuse("a contrast matrix is not supported")
    return predictors
