"""Files that can run code are loaded only if somebody says that they may; what the terminal and spreadsheets get obeys nobody."""

import io
import json
import pickle
import tempfile
import unittest
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from unittest import mock

from lamppost.cli import out
from lamppost.cli.node.logging_setup import set_up_logging
from lamppost.core.errors import BadRequest
from lamppost.core.names import escape_controls
from tests.support.lamps import moody_lamp, outage_lamp
from tests.support.models import Moody
from tests.support.service import Service

ESCAPE = "\x1b[2J\x1b]0;title\x07\x9b31m\u202edrow"


class Trap:
    """Leaves a mark when it is loaded."""

    def __init__(self, mark: str) -> None:
        self.mark = mark

    def __reduce__(self) -> tuple[object, ...]:
        return (Path.touch, (Path(self.mark),))


class Trusted(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.service = Service()
        self.mark = self.folder / "mark"

    def write(self, name: str, data: bytes) -> str:
        (self.folder / name).write_bytes(data)
        return str(self.folder / name)

    def test_pack_loads_no_file_that_can_run_code(self) -> None:
        trap = pickle.dumps(Trap(str(self.mark)))
        self.write("rows.json", json.dumps([{"x": 1.0}, {"x": 2.0}]).encode())
        self.write("frame.pkl", trap)
        self.write("code.py", f"open({str(self.mark)!r}, 'w')".encode())
        for name in ("model.joblib", "model.pkl", "model.pt"):
            self.write(name, trap)
        described = "name = 'x'\n[model]\nfile = '{model}'\n[training]\nframe = '{frame}'\n{more}"
        step = "[[before]]\ncode = 'code.py'\ncall = 'A'\ntakes = ['x']\n[before.gives.y]\nkind = 'number'\n"
        sources = [str(self.folder / name) for name in ("model.joblib", "model.pkl", "model.pt")]
        for at, (model, frame, more) in enumerate(
            (("model.joblib", "rows.json", ""), ("graph.onnx", "frame.pkl", ""), ("graph.onnx", "rows.json", step))
        ):
            sources.append(self.write(f"{at}.toml", described.format(model=model, frame=frame, more=more).encode()))
        for source in sources:
            with self.subTest(source):
                done = self.service.run("pack", source)
                self.assertEqual(done.returncode, 1)
                self.assertIn("--allow-code", done.stderr)
        self.assertFalse(self.mark.exists())
        self.assertEqual(self.service.run("pack", sources[1], "--allow-code").returncode, 1)
        self.assertTrue(self.mark.exists(), "and the trap would have worked")

    def test_prove_opens_code_of_ones_own_or_when_told(self) -> None:
        moody = self.write("moody.lamp", moody_lamp("moody", Moody()).read_bytes())
        refused = self.service.run("prove", moody)
        self.assertEqual((refused.returncode, "pickle, which can run code" in refused.stderr), (1, True), refused.stderr)
        self.assertEqual(self.service.run("prove", moody, "--allow-code").returncode, 0)
        self.service.run("key", "new", "mine")
        self.assertEqual(self.service.run("sign", moody, "--key", "mine").returncode, 0)
        self.assertEqual(self.service.run("prove", moody).returncode, 0)
        self.assertEqual(self.service.run("prove", str(outage_lamp())).returncode, 0, "data needs no trust")


class Shown(unittest.TestCase):
    def test_control_characters_are_shown(self) -> None:
        self.assertEqual(escape_controls("a\tb\nc é ع 点"), "a\tb\nc é ع 点")
        escaped = escape_controls(ESCAPE)
        self.assertEqual(escaped, "\\x1b[2J\\x1b]0;title\\x07\\x9b31m\\u202edrow")

    def test_what_commands_print(self) -> None:
        terminal = io.StringIO()
        terminal.isatty = lambda: True  # type: ignore[method-assign]
        with redirect_stdout(terminal), redirect_stderr(terminal):
            out.print_line(f"{out.paint('●', out.AMBER)} {ESCAPE}")
            out.print_table(["name", "note"], [[ESCAPE, f"two\nlines{ESCAPE}"]])
            out.print_json({"note": ESCAPE})
            out.print_json({"note": ESCAPE}, indent=None)
            out.show_error(BadRequest(ESCAPE, faults=[{"expected": ESCAPE}, {"expected": ESCAPE}], example={"a": ESCAPE}))
        printed = terminal.getvalue()
        for paint in ("\x1b[38;5;214m", "\x1b[38;5;167m", "\x1b[2m", "\x1b[0m"):
            printed = printed.replace(paint, "")
        self.assertNotRegex(printed, "[\x00-\x08\x0b-\x1f\x7f-\x9f]")
        self.assertIn("two\\nlines", printed)

    def test_what_the_log_says(self) -> None:
        import logging

        stream = io.StringIO()
        with mock.patch.object(logging, "basicConfig") as configured:
            set_up_logging(as_json=False)
        handler = configured.call_args.kwargs["handlers"][0]
        handler.setStream(stream)
        record = logging.LogRecord("lamppost.worker", logging.INFO, "x", 1, "moody (worker %d): %s", (7, f"{ESCAPE}\nforged line"), None)
        handler.emit(record)
        self.assertNotRegex(stream.getvalue(), "[\x00-\x08\x0b-\x1f\x7f-\x9f]")
        self.assertEqual(stream.getvalue().count("\n"), 1)
