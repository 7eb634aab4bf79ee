"""A package as a PMML 4.4 document: https://dmg.org/pmml/v4-4-1/GeneralStructure.html.

What the trees read, and what stands around them, are derived fields; sums of trees are segments of a chain; what is left is a regression.
A forest of classification trees is written as one, and a logistic or softmax regression by its normalization.
"""

from __future__ import annotations

import math
import xml.etree.ElementTree as ET
from collections.abc import Sequence

import numpy as np

from lamppost.packing.export.answer_shape import ExportedModel, number_outputs
from lamppost.packing.export.expressions import Expression, constant, statements
from lamppost.packing.export.linear_terms import LinearSum, linear_sum, normalised
from lamppost.packing.export.pmml_expressions import DerivedFields, TreeSum, below
from lamppost.packing.export.row_program import NoSuchForm

MAX_BYTES = 64 * 2**20
SCORES = "scores"
_NAMESPACE = "http://www.dmg.org/PMML-4_4"
_DEEPEST = 20


def write_pmml(model: ExportedModel) -> bytes:
    """The document; raise NoSuchForm for a package that has none."""
    document = _Writer(model).document()
    ET.indent(document, " ")
    content: bytes = ET.tostring(document, encoding="utf-8", xml_declaration=True)
    if len(content) > MAX_BYTES:
        raise NoSuchForm(f"{model.manifest.name} would take more than {MAX_BYTES // 2**20} MiB of PMML")
    return content


class _Writer:
    def __init__(self, model: ExportedModel) -> None:
        self._model = model
        self._program = model.program
        self._fields = model.by_name
        # what is called decisions is no share of 1, which PMML's probabilities are
        self._shares = model.scores if model.scores is not None and model.scores.name == SCORES else None
        taken = set(self._fields)
        self._derived = DerivedFields(model, taken)
        self._target = self._derived.unused_name(model.label.name if model.label is not None else model.values[0].name)
        taken |= set(model.answer_columns)

    def document(self) -> ET.Element:
        root = ET.Element("PMML", {"version": "4.4", "xmlns": _NAMESPACE})
        header = below(root, "Header", description=self._model.manifest.name)
        below(header, "Application", name=self._model.written_by)
        self._dictionary(root)
        root.append(self._derived.early)
        root.append(self._whole_model())
        if not len(self._derived.early):
            root.remove(self._derived.early)
        return root

    def _dictionary(self, root: ET.Element) -> None:
        dictionary = below(root, "DataDictionary", numberOfFields=len(self._fields) + 1)
        for field in self._model.fields:
            number = field.kind in ("number", "integer")
            data_type = {"number": "double", "integer": "integer", "yes/no": "boolean"}.get(field.kind, "string")
            element = below(dictionary, "DataField", name=field.name, optype="continuous" if number else "categorical", dataType=data_type)
            if field.meaning is not None:
                element.set("displayName", field.meaning)
            margins = {"leftMargin": field.low, "rightMargin": field.high}
            if number and any(margin is not None for margin in margins.values()):
                below(element, "Interval", closure="closedClosed", **{name: value for name, value in margins.items() if value is not None})
            for choice in field.choices:
                below(element, "Value", value=choice)
        label = self._model.label
        kinds = {"optype": "continuous", "dataType": "double"} if label is None else {"optype": "categorical", "dataType": "string"}
        target = below(dictionary, "DataField", name=self._target, **kinds)
        for choice in () if label is None else label.choices:
            below(target, "Value", value=choice)

    def _schema(self, parent: ET.Element, outer: bool, also: Sequence[str] = ()) -> None:
        schema = below(parent, "MiningSchema")
        for field in self._model.fields:
            element = below(schema, "MiningField", name=field.name)
            if outer:
                element.set("missingValueTreatment", "asIs" if field.missing else "returnInvalid")
            if outer and field.kind == "choice" and field.unseen == "accept":
                element.set("invalidValueTreatment", "asIs")
        for name in also:
            below(schema, "MiningField", name=name)
        if outer or self._model.label is not None:
            below(schema, "MiningField", name=self._target, usageType="target")

    # -- models -----------------------------------------------------------------------------------------------------------------

    def _whole_model(self) -> ET.Element:
        model, outputs = self._model, self._program.outputs
        numbers = number_outputs(model)
        label = outputs["label"][0] if model.label is not None else None
        scores = outputs["scores"] if self._shares is not None else ()
        beside = list(zip([field.name for field in model.values], numbers, strict=True))[label is None :]
        if model.scores is not None and self._shares is None:
            beside += zip((f"{model.scores.name}_{choice}" for choice in model.scores.choices), outputs["scores"], strict=True)
        function = "regression" if label is None else "classification"
        if len(scores) and not beside and (forest := self._forest(scores)) is not None:
            self._output(forest)
            return forest
        method, tables = self._tables_of(label, scores, numbers)
        named = statements([one for table in tables for one in table.terms] + [one for _, one in beside], deepest=_DEEPEST)
        self._derived.write_statements(named)
        if label is None and not beside and len(self._derived.sums) == 1 and (alone := self._alone(tables[0])) is not None:
            self._output(alone)
            return alone
        regression = self._regression(function, method, tables)
        extras = [(name, self._derived.name_of(one)) for name, one in beside]
        if len(self._derived.late):
            regression.insert(1, self._derived.late)
        if not self._derived.sums:
            self._output(regression, extras)
            return regression
        whole = ET.Element("MiningModel", {"functionName": function})
        self._schema(whole, outer=True)
        segmentation = below(whole, "Segmentation", multipleModelMethod="modelChain")
        for at, one in enumerate(self._derived.sums.values()):
            segment = below(segmentation, "Segment", id=str(at))
            below(segment, "True")
            segment.append(self._sum_of_trees(one))
        segment = below(segmentation, "Segment", id=str(len(self._derived.sums)))
        below(segment, "True")
        segment.append(regression)
        if extras:
            inner = ET.Element("Output")
            for name, source in extras:
                _transformed(inner, name, source)
            regression.insert(1, inner)
        self._output(whole, [(name, name) for name, _ in extras])
        return whole

    def _tables_of(
        self, label: Expression | None, scores: Sequence[Expression], numbers: Sequence[Expression]
    ) -> tuple[str, list[LinearSum]]:
        """The normalization, and the sum of each label's table, or of the number."""
        if label is None:
            return "none", [linear_sum(numbers[0])]
        if scores:
            return normalised(scores)
        assert self._model.label is not None
        return "none", [self._is_label(label, at) for at in range(len(self._model.label.choices))]

    def _is_label(self, label: Expression, at: int) -> LinearSum:
        same = Expression("equal", "bool", (label, constant(at)))
        return LinearSum(0.0, (Expression("choose", "float", (same, constant(1.0), constant(0.0))),), (1.0,))

    def _regression(self, function: str, method: str, tables: Sequence[LinearSum]) -> ET.Element:
        attributes = {"functionName": function, "normalizationMethod": method}
        model = ET.Element("RegressionModel", attributes)
        self._schema(model, outer=not self._derived.sums, also=[one.name for one in self._derived.sums.values()])
        for at, table in enumerate(tables):
            element = below(model, "RegressionTable", intercept=table.intercept)
            if self._model.label is not None:
                element.set("targetCategory", self._model.label.choices[at])
            for term, weight in zip(table.terms, table.weights, strict=True):
                below(element, "NumericPredictor", name=self._derived.name_of(term), coefficient=weight)
        return model

    def _alone(self, table: LinearSum) -> ET.Element | None:
        """A sum or mean of trees as the whole model, where nothing stands around it."""
        (one,) = self._derived.sums.values()
        if len(table.terms) != 1 or table.intercept or self._derived.name_of(table.terms[0]) != one.name:
            return None
        (weight,) = table.weights
        trees = len(one.trees.roots)
        if abs(weight * trees - 1) > 1e-15 and weight != 1:
            return None
        return self._sum_of_trees(one, "sum" if weight == 1 else "average", outer=True)

    def _output(self, model: ET.Element, extras: Sequence[tuple[str, str]] = ()) -> None:
        """The names of the answer's parts."""
        described = self._model
        output = ET.Element("Output")
        first = described.label.name if described.label is not None else described.values[0].name
        kinds = ("continuous", "double") if described.label is None else ("categorical", "string")
        below(output, "OutputField", name=first, optype=kinds[0], dataType=kinds[1], feature="predictedValue")
        for choice in () if self._shares is None else self._shares.choices:
            below(
                output,
                "OutputField",
                name=f"{SCORES}_{choice}",
                optype="continuous",
                dataType="double",
                feature="probability",
                value=choice,
            )
        for name, source in extras:
            _transformed(output, name, source)
        model.insert(1, output)

    # -- trees --------------------------------------------------------------------------------------------------------------------

    def _forest(self, scores: Sequence[Expression]) -> ET.Element | None:
        """A mean of classification trees, where the scores are one."""
        sums = [linear_sum(one) for one in scores]
        terms = [
            {id(term.value[0]): (term, weight) for term, weight in zip(one.terms, one.weights, strict=True)}
            for one in sums
            if one.all_trees
        ]
        if (
            len(terms) != len(scores)
            or any(one.intercept or one.terms == () for one in sums)
            or any(one.keys() != terms[0].keys() for one in terms)
        ):
            return None
        parts = []
        for key, (term, weight) in terms[0].items():
            targets = [one[key][0].value[1] for one in terms]
            same = all(one[key][1] == weight and one[key][0].parts == term.parts for one in terms)
            if not same or targets != list(range(len(scores))) or term.value[0].targets != len(scores):
                return None
            parts.append((term, weight))
        if len({weight for _, weight in parts}) != 1 or abs(sum(weight * len(term.value[0].roots) for term, weight in parts) - 1) > 1e-9:
            return None
        self._derived.write_statements(statements([term for term, _ in parts], deepest=_DEEPEST), with_trees=False)
        roots = [(term, root) for term, _ in parts for root in term.value[0].roots]
        if len(roots) == 1:
            return self._tree(*roots[0], labels=True, outer=True)
        model = ET.Element("MiningModel", {"functionName": "classification"})
        self._schema(model, outer=True)
        segmentation = below(model, "Segmentation", multipleModelMethod="average")
        for at, (term, root) in enumerate(roots):
            segment = below(segmentation, "Segment", id=str(at))
            below(segment, "True")
            segment.append(self._tree(term, root, labels=True, outer=False))
        return model

    def _sum_of_trees(self, one: TreeSum, method: str = "sum", outer: bool = False) -> ET.Element:
        term = Expression("trees", "float", one.features, (one.trees, one.target))
        if outer and len(one.trees.roots) == 1:
            return self._tree(term, one.trees.roots[0], labels=False, outer=True)
        model = ET.Element("MiningModel", {"functionName": "regression"})
        schema = below(model, "MiningSchema")
        if outer:
            model.remove(schema)
            self._schema(model, outer=True)
        else:
            for field in self._model.fields:
                below(schema, "MiningField", name=field.name)
            output = below(model, "Output")
            below(
                output,
                "OutputField",
                name=one.name,
                optype="continuous",
                dataType="double",
                feature="predictedValue",
                isFinalResult="false",
            )
        segmentation = below(model, "Segmentation", multipleModelMethod=method)
        for at, root in enumerate(one.trees.roots):
            segment = below(segmentation, "Segment", id=str(at))
            below(segment, "True")
            segment.append(self._tree(term, root, labels=False, outer=False))
        return model

    def _tree(self, term: Expression, root: int, labels: bool, outer: bool) -> ET.Element:
        """One tree. Where a value is missing, a node's default child says where it goes."""
        trees, target = term.value
        model = ET.Element(
            "TreeModel",
            {
                "functionName": "classification" if labels else "regression",
                "missingValueStrategy": "defaultChild",
                "splitCharacteristic": "binarySplit",
            },
        )
        if outer:
            self._schema(model, outer=True)
        else:
            schema = below(model, "MiningSchema")
            for field in self._model.fields:
                below(schema, "MiningField", name=field.name)
            if labels:
                below(schema, "MiningField", name=self._target, usageType="target")
        choices = self._model.label.choices if labels and self._model.label is not None else ()
        numbered = 0
        waiting = [(root, below(model, "Node", id="0"), "True", "", 0.0)]
        while waiting:
            place, element, predicate, name, threshold = waiting.pop()
            if predicate == "True":
                below(element, "True")
            else:
                below(element, "SimplePredicate", field=name, operator=predicate, value=threshold)
            node = trees.nodes[place]
            if node.feature < 0:
                weights = dict(node.weights)
                if not labels:
                    element.set("score", repr(float(weights.get(target, 0.0))))
                    continue
                shares = [float(weights.get(at, 0.0)) for at in range(len(choices))]
                element.set("score", choices[int(np.argmax(shares))])
                for choice, share in zip(choices, shares, strict=True):
                    below(element, "ScoreDistribution", value=choice, recordCount=share, probability=share)
                continue
            name, threshold, yes, no = self._split(term.parts[node.feature], node.threshold, node.less)
            kept = []
            for to, operator in ((node.yes, yes), (node.no, no)):
                numbered += 1
                child = below(element, "Node", id=str(numbered))
                kept.append((to, child, operator, name, threshold))
            element.set("defaultChild", kept[0 if node.missing_yes else 1][1].get("id") or "")
            waiting += kept
        return model

    def _split(self, feature: Expression, threshold: float, less: bool) -> tuple[str, float, str, str]:
        """The field, the threshold and the two operators of a split. What is rounded to 32 bits for it is compared as it is, with the
        greatest number that is rounded to the threshold or below.
        """
        if feature.operation == "single" and not less:
            below = np.float32(threshold)
            below = np.nextafter(below, np.float32(-np.inf)) if float(below) > threshold else below
            above = np.nextafter(below, np.float32(np.inf))
            if np.isfinite(above):
                middle = (float(below) + float(above)) / 2
                even = not int(below.view(np.int32)) & 1
                return (
                    self._derived.name_of(feature.parts[0]),
                    middle if even else math.nextafter(middle, -math.inf),
                    "lessOrEqual",
                    "greaterThan",
                )
        operators = ("lessThan", "greaterOrEqual") if less else ("lessOrEqual", "greaterThan")
        return self._derived.name_of(feature), threshold, *operators


def _transformed(output: ET.Element, name: str, source: str) -> None:
    element = below(output, "OutputField", name=name, optype="continuous", dataType="double", feature="transformedValue")
    below(element, "FieldRef", field=source)
