"""PMML documents as packages: proven, exported, read again; and what is refused, with its line."""

import tempfile
import unittest
from pathlib import Path
from xml.etree import ElementTree as ET

import pandas as pd
from sklearn.ensemble import GradientBoostingRegressor, RandomForestClassifier, RandomForestRegressor
from sklearn.linear_model import LinearRegression, LogisticRegression
from sklearn.tree import DecisionTreeClassifier, DecisionTreeRegressor

from lamppost.core.errors import BadRequest, InvalidRows
from lamppost.package.read import read_lamp
from lamppost.packing.build import FORMATS, build_package
from lamppost.packing.export.checking import own_answers, rows_to_check
from lamppost.packing.export.exporting import export_package
from lamppost.packing.pack import pack_with_remarks
from lamppost.packing.pmml.document import MAX_DEPTH, PmmlRefused, parse_document
from lamppost.packing.pmml.reading import PmmlDocument
from lamppost.packing.recipe import Recipe
from tests.support import zoo
from tests.support.pmml import FIELDS, ROWS, TreeGrower, document, leaf, reader, values, write


class Packages(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    TREE = TreeGrower(5, "lastPrediction", last=True).model()

    def test_a_document_becomes_a_proven_package_and_goes_out_and_comes_in_again(self) -> None:
        path = write(self.folder, document(self.TREE))
        lamp, remarks = pack_with_remarks(path, None, self.folder / "hours.lamp", Recipe("hours"), show_stages=False)
        self.assertTrue(lamp.proof.rows)
        self.assertIsNone(lamp.reference, "rows that were drawn are no rows of training")
        self.assertIn("drawn from the values in the document", " ".join(remarks.notes))
        self.assertIsNone(lamp.manifest.provenance.trained_rows)
        out = self.folder / "again.pmml"
        made = export_package(lamp, "pmml", out, frozenset(FORMATS))
        self.assertGreaterEqual(made.checked.rows, 2_000)
        again, _ = pack_with_remarks(out, None, self.folder / "again.lamp", Recipe("hours"), show_stages=False)
        rows = rows_to_check(lamp)
        answers = [own_answers(one, one.unpack(self.folder / one.path.stem), rows, frozenset(FORMATS)) for one in (lamp, again)]
        self.assertEqual(answers[0], answers[1], "the round trip is exact")

    def test_rows_of_training_are_taken_where_they_are_given(self) -> None:
        path = write(self.folder, document(self.TREE))
        frame = pd.DataFrame([row | {"hours": 1.0, "street": "Wick"} for row in ROWS])
        remarks = build_package(path, frame, Recipe("hours", "hours"), self.folder / "hours.lamp")
        lamp = read_lamp(self.folder / "hours.lamp")
        self.assertIsNotNone(lamp.reference)
        self.assertEqual(lamp.manifest.inputs.names, ("age", "visits", "kind", "coast"))
        self.assertIn("street", " ".join(remarks.notes))
        with self.assertRaises(PmmlRefused) as caught:
            build_package(path, frame.drop(columns="kind"), Recipe("hours", "hours"), self.folder / "other.lamp")
        self.assertIn("reads kind", caught.exception.detail)

    def test_a_document_that_verifies_itself_is_held_against_its_own_rows(self) -> None:
        verification = """<ModelVerification recordCount="2"><VerificationFields><VerificationField field="age" column="age"/>
          <VerificationField field="visits" column="v"/><VerificationField field="kind" column="kind"/>
          <VerificationField field="coast" column="coast"/>
          <VerificationField field="hours" column="hours" precision="1e-6"/></VerificationFields><InlineTable>
          <row><age>4</age><v>2</v><kind>led</kind><coast>true</coast><hours>{}</hours></row>
          <row><age>9</age><v>0</v><kind>gas</kind><coast>false</coast><hours>9.5</hours></row></InlineTable></ModelVerification>"""
        model = f"""<RegressionModel functionName="regression">SCHEMA{verification}<RegressionTable intercept="0.5">
          <NumericPredictor name="age" coefficient="1"/>
          </RegressionTable></RegressionModel>"""
        path = write(self.folder, document(model.replace("{}", "4.5")))
        build_package(path, None, Recipe("hours"), self.folder / "hours.lamp")
        lamp = read_lamp(self.folder / "hours.lamp")
        self.assertIn({"hours": 9.5}, list(lamp.proof.answers))
        path = write(self.folder, document(model.replace("{}", "4.6")))
        with self.assertRaises(PmmlRefused) as caught:
            build_package(path, None, Recipe("hours"), self.folder / "hours.lamp")
        self.assertIn("hours is 4.5 and not 4.6", caught.exception.detail)

    def test_a_tree_without_a_true_child_answers_nothing_and_the_row_is_named(self) -> None:
        tree = """<TreeModel functionName="regression">SCHEMA<Node><True/><Node score="1">
          <SimplePredicate field="age" operator="lessThan" value="0"/></Node>
          <Node score="2"><SimplePredicate field="age" operator="greaterThan" value="0"/></Node></Node></TreeModel>"""
        self.assertEqual(values(document(tree), [ROWS[0] | {"age": age} for age in (-1.0, 0.0, 1.0)]), [1.0, None, 2.0])

    def test_what_the_document_calls_invalid_is_refused_by_the_schema(self) -> None:
        fields = FIELDS.replace(
            'name="age" optype="continuous" dataType="double"/>',
            'name="age" optype="continuous" dataType="double"><Interval closure="closedOpen" leftMargin="0" rightMargin="60"/></DataField>',
        )
        _, answer = reader(document(leaf(1), fields=fields))
        for wrong in ({"age": 60.0}, {"age": -0.1}, {"kind": "arc"}, {"visits": 1.5}, {"age": None}):
            with self.subTest(wrong), self.assertRaises(InvalidRows):
                answer([ROWS[0] | wrong])
        answer([ROWS[0] | {"age": 59.999}])


class Written(unittest.TestCase):
    def test_models_are_written_as_what_they_are(self) -> None:
        lamps = zoo.frame()
        frame = lamps[["age_years", "height_m", "nights_since_visit"]]
        labels, numbers = lamps["grade"], lamps["kwh"]
        forest = '{*}MiningModel/{*}Segmentation[@multipleModelMethod="average"]/{*}Segment/{*}TreeModel[@functionName="%s"]'
        for model, target, path, count in (
            (DecisionTreeClassifier(max_depth=4), labels, "{*}TreeModel", 1),
            (DecisionTreeRegressor(max_depth=4), numbers, "{*}TreeModel", 1),
            (RandomForestClassifier(15, random_state=0), labels, forest % "classification", 15),  # an odd number: shares are often equal
            (RandomForestRegressor(5, random_state=0), numbers, forest % "regression", 5),
            (LogisticRegression(), labels == "new", '{*}RegressionModel[@normalizationMethod="logit"]', 1),
            (LogisticRegression(max_iter=3_000), labels, '{*}RegressionModel[@normalizationMethod="softmax"]', 1),
            (LinearRegression(), numbers, '{*}RegressionModel[@normalizationMethod="none"]', 1),
            (
                GradientBoostingRegressor(n_estimators=7),
                numbers,
                '{*}MiningModel/{*}Segmentation[@multipleModelMethod="modelChain"]/{*}Segment/{*}MiningModel/{*}Segmentation/{*}Segment/{*}TreeModel',
                7,
            ),
        ):
            with self.subTest(type(model).__name__, path=path), tempfile.TemporaryDirectory() as name:
                lamp, out = Path(name) / "model.lamp", Path(name) / "model.pmml"
                target = target.map(str) if target.dtype == bool else target
                build_package(model.fit(frame, target), frame.assign(told=target), Recipe("model", "told", insight=False), lamp)
                export_package(read_lamp(lamp), "pmml", out, frozenset(FORMATS))
                self.assertEqual(len(ET.parse(out).getroot().findall(path)), count)


class Refused(unittest.TestCase):
    def refusal(self, content: bytes) -> str:
        with self.assertRaises(BadRequest) as caught:
            reader(content)
        return caught.exception.detail

    def test_unknown_elements_and_what_is_not_supported_are_named_with_their_lines(self) -> None:
        for model, sentence in (
            (
                '<SupportVectorMachineModel functionName="regression">SCHEMA</SupportVectorMachineModel>',
                "SupportVectorMachineModel: this kind",
            ),
            (leaf(1).replace("<True/>", "<Maybe/>"), "Maybe: it is not known"),
            (leaf(1).replace("<True/>", ""), "it has no predicate"),
            (leaf("many"), "score is 'many', which is no number"),
            (leaf(1).replace("<True/>", '<SimplePredicate field="height" operator="lessThan" value="1"/>'), "there is no field 'height'"),
            (leaf(1).replace("<True/>", '<SimplePredicate field="kind" operator="lessThan" value="gas"/>'), "lessThan needs a number"),
            (leaf(1).replace("<TreeModel", '<TreeModel missingValueStrategy="weightedConfidence"'), "weightedConfidence"),
        ):
            with self.subTest(sentence):
                refusal = self.refusal(document(model))
                self.assertIn(sentence, refusal)
                self.assertRegex(refusal, r"^line \d+, \w+: ")

    def test_hostile_documents(self) -> None:
        bomb = b'<?xml version="1.0"?><!DOCTYPE PMML [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><PMML>&b;</PMML>'
        outside = b'<?xml version="1.0"?><!DOCTYPE PMML SYSTEM "file:///etc/passwd"><PMML/>'
        entity = b'<?xml version="1.0"?><!DOCTYPE PMML [<!ENTITY x SYSTEM "file:///etc/passwd">]><PMML>&x;</PMML>'
        deep = b"<PMML>" + b"<Node>" * 1_000_000
        for content, sentence in (
            (bomb, "no document type"),
            (outside, "no document type"),
            (entity, "no document type"),
            (deep, f"nested {MAX_DEPTH} deep"),
            (b"<html/>", "a PMML element of version 3 or 4 is expected"),
            (b"<PMML><Header></PMML>", "no well-formed XML"),
            (b"", "no well-formed XML"),
            (b"\xff\xfe\x00", "no well-formed XML"),
        ):
            with self.subTest(sentence, content=content[:60]), self.assertRaises(PmmlRefused) as caught:
                parse_document(content)
            self.assertIn(sentence, caught.exception.detail)

    def test_a_field_that_is_derived_from_itself_and_conditions_without_end(self) -> None:
        circle = "".join(
            f'<DerivedField name="{name}" optype="continuous" dataType="double"><FieldRef field="{other}"/></DerivedField>'
            for name, other in (("one", "two"), ("two", "one"))
        )
        model = (
            '<RegressionModel functionName="regression">SCHEMA<RegressionTable intercept="0">'
            '<NumericPredictor name="one" coefficient="1"/></RegressionTable></RegressionModel>'
        )
        self.assertIn("derived from itself", self.refusal(document(model, transformations=circle)))
        wide = (
            '<Node score="0"><True/>'
            + '<Node score="1"><SimplePredicate field="age" operator="lessThan" value="1"/></Node>' * 5_000
            + "</Node>"
        )
        self.assertIn("deeper than can be read", self.refusal(document(f'<TreeModel functionName="regression">SCHEMA{wide}</TreeModel>')))

    def test_two_models_no_model_and_no_fields(self) -> None:
        self.assertIn("a second model", self.refusal(document(leaf(1) + leaf(2))))
        self.assertIn("no model", self.refusal(document("")))
        empty = leaf(1).replace("SCHEMA", "<MiningSchema/>")
        self.assertIn("names no field", self.refusal(document(empty)))

    def test_documents_of_older_versions_are_read(self) -> None:
        for version in ("3_0", "3_2", "4_0", "4_1", "4_2", "4_3"):
            content = document(leaf(1)).replace(b"PMML-4_4", f"PMML-{version}".encode())
            self.assertEqual(PmmlDocument(parse_document(content)).kind, "TreeModel")
