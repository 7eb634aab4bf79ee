import tempfile
import unittest
from pathlib import Path
from unittest import mock

import pyarrow as pa
import pyarrow.parquet as pq

from lamppost.core.errors import BadRequest, Conflict
from lamppost.service.bulk import folder_output
from lamppost.service.bulk.folder_output import FolderTarget
from lamppost.service.bulk.places import OpenedPlace, local_files


class Folders(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name).resolve()
        self.place = OpenedPlace(local_files(), str(self.root), True, "town")

    def write(self, target: FolderTarget, rows: int) -> int:
        tables = [pa.table({"n": list(range(at, min(at + 10, rows)))}) for at in range(0, rows, 10)]
        return target.write_table("parquet", None, tables[0].schema, iter(tables))

    def test_files_are_cut_at_whole_blocks_in_the_order_of_rows(self) -> None:
        target = FolderTarget(self.place, "scored/", "run", False)
        with mock.patch.object(folder_output, "FILE_ROWS", 25):
            size = self.write(target, 65)
        self.assertFalse((self.root / "scored").exists())
        target.publish(size)
        target.publish(size)
        names = sorted(file.name for file in (self.root / "scored").iterdir())
        self.assertEqual(names, ["part-00000.parquet", "part-00001.parquet", "part-00002.parquet"])
        self.assertEqual([pq.read_table(self.root / "scored" / name).num_rows for name in names], [30, 30, 5])
        self.assertEqual(pq.read_table(self.root / "scored").column("n").to_pylist(), list(range(65)))

    def test_a_folder_that_somebody_made_meanwhile_is_not_touched(self) -> None:
        target = FolderTarget(self.place, "scored/", "run", False)
        target.check()
        size = self.write(target, 20)
        (self.root / "scored").mkdir()
        (self.root / "scored" / "theirs").write_text("x")
        with self.assertRaises(Conflict):
            target.publish(size)
        self.assertEqual((self.root / "scored" / "theirs").read_text(), "x")
        with self.assertRaises(Conflict):
            FolderTarget(self.place, "scored/", "other", False).check()
        FolderTarget(self.place, "scored/", "run", True).publish(size)
        self.assertEqual([file.name for file in (self.root / "scored").iterdir()], ["part-00000.parquet"])
        self.assertEqual([file.name for file in self.root.iterdir()], ["scored"])

    def test_places_that_cannot_be_are_refused(self) -> None:
        with self.assertRaises(BadRequest):
            FolderTarget(self.place, "../out/", "run", False)
        with self.assertRaises(BadRequest):
            FolderTarget(OpenedPlace(local_files(), "", False, "store"), "out/", "run", False)
        with self.assertRaises(BadRequest):
            FolderTarget(self.place, "no/such/", "run", False).check()
        (self.root / "file").write_text("x")
        with self.assertRaises(Conflict):
            FolderTarget(self.place, "file/", "run", False).check()
