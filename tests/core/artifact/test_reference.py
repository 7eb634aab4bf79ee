import unittest

from lamppost.core.artifact.reference import make_reference, read_reference, write_reference
from lamppost.core.errors import PackageRefused
from lamppost.core.schema.fields import Field, Schema

INPUTS = Schema(
    (
        Field("x", "number", missing=True),
        Field("n", "integer"),
        Field("kind", "choice", choices=("led", "sodium"), missing=True),
        Field("tree", "yes/no"),
        Field("note", "text", missing=True),
    )
)
ANSWERS = Schema((Field("label", "choice", choices=("holds", "fails")), Field("scores", "vector", choices=("holds", "fails"))))
ROWS = [
    {"x": None if i == 3 else float(i), "n": i, "kind": "led" if i % 4 else None, "tree": i % 2 == 0, "note": "a" * i or None}
    for i in range(2_001)
]
SAID = [{"label": "fails" if i > 1_000 else "holds", "scores": {"holds": 1 - i / 2_000, "fails": i / 2_000}} for i in range(2_001)]


class References(unittest.TestCase):
    def test_what_is_kept_of_each_kind_of_field(self) -> None:
        reference = make_reference(INPUTS, ROWS, ANSWERS, SAID)
        x, n, kind, tree, note, *_, new_words = reference.inputs
        self.assertEqual((x.count, x.missing, len(x.quantiles)), (2_001, 1, 21))
        self.assertEqual(
            (n.quantiles[0], n.quantiles[10], n.quantiles[20], n.mean, n.tails), (0.0, 1_000.0, 2_000.0, 1_000.0, (2.0, 1_998.0))
        )
        self.assertAlmostEqual(n.sd or 0, 577.639, places=3)
        self.assertEqual((kind.choices, kind.missing, kind.rest), ({"led": 1_500}, 501, 0))
        self.assertEqual(tree.choices, {"true": 1_001, "false": 1_000})
        self.assertEqual([one.name for one in reference.inputs[4:]], ["note.length", "note.words", "note.letters", "note.new words"])
        self.assertEqual((new_words.choices, new_words.count), ({"one": 1_000}, 1_000))
        self.assertEqual((note.missing, note.quantiles[0], note.quantiles[20]), (1, 1.0, 2_000.0))
        self.assertEqual([p.name for p in reference.answers], ["label", "scores.holds", "scores.fails"])
        self.assertEqual(reference.answers[0].choices, {"holds": 1_001, "fails": 1_000})

    def test_it_is_bounded_whatever_comes(self) -> None:
        schema = Schema((Field("id", "choice", choices=("a",), unseen="accept"),))
        rows = [{"id": f"lamp {i}"} for i in range(5_000)]
        reference = make_reference(schema, rows, schema, rows)
        profile = reference.inputs[0]
        self.assertEqual((len(profile.choices), profile.rest, len(reference.sample)), (63, 4_937, 500))
        self.assertEqual((reference.sample[0], reference.sample[-1]), (rows[0], rows[-1]))
        self.assertLess(len(write_reference(reference)), 70_000, "with four bytes for each value that was seen")

    def test_round_trip_empty_columns_and_refusal(self) -> None:
        gone = Schema((Field("x", "number", missing=True),))
        reference = make_reference(gone, [{"x": None}], ANSWERS, SAID[:1])
        self.assertEqual(reference.inputs[0].quantiles, ())
        for one in (reference, make_reference(INPUTS, ROWS, ANSWERS, SAID)):
            self.assertEqual(read_reference(write_reference(one)), one)
            self.assertEqual(write_reference(read_reference(write_reference(one))), write_reference(one))
        for data in (b"", b"{}", b'{"rows": 1, "inputs": [{"name": 1}], "answers": [], "sample": []}'):
            self.assertRaises(PackageRefused, read_reference, data)
