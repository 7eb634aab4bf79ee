"""The table of commands, calls and requests is complete, true and written into the docs."""

import json
import unittest
from pathlib import Path

import lamppost
from lamppost.cli.command_table import COMMANDS
from lamppost.cli.equivalents import EQUIVALENTS
from scripts.equivalents_table import PAGE, page_with_table

PATHS = json.loads((Path(__file__).resolve().parents[2] / "src/lamppost/service/openapi.json").read_text())["paths"]
BESIDE_THE_API = {"/predict/{endpoint}"}


class Equivalents(unittest.TestCase):
    def test_every_command_is_listed(self) -> None:
        self.assertEqual(set(EQUIVALENTS), set(COMMANDS))

    def test_every_call_is_there_in_both_clients_and_every_request_in_the_api(self) -> None:
        for name, same in EQUIVALENTS.items():
            with self.subTest(name):
                kind, _, method = same.python.partition(".")
                if kind == "Client":
                    self.assertTrue(callable(getattr(lamppost.Client, method)) and callable(getattr(lamppost.AsyncClient, method)))
                elif kind:
                    self.assertIn(kind, dir(lamppost))
                verb, _, path = same.http.partition(" ")
                if path and path not in BESIDE_THE_API:
                    self.assertIn(verb.lower(), PATHS[path])

    def test_the_page_has_the_table_as_it_is(self) -> None:
        page = PAGE.read_text(encoding="utf-8")
        self.assertEqual(page, page_with_table(page), "run python -m scripts.equivalents_table")

    def test_both_clients_have_the_same_methods(self) -> None:
        ours, theirs = ({name for name in dir(client) if not name.startswith("_")} for client in (lamppost.Client, lamppost.AsyncClient))
        self.assertEqual(ours, theirs)
