"""Every listed command loads, with the summary of its entry."""

import contextlib
import io
import os
import tempfile
import unittest
from typing import Any
from unittest import mock

import lamppost
from lamppost.cli.command_table import COMMANDS, GROUPS, load_command, make_command_line
from lamppost.core.errors import SetupError


class CommandTable(unittest.TestCase):
    def test_every_entry_has_its_function(self) -> None:
        for name, entry in COMMANDS.items():
            command = load_command(name)
            self.assertEqual(command.name, name.split(" ")[-1])
            self.assertEqual(command.help, entry.summary)

    def test_every_group_has_commands(self) -> None:
        self.assertEqual({name.split(" ")[0] for name in COMMANDS if " " in name}, set(GROUPS))

    def test_the_line_lists_all_of_them(self) -> None:
        commands = make_command_line().commands
        listed = {name for name in commands if name not in GROUPS} | {
            f"{group} {name}" for group in GROUPS for name in commands[group].commands
        }
        self.assertEqual(listed, set(COMMANDS))

    def test_help_and_version(self) -> None:
        for words in (["--version"], ["-h"], ["up", "-h"], ["delete", "-h"], ["delete", "model", "-h"]):
            with contextlib.redirect_stdout(io.StringIO()) as shown, self.assertRaises(SystemExit) as ended:
                make_command_line()(words)
            self.assertEqual(ended.exception.code, 0, words)
            self.assertIn(f"lamppost {lamppost.__version__}" if words == ["--version"] else "Usage: ", shown.getvalue())


class Settings(unittest.TestCase):
    """Options of ``up`` from a file and from the environment."""

    def up(self, content: str, *words: str, **environment: str) -> dict[str, Any]:
        with tempfile.NamedTemporaryFile("w", suffix=".toml") as file:
            file.write(content)
            file.flush()
            with mock.patch.dict(os.environ, environment):
                context = load_command("up").make_context("up", ["--settings", file.name, *words], auto_envvar_prefix="LAMPPOST")
            params: dict[str, Any] = context.params
            return params

    def test_the_line_comes_first_then_the_environment_then_the_file(self) -> None:
        file = 'port = 7000\nhost = "0.0.0.0"\nallow-code = true\npublic_url = ["https://lamps.example"]\n'
        self.assertEqual([self.up(file)[name] for name in ("port", "host", "allow_code")], [7000, "0.0.0.0", True])
        self.assertEqual(self.up(file)["public_url"], ["https://lamps.example"])
        self.assertEqual(self.up(file, LAMPPOST_PORT="7001")["port"], 7001)
        self.assertEqual(self.up(file, "--port", "7002", LAMPPOST_PORT="7001")["port"], 7002)

    def test_an_unknown_name_is_told_with_the_closest(self) -> None:
        with self.assertRaisesRegex(SetupError, "there is no option 'prot'; did you mean port\\?"):
            self.up("prot = 7000\n")


if __name__ == "__main__":
    unittest.main()
