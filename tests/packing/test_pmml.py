"""PMML documents: what they answer is what the standard says, computed here a second time; and what is refused, with its line."""

import math
import unittest
from typing import Any
from xml.etree import ElementTree as ET

import numpy as np

from tests.support.pmml import FIELDS, ROWS, SCHEMA, TreeGrower, document, follow, leaf, reader, some_rows, values

WITH_GAPS = some_rows(400, missing=0.2, seed=1)


def sigmoid(x: float) -> float:
    return 1 / (1 + math.exp(-x))


class Trees(unittest.TestCase):
    def test_random_trees_answer_as_the_standard_says(self) -> None:
        reached: set[Any] = set()
        for seed in range(40):
            strategy = ("none", "lastPrediction", "nullPrediction", "defaultChild")[seed % 4]
            content = document(TreeGrower(seed, strategy, last=seed % 8 < 4).model())
            with self.subTest(seed=seed, strategy=strategy):
                model = next(child for child in ET.fromstring(content) if child.tag.endswith("TreeModel"))
                expected = [None if (score := follow(model, row)) is None else float(score) for row in WITH_GAPS]
                self.assertEqual(values(content, WITH_GAPS, missing=True), expected)
                reached |= set(expected)
        self.assertGreater(len(reached), 300, "the trees have many leaves, and rows come to them")

    def test_a_field_without_a_word_about_missing_values_may_not_be_missing(self) -> None:
        inputs, _ = reader(document(TreeGrower(3, "defaultChild", last=True).model()))
        self.assertTrue(all(field.missing for field in inputs))
        plain = document('<TreeModel functionName="regression">SCHEMA<Node score="1"><True/></Node></TreeModel>')
        inputs, answer = reader(plain)
        self.assertFalse(any(field.missing for field in inputs))
        self.assertEqual({row["hours"] for row in answer(ROWS)}, {1.0})

    def test_shares_of_labels_and_a_label_that_is_not_the_likeliest(self) -> None:
        tree = """<TreeModel functionName="classification">SCHEMA<Node score="few"><True/>
          <Node score="many"><SimplePredicate field="age" operator="lessThan" value="9.5"/>
            <ScoreDistribution value="few" recordCount="6"/><ScoreDistribution value="many" recordCount="2"/></Node>
          <Node score="few"><True/><ScoreDistribution value="few" recordCount="3"/><ScoreDistribution value="many" recordCount="1"/></Node>
        </Node></TreeModel>"""
        _, answer = reader(document(tree, "classification"))
        for row, given in zip(ROWS, answer(ROWS), strict=True):
            self.assertEqual(given, {"label": "many" if row["age"] < 9.5 else "few", "scores": {"few": 0.75, "many": 0.25}})


class Numbers(unittest.TestCase):
    def test_a_regression_with_powers_categories_and_products(self) -> None:
        model = """<RegressionModel functionName="regression" normalizationMethod="METHOD">SCHEMA<RegressionTable intercept="0.5">
          <NumericPredictor name="age" exponent="2" coefficient="-0.01"/><NumericPredictor name="visits" coefficient="0.2"/>
          <CategoricalPredictor name="kind" value="gas" coefficient="0.7"/>
          <CategoricalPredictor name="coast" value="true" coefficient="-0.3"/>
          <PredictorTerm coefficient="0.02"><FieldRef field="age"/><FieldRef field="visits"/></PredictorTerm></RegressionTable>
          </RegressionModel>"""
        sums = [
            0.5
            - 0.01 * row["age"] ** 2
            + 0.2 * row["visits"]
            + 0.7 * (row["kind"] == "gas")
            - 0.3 * row["coast"]
            + 0.02 * row["age"] * row["visits"]
            for row in ROWS
        ]
        for method, link in (
            ("none", lambda x: x),
            ("exp", math.exp),
            ("logit", sigmoid),
            ("cloglog", lambda x: 1 - math.exp(-math.exp(x))),
            ("loglog", lambda x: math.exp(-math.exp(-x))),
        ):
            with self.subTest(method):
                np.testing.assert_allclose(values(document(model.replace("METHOD", method)), ROWS), [link(x) for x in sums], rtol=1e-12)

    def test_regressions_of_labels(self) -> None:
        tables = """<RegressionTable targetCategory="many" intercept="-1"><NumericPredictor name="age" coefficient="0.1"/></RegressionTable>
          <RegressionTable targetCategory="few" intercept="0.2"/>"""
        for method, score in (
            ("logit", lambda x: sigmoid(x)),
            ("softmax", lambda x: math.exp(x) / (math.exp(x) + math.exp(0.2))),
            ("simplemax", lambda x: x / (x + 0.2)),
        ):
            model = f'<RegressionModel functionName="classification" normalizationMethod="{method}">SCHEMA{tables}</RegressionModel>'
            _, answer = reader(document(model, "classification"))
            with self.subTest(method):
                for row, given in zip(ROWS, answer(ROWS), strict=True):
                    self.assertAlmostEqual(given["scores"]["many"], score(0.1 * row["age"] - 1), places=12)

    def test_general_regressions(self) -> None:
        shared = """<ParameterList><Parameter name="p0"/><Parameter name="p1"/><Parameter name="p2"/></ParameterList>
          <FactorList><Predictor name="kind"/></FactorList><CovariateList><Predictor name="age"/></CovariateList>
          <PPMatrix><PPCell value="1" predictorName="age" parameterName="p1"/><PPCell value="gas" predictorName="kind" parameterName="p2"/>
          <PPCell value="1" predictorName="age" parameterName="p2"/></PPMatrix><ParamMatrix>{}</ParamMatrix>"""
        cells = "".join(f'<PCell {{}} parameterName="p{at}" beta="{beta}"/>' for at, beta in enumerate((0.3, -0.05, 0.02)))
        sums = [0.3 - 0.05 * row["age"] + 0.02 * row["age"] * (row["kind"] == "gas") for row in ROWS]
        poisson = f"""<GeneralRegressionModel modelType="generalizedLinear" linkFunction="log" functionName="regression">SCHEMA
          {shared.format(cells.replace("{}", ""))}</GeneralRegressionModel>"""
        np.testing.assert_allclose(values(document(poisson), ROWS), [math.exp(x) for x in sums], rtol=1e-12)
        named = cells.replace("{}", 'targetCategory="many"')
        for kind in ('modelType="multinomialLogistic"', 'modelType="generalizedLinear" linkFunction="logit"'):
            model = f"""<GeneralRegressionModel {kind} functionName="classification" targetReferenceCategory="few">SCHEMA
              {shared.format(named)}</GeneralRegressionModel>"""
            _, answer = reader(document(model, "classification"))
            np.testing.assert_allclose([row["scores"]["many"] for row in answer(ROWS)], [sigmoid(x) for x in sums], rtol=1e-12)

    def test_a_network(self) -> None:
        inputs = """<NeuralInputs><NeuralInput id="i0"><DerivedField optype="continuous" dataType="double">
          <NormContinuous field="age"><LinearNorm orig="0" norm="0"/><LinearNorm orig="20" norm="1"/></NormContinuous></DerivedField>
          </NeuralInput>
          <NeuralInput id="i1"><DerivedField optype="continuous" dataType="double"><NormDiscrete field="kind" value="led"/>
          </DerivedField></NeuralInput>
          </NeuralInputs><NeuralLayer activationFunction="FUNCTION">
          <Neuron id="h0" bias="0.1"><Con from="i0" weight="2"/><Con from="i1" weight="-1"/></Neuron><Neuron id="h1" bias="-0.2">
          <Con from="i0" weight="1"/></Neuron>
          </NeuralLayer><NeuralLayer activationFunction="identity"><Neuron id="o" bias="0.3"><Con from="h0" weight="1.5"/>
          <Con from="h1" weight="-2"/></Neuron>
          </NeuralLayer><NeuralOutputs><NeuralOutput outputNeuron="o"><DerivedField optype="continuous" dataType="double">
          <NormContinuous field="hours"><LinearNorm orig="0" norm="0"/><LinearNorm orig="100" norm="1"/></NormContinuous>
          </DerivedField></NeuralOutput></NeuralOutputs>"""
        for name, function in (
            ("logistic", sigmoid),
            ("tanh", math.tanh),
            ("rectifier", lambda x: max(x, 0.0)),
            ("Elliott", lambda x: x / (1 + abs(x))),
        ):
            model = (
                f'<NeuralNetwork functionName="regression" activationFunction="logistic">'
                f"SCHEMA{inputs.replace('FUNCTION', name)}</NeuralNetwork>"
            )
            expected = []
            for row in ROWS:
                age, led = row["age"] / 20, float(row["kind"] == "led")
                expected.append(100 * (0.3 + 1.5 * function(0.1 + 2 * age - led) - 2 * function(age - 0.2)))
            with self.subTest(name):
                np.testing.assert_allclose(values(document(model), ROWS), expected, rtol=1e-9, atol=1e-9)

    def test_a_scorecard(self) -> None:
        model = """<Scorecard functionName="regression" initialScore="10" useReasonCodes="false">SCHEMA<Characteristics>
          <Characteristic name="by_age"><Attribute partialScore="5"><SimplePredicate field="age" operator="lessThan" value="8"/></Attribute>
          <Attribute><SimplePredicate field="age" operator="lessThan" value="12"/><ComplexPartialScore><Apply function="*">
          <FieldRef field="age"/>
            <Constant dataType="double">2</Constant></Apply></ComplexPartialScore></Attribute><Attribute partialScore="-1"><True/>
            </Attribute></Characteristic>
          <Characteristic name="by_kind"><Attribute partialScore="3"><SimplePredicate field="kind" operator="equal" value="gas"/>
          </Attribute>
          <Attribute partialScore="0"><True/></Attribute></Characteristic></Characteristics></Scorecard>"""
        expected = [10 + (5 if row["age"] < 8 else 2 * row["age"] if row["age"] < 12 else -1) + 3 * (row["kind"] == "gas") for row in ROWS]
        np.testing.assert_allclose(values(document(model), ROWS), expected, rtol=1e-12)

    def test_naive_bayes_leaves_missing_inputs_out(self) -> None:
        counts = {"led": (8, 2), "gas": (0, 5), "sodium": (4, 5)}
        pairs = "".join(
            f'<PairCounts value="{kind}"><TargetValueCounts><TargetValueCount value="few" count="{few}"/>'
            f'<TargetValueCount value="many" count="{many}"/></TargetValueCounts></PairCounts>'
            for kind, (few, many) in counts.items()
        )
        model = f"""<NaiveBayesModel functionName="classification" threshold="0.001">SCHEMA<BayesInputs>
          <BayesInput fieldName="kind">{pairs}</BayesInput>
          <BayesInput fieldName="age"><TargetValueStats><TargetValueStat value="few"><GaussianDistribution mean="8" variance="9"/>
          </TargetValueStat>
          <TargetValueStat value="many"><GaussianDistribution mean="13" variance="16"/></TargetValueStat></TargetValueStats>
          </BayesInput></BayesInputs>
          <BayesOutput fieldName="hours"><TargetValueCounts><TargetValueCount value="few" count="12"/>
          <TargetValueCount value="many" count="12"/>
          </TargetValueCounts></BayesOutput></NaiveBayesModel>"""
        _, answer = reader(document(model, "classification"))
        rows = [row | {"visits": 1, "coast": True} for row in WITH_GAPS]
        for row, given in zip(rows, answer(rows), strict=True):
            likely = []
            for at, (mean, variance) in enumerate(((8, 9), (13, 16))):
                score = 12.0
                if row["kind"] is not None:
                    score *= counts[row["kind"]][at] / 12 or 0.001
                if row["age"] is not None:
                    score *= max(math.exp(-((row["age"] - mean) ** 2) / (2 * variance)) / math.sqrt(2 * math.pi * variance), 0.001)
                likely.append(score)
            self.assertAlmostEqual(given["scores"]["few"], likely[0] / sum(likely), places=12)

    def test_clusters(self) -> None:
        centres = [(5.0, 1.0), (15.0, 2.0), (10.0, 8.0)]
        arrays = "".join(f'<Cluster id="c{at}"><Array n="2" type="real">{a} {b}</Array></Cluster>' for at, (a, b) in enumerate(centres))
        for measure, distance in (
            ("euclidean", lambda a, b: math.sqrt(a * a + 2 * b * b)),
            ("squaredEuclidean", lambda a, b: a * a + 2 * b * b),
            ("cityBlock", lambda a, b: abs(a) + 2 * abs(b)),
            ("chebychev", lambda a, b: max(abs(a), 2 * abs(b))),
        ):
            model = f"""<ClusteringModel functionName="clustering" modelClass="centerBased" numberOfClusters="3">SCHEMA
              <ComparisonMeasure kind="distance"><{measure}/></ComparisonMeasure><ClusteringField field="age"/>
              <ClusteringField field="visits" fieldWeight="2"/>{arrays}</ClusteringModel>"""
            _, answer = reader(document(model, "clustering"))
            with self.subTest(measure):
                for row, given in zip(ROWS, answer(ROWS), strict=True):
                    far = [distance(row["age"] - a, row["visits"] - b) for a, b in centres]
                    self.assertEqual(given["label"], f"c{int(np.argmin(far))}")
                    self.assertAlmostEqual(given["distance"], min(far), places=10)


class Together(unittest.TestCase):
    SEGMENTS = f"""<Segment id="1" weight="2"><SimplePredicate field="age" operator="lessThan" value="12"/>{leaf(3)}</Segment>
      <Segment id="2" weight="1"><SimplePredicate field="kind" operator="equal" value="gas"/>{leaf(7)}</Segment>
      <Segment id="3" weight="4"><True/>{leaf(-2)}</Segment>"""

    def test_segments_with_conditions(self) -> None:
        for method, combine in (
            ("sum", lambda parts: sum(value for value, _ in parts)),
            ("average", lambda parts: sum(value for value, _ in parts) / len(parts)),
            ("weightedAverage", lambda parts: sum(value * weight for value, weight in parts) / sum(weight for _, weight in parts)),
            ("max", lambda parts: max(value for value, _ in parts)),
            ("selectFirst", lambda parts: parts[0][0]),
        ):
            model = (
                f'<MiningModel functionName="regression">'
                f'SCHEMA<Segmentation multipleModelMethod="{method}">{self.SEGMENTS}</Segmentation></MiningModel>'
            )
            expected = []
            for row in ROWS:
                parts = [(3, 2)] * (row["age"] < 12) + [(7, 1)] * (row["kind"] == "gas") + [(-2, 4)]
                expected.append(combine(parts))
            with self.subTest(method):
                np.testing.assert_allclose(values(document(model), ROWS), expected, rtol=1e-12)

    def test_votes_and_means_of_labels(self) -> None:
        trees = "".join(
            f"""<Segment id="{at}" weight="{weight}"><True/><TreeModel functionName="classification">SCHEMA<Node score="few"><True/>
              <Node score="few"><SimplePredicate field="age" operator="lessOrEqual" value="{cut}"/>
              <ScoreDistribution value="few" recordCount="3"/>
              <ScoreDistribution value="many" recordCount="1"/></Node>
              <Node score="many"><SimplePredicate field="age" operator="greaterThan" value="{cut}"/>
              <ScoreDistribution value="many" recordCount="1"/></Node>
              </Node></TreeModel></Segment>"""
            for at, (cut, weight) in enumerate(((6.0, 1), (10.0, 1), (13.0, 3)))
        )
        for method in ("majorityVote", "weightedMajorityVote", "average", "weightedAverage"):
            model = (
                f'<MiningModel functionName="classification">'
                f'SCHEMA<Segmentation multipleModelMethod="{method}">{trees}</Segmentation></MiningModel>'
            )
            _, answer = reader(document(model, "classification"))
            with self.subTest(method):
                for row, given in zip(ROWS, answer(ROWS), strict=True):
                    weights = (1, 1, 3) if "eighted" in method else (1, 1, 1)
                    few = [(1.0 if "ajority" in method else 0.75) if row["age"] <= cut else 0.0 for cut in (6.0, 10.0, 13.0)]
                    share = sum(weight * one for weight, one in zip(weights, few, strict=True)) / sum(weights)
                    self.assertAlmostEqual(given["scores"]["few"], share, places=12)
                    self.assertEqual(given["label"], "few" if share >= 0.5 else "many")

    def test_a_chain_hands_on_what_its_models_name(self) -> None:
        first = leaf(3).replace(
            "<Node", '<Output><OutputField name="three" feature="predictedValue" dataType="double" optype="continuous"/></Output><Node', 1
        )
        second = """<RegressionModel functionName="classification" normalizationMethod="logit"><MiningSchema><MiningField name="age"/>
          <MiningField name="three"/>
          <MiningField name="hours" usageType="target"/></MiningSchema><RegressionTable targetCategory="many" intercept="-1">
          <NumericPredictor name="three" coefficient="0.5"/><NumericPredictor name="age" coefficient="-0.1"/></RegressionTable>
          <RegressionTable targetCategory="few" intercept="0"/></RegressionModel>"""
        model = f"""<MiningModel functionName="classification">SCHEMA<Segmentation multipleModelMethod="modelChain">
          <Segment id="1"><True/>{first}</Segment><Segment id="2"><True/>{second}</Segment></Segmentation></MiningModel>"""
        _, answer = reader(document(model, "classification"))
        for row, given in zip(ROWS, answer(ROWS), strict=True):
            self.assertAlmostEqual(given["scores"]["many"], sigmoid(0.5 - 0.1 * row["age"]), places=12)


class Fields(unittest.TestCase):
    MODEL = (
        '<RegressionModel functionName="regression">SCHEMA<RegressionTable intercept="0">'
        '<NumericPredictor name="made" coefficient="1"/></RegressionTable></RegressionModel>'
    )

    def made(self, expression: str, rows: list[dict[str, Any]] = ROWS, missing: bool = False, more: str = "") -> list[Any]:
        field = f'<DerivedField name="made" optype="continuous" dataType="double">{expression}</DerivedField>'
        return values(document(self.MODEL, transformations=more + field), rows, missing)

    def test_functions(self) -> None:
        age, visits = '<FieldRef field="age"/>', '<FieldRef field="visits"/>'

        def apply(name: str, *parts: str, more: str = "") -> str:
            return f'<Apply function="{name}" {more}>{"".join(parts)}</Apply>'

        two = '<Constant dataType="double">2</Constant>'
        cases = [
            (apply("+", age, apply("*", visits, two)), lambda a, v: a + 2 * v),
            (apply("-", apply("/", age, two), visits), lambda a, v: a / 2 - v),
            (apply("pow", apply("abs", age), two), lambda a, v: abs(a) ** 2),
            (apply("max", age, visits, two), lambda a, v: max(a, v, 2)),
            (apply("avg", age, visits), lambda a, v: (a + v) / 2),
            (apply("round", age), lambda a, v: math.floor(a + 0.5)),
            (apply("ceil", age), lambda a, v: math.ceil(a)),
            (apply("modulo", visits, two), lambda a, v: v % 2),
            (apply("threshold", age, visits), lambda a, v: float(a > v)),
            (
                apply("if", apply("and", apply("lessThan", age, visits), apply("notEqual", visits, two)), age, two),
                lambda a, v: a if a < v and v != 2 else 2,
            ),
            (
                apply("if", apply("isIn", visits, two, '<Constant dataType="integer">3</Constant>'), age, visits),
                lambda a, v: a if v in (2, 3) else v,
            ),
        ]
        for expression, expected in cases:
            with self.subTest(expression):
                np.testing.assert_allclose(self.made(expression), [expected(row["age"], row["visits"]) for row in ROWS], rtol=1e-12)

    def test_missing_values_go_through_functions_and_are_left_out_of_sums(self) -> None:
        plain = self.made('<Apply function="+"><FieldRef field="age"/><FieldRef field="visits"/></Apply>', WITH_GAPS, missing=True)
        mapped = self.made(
            '<Apply function="+" mapMissingTo="-1"><FieldRef field="age"/><FieldRef field="visits"/></Apply>', WITH_GAPS, missing=True
        )
        summed = self.made('<Apply function="sum"><FieldRef field="age"/><FieldRef field="visits"/></Apply>', WITH_GAPS, missing=True)
        for row, a, b, c in zip(WITH_GAPS, plain, mapped, summed, strict=True):
            there = [row[name] for name in ("age", "visits") if row[name] is not None]
            self.assertEqual(a, sum(there) if len(there) == 2 else None)
            self.assertEqual(b, sum(there) if len(there) == 2 else -1)
            self.assertEqual(c, sum(there) if there else None)

    def test_norms_bins_and_tables(self) -> None:
        norms = '<LinearNorm orig="2" norm="0"/><LinearNorm orig="8" norm="1"/><LinearNorm orig="14" norm="4"/>'
        for outliers in ("asIs", "asExtremeValues"):
            given = self.made(f'<NormContinuous field="age" outliers="{outliers}">{norms}</NormContinuous>')
            for row, value in zip(ROWS, given, strict=True):
                age = row["age"] if outliers == "asIs" else min(max(row["age"], 2), 14)
                self.assertAlmostEqual(value, (age - 2) / 6 if age <= 8 else 1 + (age - 8) / 2, places=12)
        table = """<MapValues outputColumn="out" defaultValue="-3" mapMissingTo="-9"><FieldColumnPair field="kind" column="k"/><InlineTable>
          <row><k>led</k><out>1.5</out></row><row><k>gas</k><out>2.5</out></row></InlineTable></MapValues>"""
        for row, value in zip(WITH_GAPS, self.made(table, WITH_GAPS, missing=True), strict=True):
            self.assertEqual(value, {"led": 1.5, "gas": 2.5, "sodium": -3, None: -9}[row["kind"]])
        bins = """<DerivedField name="part" optype="categorical" dataType="string"><Discretize field="age" defaultValue="none">
          <DiscretizeBin binValue="new">
          <Interval closure="openOpen" rightMargin="8"/></DiscretizeBin><DiscretizeBin binValue="old">
          <Interval closure="closedOpen" leftMargin="8" rightMargin="15"/>
          </DiscretizeBin></Discretize></DerivedField>"""
        given = self.made('<NormDiscrete field="part" value="old"/>', more=bins)
        self.assertEqual(given, [float(8 <= row["age"] < 15) for row in ROWS])

    def test_functions_of_the_document(self) -> None:
        function = """<DefineFunction name="shifted" optype="continuous"><ParameterField name="x"/><ParameterField name="by"/>
          <Apply function="-"><FieldRef field="x"/><FieldRef field="by"/></Apply></DefineFunction>"""
        given = self.made('<Apply function="shifted"><FieldRef field="age"/><FieldRef field="visits"/></Apply>', more=function)
        np.testing.assert_allclose(given, [row["age"] - row["visits"] for row in ROWS], rtol=1e-12)

    def test_odd_values_are_treated_as_the_mining_schema_says(self) -> None:
        field = '<DerivedField name="made" optype="continuous" dataType="double"><FieldRef field="age"/></DerivedField>'
        for attributes, expected in (
            ('outliers="asExtremeValues" lowValue="5" highValue="12"', lambda a: None if a is None else min(max(a, 5), 12)),
            ('missingValueReplacement="4.5"', lambda a: 4.5 if a is None else a),
            (
                'outliers="asMissingValues" lowValue="5" highValue="12" missingValueReplacement="0"',
                lambda a: a if a is not None and 5 <= a <= 12 else 0,
            ),
        ):
            schema = SCHEMA.replace('<MiningField name="age"/>', f'<MiningField name="age" {attributes}/>')
            with self.subTest(attributes):
                # the derived field of a model's own transformations sees the field as the model does
                inner = self.MODEL.replace("SCHEMA", f"{schema}<LocalTransformations>{field}</LocalTransformations>")
                given = values(document(inner), WITH_GAPS, missing=True)
                self.assertEqual(given, [expected(row["age"]) for row in WITH_GAPS])
        kept = FIELDS.replace('<Value value="sodium"/>', "")
        for treatment, unseen in (("returnInvalid", "refuse"), ("asIs", "accept"), ("asMissing", "accept")):
            schema = SCHEMA.replace('<MiningField name="kind"/>', f'<MiningField name="kind" invalidValueTreatment="{treatment}"/>')
            inputs, _ = reader(document(leaf(1).replace("SCHEMA", schema), fields=kept))
            self.assertEqual({field.name: field.unseen for field in inputs}["kind"], unseen)
