import tempfile
import unittest
from pathlib import Path

import pyarrow as pa

from lamppost.core.bulk.row_selection import RowSelection
from lamppost.core.desk.settings import read_settings
from lamppost.core.errors import NotFound
from lamppost.core.schema.fields import Field, Schema
from lamppost.service.desk.result_rows import SURE, answer_condition, read_page, read_table, result_columns, written_tables

LABEL = Field("label", "choice", choices=("holds", "fails"))
ANSWERS = Schema((LABEL, Field("scores", "vector", choices=("holds", "fails"))))
WORDS = {"answers": {"fails": {"text": "Send somebody", "state": "act"}, "holds": {"text": "Nothing to do"}}}
SETTINGS = read_settings({"title": "t", **WORDS})
TABLE = pa.table(
    {
        "lamp": [7, 3, 5, None],
        "note": ["by the harbour", None, "=SUM(A1)", "-12"],
        "label": ["holds", "fails", "fails", "holds"],
        "scores.holds": [0.9, 0.4, 0.1, 0.6],
        "scores.fails": [0.1, 0.6, 0.9, 0.4],
    }
)
COLUMNS = result_columns(TABLE.column_names, ANSWERS, LABEL)


class Pages(unittest.TestCase):
    def page(self, sort: tuple[str, ...] = (), search: str = "", label: str | None = None, at: int = 0, limit: int = 10) -> list[int]:
        where = () if label is None else (answer_condition(COLUMNS, label),)
        return read_page(TABLE, SETTINGS, COLUMNS, RowSelection(where, sort), search, at, limit).places

    def test_columns_of_the_file_and_of_the_answers_are_told_apart(self) -> None:
        self.assertEqual(COLUMNS.kept, ["lamp", "note"])
        self.assertEqual(COLUMNS.scores, {"holds": "scores.holds", "fails": "scores.fails"})
        self.assertEqual(result_columns(["x", "label"], Schema((LABEL,)), LABEL).scores, {})

    def test_rows_are_filtered_searched_sorted_and_paged(self) -> None:
        self.assertEqual(self.page(), [0, 1, 2, 3])
        self.assertEqual(self.page(label="fails"), [1, 2])
        self.assertEqual(self.page(search="HARBOUR"), [0])
        self.assertEqual(self.page(search="5"), [2], "numbers are searched as they are read")
        self.assertEqual(self.page(search="harbour", label="fails"), [])
        self.assertEqual(self.page(("lamp",)), [1, 2, 0, 3])
        self.assertEqual(self.page(("-lamp",), at=1, limit=2), [2, 1])
        self.assertEqual(self.page((f"-{SURE}",)), [0, 2, 1, 3], "the score of the answer that was given")

    def test_a_page_has_texts_words_and_how_sure_each_answer_is(self) -> None:
        page = read_page(TABLE, SETTINGS, COLUMNS, RowSelection(), "", 0, 4)
        self.assertEqual(page.matching, 4)
        self.assertEqual(page.cells[0], ["7", "by the harbour"])
        self.assertEqual(page.cells[1], ["3", ""])
        self.assertEqual(page.answers[1], ("Send somebody", "act"))
        self.assertEqual(page.answers[0], ("Nothing to do", None))
        self.assertEqual(page.sure, [0.9, 0.6, 0.9, 0.6])

    def test_a_file_that_is_gone_is_told(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "answers.arrow"
            with self.assertRaises(NotFound):
                read_table(file)
            with pa.OSFile(str(file), "wb") as sink, pa.ipc.new_file(sink, TABLE.schema) as writer:
                writer.write_table(TABLE)
            self.assertEqual(read_table(file), TABLE)


class FilesToTakeHome(unittest.TestCase):
    def test_a_file_has_the_columns_that_were_brought_and_the_answer_in_words(self) -> None:
        (table,) = written_tables(TABLE, SETTINGS, COLUMNS, escaped=False)
        self.assertEqual(table.column_names, ["lamp", "note", "answer", "what to do", "how sure, %"])
        self.assertEqual(table.column("answer").to_pylist(), ["Nothing to do", "Send somebody", "Send somebody", "Nothing to do"])
        self.assertEqual(table.column("what to do").to_pylist(), ["", "act", "act", ""])
        self.assertEqual(table.column("how sure, %").to_pylist(), [90.0, 60.0, 90.0, 60.0])

    def test_texts_that_begin_like_formulas_get_a_quote_and_numbers_stay(self) -> None:
        (table,) = written_tables(TABLE, SETTINGS, COLUMNS, escaped=True)
        self.assertEqual(table.column("note").to_pylist(), ["by the harbour", None, "'=SUM(A1)", "-12"])
        self.assertEqual(table.column("lamp").to_pylist(), [7, 3, 5, None])

    def test_a_column_that_is_called_as_ours_keeps_its_name(self) -> None:
        brought = TABLE.rename_columns(["answer", "what to do", "label", "scores.holds", "scores.fails"])
        (table,) = written_tables(brought, SETTINGS, result_columns(brought.column_names, ANSWERS, LABEL), escaped=False)
        self.assertEqual(table.column_names[:4], ["answer", "what to do", "answer (answer)", "what to do (answer)"])
        self.assertEqual(table.column("answer").to_pylist(), [7, 3, 5, None])

    def test_a_number_is_written_as_a_number_beside_its_meaning(self) -> None:
        load = Field("kwh", "number", unit="kWh")
        settings = read_settings({"title": "t", "ranges": [{"least": 80, "text": "busy", "state": "look"}]})
        table = pa.table({"feeder": ["a", "b"], "kwh": [79.0, 120.5]})
        (written,) = written_tables(table, settings, result_columns(table.column_names, Schema((load,)), load), escaped=True)
        self.assertEqual(written.column("kwh").to_pylist(), [79.0, 120.5])
        self.assertEqual(written.column("answer").to_pylist(), ["79 kWh", "120.5 kWh: busy"])
        self.assertEqual(written.column("what to do").to_pylist(), ["", "have a look"])

    def test_a_result_without_rows_still_has_its_columns(self) -> None:
        (table,) = written_tables(TABLE.slice(0, 0), SETTINGS, COLUMNS, escaped=True)
        self.assertEqual((table.num_rows, table.column_names[0]), (0, "lamp"))
