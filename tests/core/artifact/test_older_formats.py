"""Lamp files of format 1 are read under the present names."""

import unittest

import orjson

from lamppost.core.artifact.manifest import FORMAT, read_manifest, write_manifest
from lamppost.core.artifact.reference import make_reference, read_reference, write_reference
from lamppost.core.errors import PackageRefused
from lamppost.core.schema.fields import Field, Schema
from tests.core.test_values import a_manifest


class OlderFormats(unittest.TestCase):
    def test_the_present_format_is_the_fourth(self) -> None:
        self.assertEqual(FORMAT, 4)

    def test_blocks_of_format_3_are_listed_by_what_they_compare(self) -> None:
        inputs, answers = (
            Schema((Field("age_years", "number"), Field("kind", "choice", choices=("a", "b")))),
            Schema((Field("kwh", "number"),)),
        )
        rows = [{"age_years": float(at * 7 % 400), "kind": "ab"[at % 3 == 0]} for at in range(2_000)]
        reference = make_reference(inputs, rows, answers, [{"kwh": row["age_years"]} for row in rows])
        raw = orjson.loads(write_reference(reference))
        for profile in raw["inputs"] + raw["answers"]:
            blocks = profile["bins"]["blocks"]
            names = [what for what in ("location", "spread", "shape") if what in blocks]
            profile["bins"]["blocks"] = [
                {
                    "rows": length,
                    "count": blocks[names[0]]["count"][at],
                    "phi": [blocks[what]["phi"][at] for what in names],
                    "most": [blocks[what]["most"][at] for what in names],
                }
                for at, length in enumerate(blocks[names[0]]["rows"])
            ]
            profile["bins"].pop("far", None)
        read = read_reference(orjson.dumps(raw), 3)
        for now, then in zip(read.inputs + read.answers, reference.inputs + reference.answers, strict=True):
            assert now.bins is not None
            assert then.bins is not None
            self.assertEqual(dict(now.bins.blocks), {what: then.bins.blocks[what] for what in now.bins.blocks})
            self.assertGreaterEqual(set(now.bins.blocks), {"shape"})
        raw["inputs"][0]["bins"]["blocks"] = [{"rows": 50}]
        self.assertRaises(PackageRefused, read_reference, orjson.dumps(raw), 3)

    def test_a_manifest_of_format_1(self) -> None:
        raw = orjson.loads(write_manifest(a_manifest()))
        raw["format"] = 1
        raw["story"] = {"notes": "nightly"}
        raw.pop("provenance", None)
        manifest = read_manifest(orjson.dumps(raw))
        self.assertEqual((manifest.format, manifest.provenance.notes), (1, "nightly"))

    def test_format_2_does_not_know_the_old_key(self) -> None:
        raw = orjson.loads(write_manifest(a_manifest())) | {"story": {}}
        self.assertRaises(PackageRefused, read_manifest, orjson.dumps(raw))

    def test_a_reference_of_format_1(self) -> None:
        inputs, answers = Schema((Field("age_years", "number"),)), Schema((Field("kwh", "number"),))
        rows = [{"age_years": float(age)} for age in range(40)]
        reference = make_reference(inputs, rows, answers, [{"kwh": row["age_years"] * 2} for row in rows])
        self.assertIsNotNone(reference.inputs[0].bins)
        written = write_reference(reference).replace(b'"bins":', b'"cells":')
        self.assertEqual(read_reference(written, 1), reference)
        for damaged in (b"{", b'{"inputs": 3}', b"[]", b'{"inputs": [1], "rows": 2}'):
            self.assertRaises(PackageRefused, read_reference, damaged, 1)


if __name__ == "__main__":
    unittest.main()
