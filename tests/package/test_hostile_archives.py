"""A thousand damaged lamp files from a seed: each is refused with one sentence, or is whole; none leaves anything behind."""

import random
import tempfile
import unittest
import warnings
import zipfile
from pathlib import Path

from lamppost.core.artifact.proof import compare_answers
from lamppost.core.errors import PackageRefused
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import answer_rows_from_columns, columns_from_rows
from lamppost.package.read import Lamp, read_lamp
from lamppost.runtime.running_steps import open_chain
from tests.support.damage import damage
from tests.support.lamps import moody_lamp
from tests.support.models import Moody

CASES = 1_000


class Damaged(unittest.TestCase):
    def test_every_case_is_refused_or_whole(self) -> None:
        good = moody_lamp("moody", Moody())
        whole = read_lamp(good)
        data = good.read_bytes()
        with zipfile.ZipFile(good) as archive:
            members = {name: archive.read(name) for name in archive.namelist()}
        rng = random.Random(8420)
        refused = 0
        with tempfile.TemporaryDirectory() as name, warnings.catch_warnings():
            warnings.simplefilter("ignore")  # the ZIP library warns of doubles while we write them
            folder = Path(name)
            path = folder / "case.lamp"
            for case in range(CASES):
                kind = damage(rng, path, data, members)
                try:
                    lamp = read_lamp(path)
                except PackageRefused as error:
                    refused += 1
                    self.assertNotIn("\n", error.detail, case)
                    self.assertLess(len(error.detail), 1_000, case)
                else:
                    self._is_whole_or_proves_itself(lamp, whole, kind, folder)
                self.assertEqual([entry.name for entry in folder.iterdir()], ["case.lamp"], case)
        self.assertGreater(refused, CASES * 0.8)

    def _is_whole_or_proves_itself(self, lamp: Lamp, whole: Lamp, kind: str, folder: Path) -> None:
        """Damage may hit what does not matter, such as a time. A changed manifest that is still one makes another package, which
        must then either not open or give the answers of its proof."""
        if lamp.digest == whole.digest:
            self.assertEqual((lamp.manifest, lamp.proof), (whole.manifest, whole.proof))
            return
        self.assertEqual(kind, "json")
        with tempfile.TemporaryDirectory() as elsewhere:
            try:
                chain = open_chain(lamp.unpack(Path(elsewhere)), lamp.manifest, frozenset({"pickle"}))
                rows = ValidationPlan(lamp.manifest.inputs).read_rows(lamp.proof.rows)
                answers = answer_rows_from_columns(
                    lamp.manifest.answers, chain.run(columns_from_rows(lamp.manifest.inputs, rows)), len(rows)
                )
            except Exception:  # the worker turns any of these into a refusal
                return
            self.assertTrue(compare_answers(lamp.manifest.answers, lamp.proof, answers).passed)
