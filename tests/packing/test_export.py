"""Other forms of a package give its own answers, in the thing that runs them; one that does not is refused, and nothing is written."""

import subprocess
import sys
import tempfile
import unittest
import warnings
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import Any
from unittest import mock

import duckdb
import numpy as np
import pandas as pd
import psycopg
from sklearn.compose import make_column_transformer
from sklearn.ensemble import RandomForestClassifier
from sklearn.impute import SimpleImputer
from sklearn.linear_model import LogisticRegression
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import OneHotEncoder

from lamppost.core.errors import SetupError
from lamppost.package.read import Lamp, read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.export import exporting, running_forms
from lamppost.packing.export.answer_shape import ExportedModel, read_model
from lamppost.packing.export.checking import DiffersFromPackage, hold_against, own_answers, rows_to_check
from lamppost.packing.export.exporting import SqlOptions, export_package
from lamppost.packing.export.row_program import NoSuchForm
from lamppost.packing.export.sql_form import SQL_KINDS, quote, write_sql
from lamppost.packing.recipe import Recipe
from lamppost.store.postgres import PrivateServer
from tests.support import boosters, zoo
from tests.support.lamps import made_once, outage_lamp

FORMATS = frozenset({"skops"})
KINDS = (
    "logistic regression, 3 classes",
    "ridge classifier (no scores)",
    "random forest, 3 classes",
    "histogram boosting with gaps",
    "linear regression, log target",
    "PCA and a network",
    "naive Bayes on a union",
    "SVD, norm and logs",
    "k-means clusters",
    "several targets, regression forest",
    "LightGBM, regression with gaps",
    "XGBoost in a chain",
)
CHOICES = ['a "quoted" one', "o'clock", "*/ end", "Straße %s {0}", "back\\slash", "??/"]


def odd_names_lamp() -> Path:
    """A model whose fields, choices and labels hold what other languages would take for their own."""

    def make(path: Path) -> None:
        random = np.random.default_rng(3)
        frame = pd.DataFrame(
            {
                'a "wide" field': random.choice(np.array([*CHOICES, None], dtype=object), 600),
                "select; --": random.normal(0, 1, 600),
                "is on": random.random(600) < 0.4,
                "*/ n": np.where(random.random(600) < 0.2, np.nan, random.normal(0, 2, 600)),
            }
        )
        encode = make_pipeline(SimpleImputer(strategy="constant", fill_value="none"), OneHotEncoder(handle_unknown="ignore"))
        columns = make_column_transformer((encode, ['a "wide" field']), (SimpleImputer(), ["select; --", "*/ n"]), remainder="passthrough")
        label = np.where(frame["select; --"] + frame["is on"] + (frame['a "wide" field'] == "o'clock") > 0.6, 'fails "here"', "it's fine")
        model = make_pipeline(columns, RandomForestClassifier(12, random_state=0)).fit(frame, label)
        build_package(model, frame.assign(label=label), Recipe("odd-names", "label"), path)

    return made_once("odd-names.lamp", make)


def zoo_lamps() -> list[tuple[str, Path]]:
    """The packages of some kinds of models, each made once a run."""
    lamps = zoo.frame()
    known: dict[str, Any] = {
        name: (lambda make=make, target=target: (*zoo.fitted(make, target, lamps), target)) for name, make, target, _ in zoo.models()
    }
    known |= {
        name: (lambda model=model, frame=frame, several=several: (model, frame, several)) for name, model, frame, several in zoo.others()
    }
    known |= {
        name: (lambda train=train, frame=frame, target=target: (train(), frame.assign(**{target: boosters.LAMPS[target]}), target))
        for name, train, frame, target, _, _ in boosters.CASES
    }
    made = []
    for name in KINDS:

        def make(path: Path, name: str = name) -> None:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                model, frame, target = known[name]()
                build_package(model, frame, Recipe("kind", target if isinstance(target, list) or target in frame else None), path)

        made.append((name, made_once(f"export-{''.join(letter if letter.isalnum() else '-' for letter in name)}.lamp", make)))
    return made


def answers_in_duckdb(select: str, model: ExportedModel, rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Answers of the same SELECT in another engine."""
    columns = ", ".join(f"{quote(field.name)} {SQL_KINDS[field.kind]}" for field in model.fields)
    with duckdb.connect() as engine:
        engine.execute(f"CREATE TABLE checked (lp_place integer, {columns})")
        places = ", ".join("?" * (1 + len(model.fields)))
        engine.executemany(
            f"INSERT INTO checked VALUES ({places})", [[at, *(row[field.name] for field in model.fields)] for at, row in enumerate(rows)]
        )
        found = engine.execute(f"SELECT * FROM ({select}\n) AS given ORDER BY lp_place").fetchall()
    return [running_forms.as_answer(model, row[1:]) for row in found]


class Forms(unittest.TestCase):
    url: str

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="lamppost-export-")
        cls.addClassCleanup(folder.cleanup)
        Path(folder.name).chmod(0o711)
        cls.folder = Path(folder.name)
        server = PrivateServer(cls.folder / "data", durable=False)
        cls.addClassCleanup(server.stop)
        cls.url = server.start()

    def database(self) -> AbstractContextManager[str]:
        return nullcontext(self.url)

    def hold_all(self, lamp: Lamp, rows_most: int = 600) -> None:
        """Hold every form of a package against its own answers."""
        unpacked = lamp.unpack(self.folder)
        model = read_model(lamp.manifest, unpacked)
        rows = rows_to_check(lamp)[:rows_most]
        own = own_answers(lamp, unpacked, rows, FORMATS)
        for form in ("python", "c", "onnx", "pmml"):
            with self.subTest(form=form):
                _, answer = exporting._write(model, form, unpacked, self.folder, None)
                self.assertEqual(hold_against(rows, own, answer, lamp.proof.tolerance, form).rows, len(rows))
        with self.subTest(form="sql"), psycopg.connect(self.url, autocommit=True) as connection:
            select = write_sql(model, "checked", ("lp_place",))
            answers = running_forms.answers_in_database(connection, select, model, rows)
            hold_against(rows, own, lambda _: answers, lamp.proof.tolerance, "sql")
            elsewhere = answers_in_duckdb(write_sql(model, "checked", ("lp_place",)), model, rows)
            hold_against(rows, own, lambda _: elsewhere, lamp.proof.tolerance, "sql in a second engine")

    def test_every_form_of_many_kinds_of_models_gives_their_own_answers(self) -> None:
        for name, path in zoo_lamps():
            with self.subTest(name):
                self.hold_all(read_lamp(path))

    def test_names_that_other_languages_would_take_for_their_own(self) -> None:
        self.hold_all(read_lamp(odd_names_lamp()), 2_000)

    def test_what_a_package_refuses_the_python_form_refuses(self) -> None:
        lamp = read_lamp(outage_lamp())
        with tempfile.TemporaryDirectory() as folder:
            made = Path(folder) / "risk.py"
            export_package(lamp, "python", made, FORMATS)
            names: dict[str, Any] = {}
            exec(compile(made.read_text(), "risk", "exec"), names)
        row = lamp.proof.rows[0]
        self.assertEqual(set(names["predict"](row)), {field.name for field in lamp.manifest.answers})
        for wrong in ({"district": "the moon"}, {"age_years": "old"}, {"age_years": True}, {"nothing": 1}, {"age_years": 1e9}):
            with self.subTest(str(wrong)), self.assertRaises(ValueError):
                names["predict"]({**row, **wrong})

    def test_nearest_neighbours_have_the_graph_alone(self) -> None:
        model, frame = zoo.fitted(
            *next((make, target) for name, make, target, _ in zoo.models() if name == "nearest neighbours"), zoo.frame()
        )
        path = self.folder / "near.lamp"
        build_package(model, frame, Recipe("near", None), path)
        lamp = read_lamp(path)
        self.assertGreaterEqual(export_package(lamp, "onnx", self.folder / "near.onnx", FORMATS).checked.rows, 2_000)
        with self.assertRaises(NoSuchForm) as caught:
            export_package(lamp, "c", self.folder / "near.c", FORMATS)
        self.assertIn("TopK", caught.exception.detail)

    def test_a_view_in_a_database(self) -> None:
        lamp = read_lamp(outage_lamp())
        made = self.folder / "view.sql"
        export_package(lamp, "sql", made, FORMATS, SqlOptions(self.database, 'town."lamps of today"', ("lamp_id",), "risks"))
        model = read_model(lamp.manifest, lamp.unpack(self.folder))
        rows = rows_to_check(lamp)[:50]
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute("CREATE SCHEMA town")
            answers = running_forms.answers_in_database(connection, write_sql(model, "checked", ("lp_place",)), model, rows)
            connection.execute('CREATE TABLE town."lamps of today" AS SELECT lp_place AS lamp_id, checked.* FROM checked')
            connection.execute(made.read_bytes())
            found = connection.execute("SELECT * FROM risks ORDER BY lamp_id").fetchall()
        self.assertEqual([running_forms.as_answer(model, row[1:]) for row in found], answers)

    def test_a_function_in_a_database(self) -> None:
        lamp = read_lamp(outage_lamp())
        made = self.folder / "function.sql"
        done = export_package(lamp, "sql", made, FORMATS, SqlOptions(self.database, function="risk of a lamp"))
        self.assertGreaterEqual(done.checked.rows, 2_000)
        unpacked = lamp.unpack(self.folder)
        model = read_model(lamp.manifest, unpacked)
        row = rows_to_check(lamp)[0]
        with psycopg.connect(self.url, autocommit=True) as connection:
            connection.execute(made.read_bytes())
            named = ", ".join(f"{quote(name)} => %s" for name in row)
            (found,) = connection.execute(f'SELECT * FROM "risk of a lamp"({named})'.encode(), list(row.values())).fetchall()
        given = running_forms.as_answer(model, found)
        self.assertEqual(
            hold_against([row], own_answers(lamp, unpacked, [row], FORMATS), lambda _: [given], lamp.proof.tolerance, "sql").rows, 1
        )

    def test_a_form_that_differs_is_refused_and_nothing_is_written(self) -> None:
        lamp = read_lamp(outage_lamp())
        wrong = exporting.write_python(read_model(lamp.manifest, lamp.unpack(self.folder))).replace(" = _trees(", " = 0 * _trees(", 1)
        target = self.folder / "never.py"
        broken = wrong.replace("sums[target] += weight", "sums[target] += weight * 0.5").replace("0 * _trees", "_trees")
        with mock.patch.object(exporting, "write_python", return_value=broken), self.assertRaises(DiffersFromPackage) as caught:
            export_package(lamp, "python", target, FORMATS)
        self.assertIn("differs from the package on", caught.exception.detail)
        self.assertFalse(target.exists())

    def test_packages_without_a_form_say_why(self) -> None:
        frame = pd.DataFrame({"note": ["dark lamp", "open door", "wire hums"] * 40})
        from sklearn.feature_extraction.text import TfidfVectorizer

        label = np.array(["lamp", "door", "wire"] * 40)
        model = make_pipeline(make_column_transformer((TfidfVectorizer(), "note")), LogisticRegression()).fit(frame, label)
        path = self.folder / "note.lamp"
        build_package(model, frame.assign(label=label), Recipe("note", "label", fields={"note": {"kind": "text", "choices": []}}), path)
        with self.assertRaises(NoSuchForm) as caught:
            export_package(read_lamp(path), "sql", self.folder / "note.sql", FORMATS, SqlOptions(self.database, "notes"))
        self.assertIn("no compiled graph", caught.exception.detail)
        with mock.patch("shutil.which", return_value=None), self.assertRaises(SetupError):
            export_package(read_lamp(outage_lamp()), "c", self.folder / "x.c", FORMATS)

    def test_the_command(self) -> None:
        target = self.folder / "risk.c"

        def run(*words: str) -> subprocess.CompletedProcess[str]:
            command = [sys.executable, "-m", "lamppost", "export", str(outage_lamp()), *words]
            return subprocess.run(command, capture_output=True, text=True, timeout=120, cwd=self.folder)

        done = run("--as", "c", "--to", str(target))
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("rows get the package's own answers from it", done.stdout)
        self.assertIn("outage_risk_predict", target.read_text())
        for words, said in (
            (("--as", "pyton"), "did you mean python?"),
            (("--as", "sql"), "--table"),
            (("--as", "c", "--view", "x"), "go with --as sql"),
        ):
            with self.subTest(said):
                refused = run(*words)
                self.assertEqual(refused.returncode, 1)
                self.assertIn(said, refused.stderr)
