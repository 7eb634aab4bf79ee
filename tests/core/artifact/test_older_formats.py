"""Lamp files of format 1 are read under the present names."""

import unittest

import orjson

from lamppost.core.artifact.manifest import FORMAT, read_manifest, write_manifest
from lamppost.core.artifact.reference import make_reference, read_reference, write_reference
from lamppost.core.errors import PackageRefused
from lamppost.core.schema.fields import Field, Schema
from tests.core.test_values import a_manifest


class OlderFormats(unittest.TestCase):
    def test_the_present_format_is_the_second(self) -> None:
        self.assertEqual(FORMAT, 3)

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
