import io
import unittest
import zipfile
from datetime import UTC, datetime
from typing import Any
from unittest import mock

import openpyxl
import pyarrow as pa

from lamppost.core.errors import BadBody
from lamppost.service.bulk.spreadsheets import csv_record, open_sheet, write_sheets


def workbook(**sheets: list[list[Any]]) -> openpyxl.Workbook:
    book = openpyxl.Workbook()
    book.remove(book.active)
    for title, rows in sheets.items():
        sheet = book.create_sheet(title)
        for row in rows:
            sheet.append(row)
    return book


def saved(book: openpyxl.Workbook) -> io.BytesIO:
    file = io.BytesIO()
    book.save(file)
    return file


def read(file: Any, sheet: str | None = None) -> tuple[list[str], list[tuple[int, list[str]]]]:
    with open_sheet(file, sheet) as (header, rows):
        return header, list(rows)


class Sheets(unittest.TestCase):
    """What is read of spreadsheets as people make them, and what is refused."""

    def refused(self, file: Any, sheet: str | None = None) -> BadBody:
        with self.assertRaises(BadBody) as caught:
            read(file, sheet)
        return caught.exception

    def test_cells_are_read_as_cells_of_csv(self) -> None:
        rows = [["id", "when", "wet", "note"], [12.0, datetime(2026, 1, 2, 3, 4), True, "two\nlines"], [], [2.5, None, False, "=x"]]
        book = workbook(lamps=rows, empty=[])
        book["lamps"]["D4"].data_type = "s"
        header, found = read(saved(book))
        self.assertEqual(header, ["id", "when", "wet", "note"])
        self.assertEqual(found, [(2, ["12", "2026-01-02T03:04:00Z", "true", "two\nlines"]), (4, ["2.5", "", "false", "=x"])])
        self.assertEqual(csv_record(found[0][1], ";"), b'12;2026-01-02T03:04:00Z;true;"two\nlines"\n')

    def test_several_sheets_are_named_and_one_is_read(self) -> None:
        file = saved(workbook(north=[["a"], [1]], south=[["b"], [2]]))
        refused = self.refused(file)
        self.assertIn("2 sheets (north, south)", refused.detail)
        self.assertEqual(refused.extra["sheets"], ["north", "south"])
        self.assertEqual(read(file, "south"), (["b"], [(2, ["2"])]))
        self.assertIn("there is no sheet 'west'", self.refused(file, "west").detail)

    def test_what_a_machine_would_misread_is_refused(self) -> None:
        merged = workbook(lamps=[["a", "b"], [1, 2], [3, 4]])
        merged["lamps"].merge_cells("A2:A3")
        self.assertIn("the cells A2:A3 of the sheet 'lamps' are merged", self.refused(saved(merged)).detail)
        title = workbook(lamps=[["Lamps of the town", None, None], ["a", "b", "c"], [1, 2, 3]])
        header, found = read(saved(title))
        self.assertEqual((header, len(found[0][1])), (["Lamps of the town"], 3), "the reading of rows rejects what is wider")
        self.assertIn("column 2 of the sheet 'lamps' has no name in row 1", self.refused(saved(workbook(lamps=[["a", None, "c"]]))).detail)
        self.assertIn("none of its sheets holds anything", self.refused(saved(workbook(lamps=[]))).detail)

    def test_what_is_no_sheet_is_refused(self) -> None:
        self.assertIn("no XLSX file", self.refused(io.BytesIO(b"a,b\n1,2\n")).detail)
        whole = saved(workbook(lamps=[["a"], [1]])).getvalue()
        self.assertIn("no XLSX file", self.refused(io.BytesIO(whole[: len(whole) // 2])).detail)
        other = io.BytesIO()
        with zipfile.ZipFile(other, "w") as packed:
            packed.writestr("a.txt", "a")
        self.assertIn("damaged", self.refused(other).detail)
        bomb = io.BytesIO()
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as packed, packed.open("xl/workbook.xml", "w", force_zip64=True) as part:
            for _ in range(12):
                part.write(bytes(2**20))
        with mock.patch("lamppost.service.bulk.spreadsheets._MOST_UNPACKED", 10 * 2**20):
            self.assertIn("when unpacked", self.refused(bomb).detail)

    def test_texts_that_begin_like_formulas_stay_texts(self) -> None:
        table = pa.table({"note": ["=1+1", "a\x00b", None], "n": [1.5, float("nan"), 2.0], "at": [datetime(2026, 1, 1, tzinfo=UTC)] * 3})
        file = io.BytesIO()
        write_sheets(iter([("answers", table.column_names, iter([table]))]), file)
        sheet = openpyxl.load_workbook(file)["answers"]
        self.assertEqual((sheet["A2"].value, sheet["A2"].data_type), ("=1+1", "s"))
        self.assertEqual([cell.value for cell in sheet["A"]], ["note", "=1+1", "a\ufffdb", None])
        self.assertEqual([cell.value for cell in sheet["B"]], ["n", 1.5, "nan", 2])
        self.assertEqual(sheet["C2"].value, datetime(2026, 1, 1))
