import base64
import io
import unittest

import numpy as np
from PIL import Image

from lamppost.core.artifact.reference import Reference, drift_baseline, make_reference, read_reference, write_reference
from lamppost.core.drift.outlier_score import OutlierScorer
from lamppost.core.drift.sketches import Sketcher
from lamppost.core.drift.verdicts import judge_windows
from lamppost.core.drift.watched_features import FeatureExtractor, feature_columns, features_of_schema, field_defaults, frequent_words
from lamppost.core.drift.windows import WindowLayout, pool_windows, read_window, write_window
from lamppost.core.payload.recorded_bodies import answer_rows, request_options, request_rows
from lamppost.core.schema.fields import Field, Schema

INPUTS = Schema(
    (
        Field("volt", "number", missing=True),
        Field("age", "number"),
        Field("kind", "choice", choices=("led", "sodium"), unseen="accept"),
        Field("note", "text", default="fine"),
        Field("at", "time"),
        Field("owner", "text", private=True),
    )
)
ANSWERS = Schema((Field("label", "choice", choices=("holds", "fails")), Field("scores", "vector", choices=("holds", "fails"))))


def rows(count: int, seed: int, new: float = 0.0) -> list[dict[str, object]]:
    rng = np.random.default_rng(seed)
    age = rng.gamma(2.0, 3.0, count)
    words = np.array(["lamp", "dark", "flickers", "post", "rust", "again"])
    return [
        {
            "volt": None if rng.random() < 0.05 else 230.0 + 0.5 * age[at] + rng.normal(),
            "age": float(age[at]),
            "kind": "led" if rng.random() < 0.7 else "sodium",
            "note": " ".join([*rng.choice(words, 4), *(["glowworm"] if rng.random() < new else [])]),
            "at": "2026-05-01T20:00:00Z",
            "owner": "nobody",
        }
        for at in range(count)
    ]


def said(asked: list[dict[str, object]]) -> list[dict[str, object]]:
    fails = [min(1.0, float(row["age"]) / 20) for row in asked]  # type: ignore[arg-type]
    return [{"label": "fails" if part > 0.5 else "holds", "scores": {"holds": 1 - part, "fails": part}} for part in fails]


def reference() -> Reference:
    asked = rows(4_000, 1)
    return read_reference(write_reference(make_reference(INPUTS, asked, ANSWERS, said(asked))))


class Figures(unittest.TestCase):
    def test_each_kind_has_its_own_and_private_fields_have_none(self) -> None:
        figures = features_of_schema(INPUTS, {"note": frozenset({"lamp", "dark"})})
        self.assertEqual(
            [feature.name for feature in figures],
            ["volt", "age", "kind", "note.length", "note.words", "note.letters", "note.new words", "at"],
        )
        row = {"volt": "12", "age": float("nan"), "kind": "led", "at": None}
        self.assertEqual(
            feature_columns(figures, field_defaults(INPUTS), [row]),
            {
                "volt": [12.0],
                "age": [None],
                "kind": ["led"],
                "note.length": [4],
                "note.words": [1],
                "note.letters": [1.0],
                "note.new words": ["one"],
                "at": [None],
            },
        )

    def test_words_come_from_every_other_text(self) -> None:
        self.assertEqual(frequent_words(["Dark lamp", "never", "dark, again", None]), ("again", "dark", "lamp"))

    def test_pictures_by_light_and_edges(self) -> None:
        field = Field("photo", "image", channels=1)
        stripes = np.zeros((4, 4), dtype=np.uint8)
        stripes[:, ::2] = 200
        buffer = io.BytesIO()
        Image.fromarray(stripes).save(buffer, "PNG")
        sent = {"photo": base64.b64encode(buffer.getvalue()).decode()}
        figures = (("brightness", 100), ("contrast", 100), ("sharpness", 100), ("pixels", 16))
        said = feature_columns(features_of_schema(Schema((field,))), {}, [sent, {"photo": "no picture"}])
        self.assertEqual(said, {f"photo.{what}": [value, None] for what, value in figures})

    def test_long_vectors_and_tensors_by_the_same_projections_everywhere(self) -> None:
        names = tuple(f"e{at}" for at in range(64))
        schema = Schema((Field("embedding", "vector", choices=names), Field("image", "tensor", shape=(8, 8))))
        values = np.random.default_rng(3).normal(size=64)
        row = {"embedding": dict(zip(names, values.tolist(), strict=True)), "image": values.reshape(8, 8).tolist()}
        said = feature_columns(features_of_schema(schema), {}, [row])
        self.assertEqual(len(said), 5 + 6)
        self.assertEqual(said, feature_columns(features_of_schema(schema), {}, [row]))
        self.assertAlmostEqual(said["embedding.norm"][0], float(np.linalg.norm(values)))
        self.assertEqual(
            feature_columns(features_of_schema(schema), {}, [{"embedding": None, "image": [[1], [2, 3]]}])["image.mean"], [None]
        )


class Bodies(unittest.TestCase):
    def test_rows_of_every_form(self) -> None:
        two = [{"x": 1}, {"x": 2}]
        self.assertEqual(request_rows({"x": 1, "options": {"top": 2}}), [{"x": 1}])
        self.assertEqual(request_options({"x": 1, "options": {"top": 2}}), {"top": 2})
        for body in ({"rows": two}, {"columns": {"x": [1, 2]}}):
            self.assertEqual(request_rows(body), two)
        for body in ({"answers": two, "version": "a@1"}, {"columns": {"x": [1, 2]}}):
            self.assertEqual(answer_rows(body), two)
        for odd in (None, "torn", [], {"columns": {"x": [1], "y": [1, 2]}}, {"columns": {"x": 1}}):
            self.assertEqual((answer_rows(odd), request_options(odd)), ([], {}))


class Watched(unittest.TestCase):
    reference: Reference

    @classmethod
    def setUpClass(cls) -> None:
        cls.reference = reference()
        cls.sketcher = Sketcher(drift_baseline(cls.reference))

    def columns(self, asked: list[dict[str, object]]) -> dict[str, list[object]]:
        return FeatureExtractor(INPUTS, ANSWERS, self.reference.words).extract_columns(asked, said(asked))

    def test_a_reference_carries_all_that_windows_need(self) -> None:
        known = {one.name: one for one in self.sketcher.against.known}
        self.assertLessEqual({"volt", "age", "kind", "note.new words", "answers.label", "answers.scores.fails"}, known.keys())
        self.assertNotIn("owner", known)
        at = self.sketcher.against.paired.index("age")
        assert self.sketcher.against.pairs is not None
        self.assertGreater(self.sketcher.against.pairs.correlations[self.sketcher.against.paired.index("volt"), at], 0.6)

    def test_unchanged_rows_are_steady_and_a_new_word_is_found(self) -> None:
        same = judge_windows(self.sketcher.against, [self.sketcher.sketch_window(self.columns(rows(1_000, 2)), 1_000)])
        self.assertEqual(same.state, "steady")
        fashion = judge_windows(self.sketcher.against, [self.sketcher.sketch_window(self.columns(rows(1_000, 3, new=0.2)), 1_000)])
        self.assertEqual(fashion.state, "drifted")
        self.assertIn("note.new words", [field.name for field in fashion.fields if field.state == "drifted"])

    def test_windows_survive_as_bytes_and_add_up(self) -> None:
        base, parts = self.sketcher.against, []
        for seed in (4, 5):
            window = self.sketcher.sketch_window(self.columns(rows(300, seed)), 300)
            data = write_window(WindowLayout(base), window, 300)
            self.assertLess(len(data), 88 * len(base.known) + 4 * 60)
            again = read_window(WindowLayout(base), data)
            assert again is not None
            parts.append(again)
        window, count = pool_windows(parts)
        whole = self.sketcher.sketch_window(self.columns(rows(300, 4) + rows(300, 5)), 600)
        self.assertEqual(count, 600)
        for name, sketch in whole.fields.items():
            self.assertEqual((window.fields[name].bins.tolist(), window.fields[name].missing), (sketch.bins.tolist(), sketch.missing))
        assert window.moments is not None
        assert whole.moments is not None
        np.testing.assert_allclose(window.moments.products, whole.moments.products, rtol=1e-5, atol=1e-2)

    def test_what_other_software_counted_is_never_added(self) -> None:
        data = write_window(WindowLayout(self.sketcher.against), self.sketcher.sketch_window(self.columns(rows(50, 6)), 50), 50)
        other = make_reference(INPUTS, rows(500, 7), ANSWERS, said(rows(500, 7)))
        self.assertIsNone(read_window(WindowLayout(drift_baseline(other)), data))
        for torn in (b"", data[:-4], b"\x09" + data[1:]):
            self.assertIsNone(read_window(WindowLayout(self.sketcher.against), torn))

    def test_odd_rows_stand_out_by_field_and_together(self) -> None:
        oddness = OutlierScorer(self.sketcher)
        usual = rows(2_000, 8)
        score, _ = oddness.score_rows(self.columns(usual), len(usual))
        limit = self.reference.odd[2]
        self.assertLess((score > limit).mean(), 0.01)
        odd = [usual[0] | {"volt": 2_300.0}, usual[0] | {"kind": "plasma"}, usual[0] | {"age": 0.3, "volt": 245.0}]
        scores, why = oddness.score_rows(self.columns(odd), 3)
        self.assertEqual(why[:2], ["volt", "kind"])
        self.assertTrue((scores[:2] > limit).all(), (scores, limit))
        self.assertGreater(scores[2], self.reference.odd[1])

    def test_answers_to_rows_that_were_fitted_on_have_wider_floors(self) -> None:
        asked = rows(2_000, 9)
        for unseen, state in ((False, "steady"), (True, "shifting")):
            made = make_reference(INPUTS, asked, ANSWERS, said(asked), unseen=unseen)
            sketcher = Sketcher(drift_baseline(made))
            surer = [
                row | {"scores": {"holds": 1 - one, "fails": one}}
                for row in said(asked)
                for one in [min(1.0, row["scores"]["fails"] * 1.15)]
            ]  # type: ignore[index, operator]
            columns = FeatureExtractor(INPUTS, ANSWERS, made.words).extract_columns(asked, surer)
            found = judge_windows(sketcher.against, [sketcher.sketch_window(columns, 2_000)])
            self.assertEqual(next(field.state for field in found.fields if field.name == "answers.scores.fails"), state)
