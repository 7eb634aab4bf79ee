"""Every listed command loads, with the summary of its entry."""

import unittest

from lamppost.cli.command_table import COMMANDS, GROUPS, load_command, make_command_line


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


if __name__ == "__main__":
    unittest.main()
