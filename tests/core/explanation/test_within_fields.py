"""Words, regions, elements and blocks that carry an answer are found."""

import base64
import math
import unittest
from collections.abc import Callable, Sequence

import numpy as np

from lamppost.core.explanation.asking import Budget, Cases, Outputs, Row, drive
from lamppost.core.explanation.contributions import Contributions, contributions
from lamppost.core.explanation.within_fields import WithinField, parts_within
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.images import decode_image, encode_png

ANSWERS = Schema((Field("risk", "number"),))


def explain(game: WithinField, model: Callable[[Row], float]) -> Contributions:
    cases = Cases(Outputs(ANSWERS, {}), Budget(2_000, math.inf, lambda: 0.0))
    return drive(contributions(game, cases), lambda rows: [{"risk": model(row)} for row in rows])


def made(row: Row, field: Field, reference: Sequence[Row] = ()) -> WithinField:
    game = parts_within(row, field, reference)
    assert game is not None
    return game


class Texts(unittest.TestCase):
    def test_the_words_that_carry_it_are_found_with_their_places(self) -> None:
        text = "the lamp  near the mill buzzes,\nand nobody came"
        game = made({"note": text, "age": 3}, Field("note", "text"))
        found = explain(game, lambda row: 2.0 * ("buzzes" in row["note"]) - 0.5 * ("nobody" in row["note"]) + row["age"])
        worth = {text[start:end]: amount for (start, end), amount in zip(game.places, found.amounts[:, 0], strict=True)}
        self.assertEqual({word: round(amount, 9) for word, amount in worth.items() if abs(amount) > 1e-9}, {"buzzes,": 2.0, "nobody": -0.5})
        self.assertEqual((found.stopped, float(found.baseline[0])), ("exact", 3.0))

    def test_long_texts_become_phrases_that_cover_all_of_it(self) -> None:
        text = " ".join(f"word{at}" for at in range(500))
        game = made({"note": text}, Field("note", "text"))
        self.assertLessEqual(len(game.parts), 24)
        self.assertEqual(" ".join(part for (part,) in game.parts), text)
        self.assertEqual(game.compose(np.ones(len(game.parts), dtype=bool), 0)["note"], text)
        found = explain(game, lambda row: float("word250" in row["note"]))
        self.assertIn("word250", game.parts[int(found.amounts[:, 0].argmax())][0])

    def test_what_has_no_two_parts_has_none(self) -> None:
        for value in ("", "one", None):
            self.assertIsNone(parts_within({"note": value}, Field("note", "text"), []))
        self.assertIsNone(parts_within({"age": 3}, Field("age", "number"), []))


class Pictures(unittest.TestCase):
    def test_the_region_that_carries_it_is_found(self) -> None:
        for size, channels in (((40, 30), 3), ((7, 64), 1), ((3, 2), 3), ((16, 16), 4)):
            field = Field("photo", "image", channels=channels)  # type: ignore[arg-type]
            pixels = np.zeros((size[1], size[0], channels), dtype=np.uint8)
            if channels == 4:
                pixels[..., 3] = 255
            pixels[-1, 0, 0] = 250
            row = {"photo": base64.b64encode(encode_png(pixels)).decode()}
            game = made(row, field)
            found = explain(game, lambda row, field=field: float(decode_image(field, base64.b64decode(row["photo"]))[-1, 0, 0] > 200))  # type: ignore[misc]
            left, _, _, bottom = game.places[int(found.amounts[:, 0].argmax())]
            self.assertEqual((left, bottom), (0, size[1]), size)
            self.assertAlmostEqual(float(found.amounts[:, 0].sum()), 1.0)
            area = sum((right - left) * (bottom - top) for left, top, right, bottom in game.places)
            self.assertEqual(area, size[0] * size[1])


class Numbers(unittest.TestCase):
    def test_elements_of_a_vector_are_replaced_by_those_of_the_reference(self) -> None:
        names = tuple(f"e{at}" for at in range(6))
        draw = np.random.default_rng(2)
        reference = [{"v": dict(zip(names, draw.normal(size=6).tolist(), strict=True))} for _ in range(80)]
        row = {"v": dict.fromkeys(names, 1.0)}
        found = explain(made(row, Field("v", "vector", choices=names), reference), lambda row: 3 * row["v"]["e2"] - row["v"]["e5"])
        means = {name: np.mean([other["v"][name] for other in reference]) for name in names}
        np.testing.assert_allclose(found.amounts[:, 0], [0, 0, 3 * (1 - means["e2"]), 0, 0, -(1 - means["e5"])], atol=1e-9)

    def test_blocks_of_a_tensor_become_its_mean(self) -> None:
        values = np.zeros((1, 40, 3))
        values[0, 33, 1] = 5.0
        game = made({"t": values.tolist()}, Field("t", "tensor", shape=(1, 40, 3)))
        found = explain(game, lambda row: float(np.max(row["t"])))
        start, end = game.places[int(found.amounts[:, 0].argmax())]
        self.assertTrue(start <= 33 < end)
        whole = made({"t": [0, 0, 7]}, Field("t", "tensor", shape=(3,), elements="integer"))
        composed = whole.compose(np.array([False, True, True]), 0)["t"]
        self.assertEqual(composed, [2, 0, 7])
        self.assertIsInstance(composed[0], int)
