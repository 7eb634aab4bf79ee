import unittest
from dataclasses import replace

from lamppost.core.artifact.difference import compare_packages
from lamppost.core.artifact.manifest import Manifest, PackageFile, Provenance
from lamppost.core.artifact.reference import make_reference
from lamppost.core.artifact.steps import FrameColumn, SklearnStep
from lamppost.core.schema.fields import Field, Schema

LABEL = Schema((Field("label", "choice", choices=("holds", "fails")),))
AGE = Field("age", "number", unit="years", low=0, high=80, missing=True)
KIND = Field("kind", "choice", choices=("led", "sodium"), unseen="accept")


def manifest(*inputs: Field, answers: Schema = LABEL, provenance: Provenance = Provenance(), size: int = 1_000) -> Manifest:  # noqa: B008
    step = SklearnStep("m", "skops", (FrameColumn(inputs[0].name, "float64"),), answers)
    return Manifest(
        "m", Schema(inputs), answers, (step,), "p", {"m": PackageFile("0", size), "p": PackageFile("1", 0)}, provenance=provenance
    )


def said(before: Manifest, after: Manifest) -> list[tuple[bool, str]]:
    return [(change.breaks, change.summary) for change in compare_packages(before, after)]


class Differences(unittest.TestCase):
    def test_the_same_package_has_none(self) -> None:
        self.assertEqual(said(manifest(AGE, KIND), manifest(AGE, KIND)), [])

    def test_inputs_that_become_narrower_break_callers_and_wider_ones_do_not(self) -> None:
        for after, wanted in (
            (replace(AGE, high=60), (True, "age has the high limit 60 instead of 80")),
            (replace(AGE, high=None), (False, "age has the high limit none instead of 80")),
            (replace(AGE, low=-5), (False, "age has the low limit -5 instead of 0")),
            (replace(AGE, missing=False), (True, "age may not be missing any more")),
            (replace(AGE, unit="months"), (True, "age was in years and is in months")),
            (Field("age", "text", missing=True), (True, "age was a number from 0 to 80 (years), or null and is text, or null")),
        ):
            self.assertEqual(said(manifest(AGE, KIND), manifest(after, KIND)), [wanted])
        self.assertEqual(
            said(manifest(replace(AGE, low=None), KIND), manifest(AGE, KIND)), [(True, "age has the low limit 0 instead of none")]
        )
        self.assertEqual(said(manifest(replace(AGE, kind="integer")), manifest(AGE))[0][0], False)

    def test_choices(self) -> None:
        fewer = replace(KIND, choices=("led",))
        self.assertEqual(said(manifest(KIND), manifest(fewer)), [(False, "kind has lost the choices sodium")])
        self.assertEqual(
            said(manifest(KIND), manifest(replace(fewer, unseen="refuse"))),
            [(True, "kind has lost the choices sodium"), (True, "kind refuses choices never seen in training")],
        )
        self.assertEqual(
            said(manifest(KIND), manifest(replace(KIND, choices=("led", "sodium", "gas")))), [(False, "kind has the new choices gas")]
        )

    def test_fields_that_come_and_go(self) -> None:
        self.assertEqual(
            said(manifest(AGE, KIND), manifest(AGE)), [(True, "kind is no input any more, and requests that send it are refused")]
        )
        self.assertEqual(said(manifest(AGE), manifest(AGE, KIND)), [(True, "kind is new (text, such as led, sodium) and must be sent")])
        self.assertEqual(said(manifest(KIND), manifest(KIND, AGE))[0][0], False)

    def test_answers_story_and_size(self) -> None:
        other = Schema((Field("label", "choice", choices=("good", "bad")),))
        self.assertEqual(said(manifest(AGE), manifest(AGE, answers=other)), [(True, "label tells good, bad instead of holds, fails")])
        self.assertEqual(
            said(manifest(AGE), manifest(AGE, answers=Schema((Field("kwh", "number"),)))),
            [(True, "label is not answered any more"), (False, "kwh is answered too (a number)")],
        )
        before, after = (
            Provenance(metrics={"auc": 0.8}, python="3.11", trained_rows=5),
            Provenance(metrics={"auc": 0.9}, python="3.12", trained_rows=7),
        )
        self.assertEqual(
            [text for _, text in said(manifest(AGE, provenance=before), manifest(AGE, provenance=after, size=5_000_000))],
            [
                "metric auc is 0.9; it was 0.8",
                "Python 3.12 instead of 3.11",
                "trained on 7 rows instead of 5",
                "unpacked, 5.0 MB instead of 0.0 MB",
            ],
        )

    def test_training_that_looks_otherwise(self) -> None:
        def reference(mean: float, led: int) -> object:
            rows = [{"age": mean + i % 10, "kind": "led" if i < led else "sodium"} for i in range(100)]
            return make_reference(Schema((AGE, KIND)), rows, LABEL, [{"label": "holds"}] * 100)

        changes = compare_packages(manifest(AGE, KIND), manifest(AGE, KIND), (reference(10, 50), reference(12, 60)))  # type: ignore[arg-type]
        self.assertEqual(
            [change.summary for change in changes],
            [
                "age has the mean 16.5 in training; it was 14.5",
                "kind is led in 60% of training; it was in 50%",
                "kind is sodium in 40% of training; it was in 50%",
            ],
        )
        self.assertEqual(compare_packages(manifest(AGE), manifest(AGE), (reference(10, 50), reference(10.1, 52))), [])  # type: ignore[arg-type]
