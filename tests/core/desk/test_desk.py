import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.bulk.row_selection import RowCondition, RowSelection, read_condition, select_places
from lamppost.core.bulk.run_report import RunReport, change_sentence, count_changes
from lamppost.core.desk.answer_words import main_answer, number_text, score_lines, words_of_answer
from lamppost.core.desk.column_proposal import propose_columns
from lamppost.core.desk.settings import DeskSettings, read_settings, write_settings
from lamppost.core.desk.settings_check import check_settings, hidden_values, set_texts
from lamppost.core.endpoint.endpoint_schema import EndpointSchema
from lamppost.core.errors import BadRequest
from lamppost.core.schema.fields import Field, Schema

LABEL = Field("label", "choice", choices=("holds", "fails"))
SCHEMA = EndpointSchema(
    Schema((Field("age_years", "number", low=0, high=60), Field("maker", "choice", choices=("North", "Quay")), Field("wet", "yes/no"))),
    Schema((Field("threshold", "number", default=0.5),)),
    Schema((LABEL, Field("scores", "vector", choices=("holds", "fails")))),
)


class Settings(unittest.TestCase):
    def test_settings_survive_being_written(self) -> None:
        document = {
            "title": "Lamps",
            "fields": {"age_years": {"label": "Age"}, "maker": {"shown": False, "value": "Quay"}},
            "answers": {"fails": {"text": "Send somebody", "state": "act"}},
        }
        settings = read_settings(document)
        self.assertEqual(read_settings(write_settings(settings)), settings)
        self.assertEqual(settings.label_of("age_years"), "Age")
        self.assertEqual(settings.label_of("wet"), "wet")
        check_settings(settings, SCHEMA)

    def test_settings_that_do_not_fit_name_what_is_wrong(self) -> None:
        for more, part in (
            ({"fields": {"age_year": {"label": "Age"}}}, "'age_year' is no field of the endpoint; did you mean 'age_years'?"),
            ({"options": {"limit": {}}}, "no option of the endpoint; it has threshold"),
            ({"fields": {"maker": {"shown": False}}}, "maker is not shown and has no default, so it needs a value"),
            ({"fields": {"maker": {"shown": False, "value": "West"}}}, "'West' of maker does not fit: expected one of North, Quay"),
            ({"fields": {"age_years": {"shown": False, "value": "old"}}}, "expected a number from 0 to 60"),
            ({"answers": {"fail": {"text": "x"}}}, "label is never 'fail'; did you mean 'fails'?"),
            ({"ranges": [{"least": 1, "text": "much"}]}, "label is no number"),
            ({"answer": "labels"}, "did you mean 'label'?"),
        ):
            with self.subTest(part), self.assertRaises(BadRequest) as caught:
                check_settings(read_settings({"title": "t", **more}), SCHEMA)
            self.assertIn(part, str(caught.exception))
        for document, part in (
            ({}, "title"),
            ({"title": " "}, "needs a title"),
            ({"title": "t", "keep_days": 0}, "1 to 366 days"),
            ({"title": "t", "colour": "red"}, "colour"),
            ({"title": "t", "answers": {"fails": {"text": "x", "state": "red"}}}, "state"),
        ):
            with self.subTest(part), self.assertRaises(BadRequest) as caught:
                read_settings(document)
            self.assertIn(part, str(caught.exception))

    def test_values_that_are_not_asked_for_are_read_by_the_kind_of_their_field(self) -> None:
        fields = {"age_years": {"shown": False, "value": "12"}, "wet": {"shown": False, "value": "true"}}
        settings = read_settings({"title": "t", "fields": fields, "options": {"threshold": {"shown": False, "value": "0.2"}}})
        self.assertEqual(hidden_values(settings, SCHEMA), ({"age_years": 12, "wet": True}, {"threshold": 0.2}))
        self.assertEqual(set_texts(settings, {"wet": "Wet"}), {"age_years": "12"})


class Words(unittest.TestCase):
    def test_an_answer_is_said_as_the_owner_calls_it(self) -> None:
        settings = read_settings({"title": "t", "answers": {"fails": {"text": "Send somebody", "state": "act"}}})
        self.assertEqual(words_of_answer(settings, LABEL, "fails"), ("Send somebody", "act"))
        self.assertEqual(words_of_answer(settings, LABEL, "holds"), ("holds", None))
        yes = read_settings({"title": "t", "answers": {"yes": {"text": "It is wet", "state": "look"}}})
        self.assertEqual(words_of_answer(yes, Field("wet", "yes/no"), True), ("It is wet", "look"))

    def test_a_number_means_what_the_highest_range_that_it_reaches_says(self) -> None:
        ranges = [{"least": 0, "text": "calm", "state": "fine"}, {"least": 80, "text": "busy", "state": "act"}]
        settings = read_settings({"title": "t", "ranges": ranges})
        load = Field("kwh", "number", unit="kWh")
        self.assertEqual(words_of_answer(settings, load, 79.9), ("79.9 kWh: calm", "fine"))
        self.assertEqual(words_of_answer(settings, load, 80.0), ("80 kWh: busy", "act"))
        self.assertEqual(words_of_answer(settings, load, -1.0), ("-1 kWh", None))
        self.assertEqual(number_text(1234.567, None), "1,235")

    def test_scores_are_those_of_the_labels(self) -> None:
        settings = DeskSettings(title="t")
        row = {"label": "fails", "scores": {"holds": 0.2, "fails": 0.8}}
        self.assertEqual(score_lines(settings, SCHEMA.answers, LABEL, row), [("fails", 0.8), ("holds", 0.2)])
        self.assertEqual(score_lines(settings, SCHEMA.answers, Field("kwh", "number"), row), [])

    def test_the_first_answer_that_can_be_said_is_the_main_one(self) -> None:
        self.assertEqual(main_answer(None, SCHEMA.answers), LABEL)
        with self.assertRaises(BadRequest):
            main_answer(None, Schema((Field("scores", "vector", choices=("a", "b")),)))


class Proposals(unittest.TestCase):
    def test_columns_are_proposed_by_name_label_and_likeness(self) -> None:
        fields = ["age_years", "lamp_type", "maker", "height_m"]
        labels = {"age_years": "Age", "lamp_type": "Kind of lamp", "maker": "Maker", "height_m": "Height"}
        columns = ["id", "AGE", "Kind-of-lamp", "maker", "heigth_m"]
        self.assertEqual(
            propose_columns(fields, labels, columns),
            {"age_years": "AGE", "lamp_type": "Kind-of-lamp", "maker": "maker", "height_m": "heigth_m"},
        )

    @given(st.lists(st.text(max_size=8), max_size=8), st.lists(st.text(min_size=1, max_size=8), unique=True, max_size=8))
    def test_a_column_is_proposed_at_most_once_and_an_equal_name_always(self, columns: list[str], fields: list[str]) -> None:
        found = propose_columns(fields, {}, columns)
        taken = [column for column in found.values() if column is not None]
        self.assertEqual(len(taken), len(set(taken)))
        self.assertLessEqual(set(taken), set(columns))
        for name in fields:
            if name in columns:
                self.assertEqual(found[name], name)


class Selections(unittest.TestCase):
    def places(self, where: list[str], sort: tuple[str, ...] = ()) -> Any:
        import pyarrow as pa

        table = pa.table({"label": ["a", "b", None, "b"], "n": [3.0, 1.0, 2.0, None], "wet": [True, False, None, True]})
        return select_places(table, RowSelection(tuple(map(read_condition, where)), sort)).to_pylist()

    def test_conditions_are_read_by_the_type_of_their_column(self) -> None:
        for where, wanted in (
            (["label = b"], [1, 3]),
            (["n >= 2"], [0, 2]),
            (["n < 2.5", "label != a"], [1]),
            (["label ="], [2]),
            (["label !="], [0, 1, 3]),
            (["wet = yes"], [0, 3]),
            (["label contains B"], [1, 3]),
            ([], [0, 1, 2, 3]),
        ):
            with self.subTest(where):
                self.assertEqual(self.places(where), wanted)
        for where, part in ((["n > many"], "holds numbers"), (["lable = a"], "did you mean 'label'?"), (["wet = 3"], "says neither")):
            with self.subTest(where), self.assertRaises(BadRequest) as caught:
                self.places(where)
            self.assertIn(part, str(caught.exception))

    def test_rows_are_sorted_with_what_is_missing_at_the_end(self) -> None:
        self.assertEqual(self.places([], ("n",)), [1, 2, 0, 3])
        self.assertEqual(self.places([], ("-n",)), [0, 2, 1, 3])
        self.assertEqual(self.places(["n >= 0"], ("label", "-n")), [0, 1, 2])

    def test_what_is_no_condition_is_refused(self) -> None:
        self.assertEqual(read_condition("scores.fails>=0.8"), RowCondition("scores.fails", ">=", "0.8"))
        with self.assertRaises(BadRequest):
            read_condition("fails")


class Reports(unittest.TestCase):
    def test_changes_since_the_run_before_are_told_in_a_sentence(self) -> None:
        changes = count_changes({"fails": 30, "holds": 70}, {"holds": 80, "fails": 15, "odd": 5})
        self.assertEqual([one["answer"] for one in changes], ["fails", "holds", "odd"])
        self.assertEqual(
            change_sentence("label", changes, "night-1"),
            "Since night-1, fails went from 15.0 % to 30.0 % of the rows, holds from 80.0 % to 70.0 %, and odd from 5.0 % to 0.0 %.",
        )
        same = count_changes({"fails": 30, "holds": 70}, {"fails": 300, "holds": 700})
        self.assertEqual(change_sentence("label", same, "night-1"), "Since night-1, the parts of label have stayed the same.")
        self.assertIn("no earlier run", change_sentence("label", count_changes({"a": 1}, None), None))

    def test_a_report_refuses_what_it_cannot_list(self) -> None:
        with self.assertRaises(BadRequest):
            RunReport(rows=201)
        with self.assertRaises(BadRequest):
            RunReport(where=("label",))
