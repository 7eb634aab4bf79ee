"""What commands print on terminals of all widths, with and without colours, and for programs."""

import contextlib
import io
import json
import os
import sys
import unittest
from collections.abc import Iterator
from typing import ClassVar
from unittest import mock

from hypothesis import given
from hypothesis import strategies as st

from lamppost.cli import main
from lamppost.cli.command_table import COMMANDS, load_command
from lamppost.cli.out import AMBER, _width, fitting_widths, lamp, paint, print_table


class Terminal(io.StringIO):
    def isatty(self) -> bool:
        return True


@contextlib.contextmanager
def terminal(columns: int, **environment: str) -> Iterator[Terminal]:
    """Standard output on a terminal of that width."""
    screen = Terminal()
    clean = {name: value for name, value in os.environ.items() if name not in ("NO_COLOR", "TERM")}
    settings = {**clean, "COLUMNS": str(columns), "TERM": "xterm", **environment}
    with mock.patch.dict(os.environ, settings, clear=True), contextlib.redirect_stdout(screen):
        yield screen


class Tables(unittest.TestCase):
    rows: ClassVar[list[list[str]]] = [
        ["outage-risk", lamp("serving"), "outage-risk@12 90 %, outage-risk@13 10 %", "12,345", "8.4", "drifted since this morning"],
        ["evening-load", lamp("asleep"), "evening-load@3", "0", "–", ""],
    ]
    head: ClassVar[list[str]] = ["endpoint", "state", "serves", "calls", "p99 ms", "what needs a look"]

    def test_lines_fit_terminals_of_80_and_60_columns(self) -> None:
        for columns in (120, 80, 60):
            with self.subTest(columns), terminal(columns) as screen:
                rows = [[row[0], lamp("serving"), *row[2:]] for row in self.rows]
                print_table(self.head, rows, right=frozenset({"calls", "p99 ms"}))
            lines = screen.getvalue().splitlines()
            self.assertLessEqual(max(_width(line) for line in lines), columns)
            self.assertIn("12,345", lines[1])
            self.assertIn("serving", lines[1])

    def test_nothing_is_cut_where_no_terminal_is(self) -> None:
        printed = io.StringIO()
        with contextlib.redirect_stdout(printed):
            print_table(self.head, self.rows)
        self.assertIn("outage-risk@12 90 %, outage-risk@13 10 %", printed.getvalue())
        self.assertIn("drifted since this morning", printed.getvalue())

    @given(st.lists(st.integers(0, 60), min_size=1, max_size=8), st.integers(1, 200))
    def test_figures_are_never_cut_and_texts_no_more_than_needed(self, widths: list[int], room: int) -> None:
        texts = list(range(0, len(widths), 2))
        fitted = fitting_widths(widths, texts, room)
        whole = sum(fitted) + 2 * (len(fitted) - 1)
        for at, (before, after) in enumerate(zip(widths, fitted, strict=True)):
            self.assertTrue(after == before or (at in texts and 8 <= after < before))
        if fitted != widths:
            self.assertGreaterEqual(whole, room)


class Colours(unittest.TestCase):
    def test_colours_are_for_terminals_that_have_them(self) -> None:
        for environment, painted in (({}, True), ({"NO_COLOR": "1"}, False), ({"NO_COLOR": ""}, True), ({"TERM": "dumb"}, False)):
            with self.subTest(environment), terminal(80, **environment):
                self.assertEqual("\033" in paint("x", AMBER), painted)


class Programs(unittest.TestCase):
    def test_every_command_that_ends_has_json(self) -> None:
        without = {name for name in COMMANDS if "as_json" not in {parameter.name for parameter in load_command(name).params}}
        self.assertEqual(without, {"up", "serve", "outpost join", "shell", "door"})

    def test_an_error_is_a_problem_document_too(self) -> None:
        errors = io.StringIO()
        words = ["lamppost", "token", "revoke", "x", "--json", "--address", "http://127.0.0.1:9"]
        with mock.patch.object(sys, "argv", words), contextlib.redirect_stderr(errors), self.assertRaises(SystemExit) as ended:
            main()
        self.assertEqual(ended.exception.code, 3)
        self.assertEqual(json.loads(errors.getvalue())["type"], "urn:lamppost:server-unreachable")

    def test_summaries_are_whole_in_the_list_of_commands(self) -> None:
        for columns in (80, 60):
            with self.subTest(columns), terminal(columns) as screen, mock.patch.object(sys, "argv", ["lamppost", "--help"]):
                with self.assertRaises(SystemExit):
                    main()
                printed = screen.getvalue()
            self.assertNotIn("...\n", printed.partition("Commands:")[2])
            self.assertLessEqual(max(len(line) for line in printed.splitlines()), columns)
            words = " ".join(printed.split())
            for name in ("diff", "setup", "records"):
                self.assertIn(COMMANDS[name].summary, words)
