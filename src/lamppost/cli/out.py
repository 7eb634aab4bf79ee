"""Prints what commands tell: aligned columns, lamps, colour on a terminal only, JSON."""

from __future__ import annotations

import json
import os
import re
import shutil
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from typing import Any

from lamppost.core.errors import LampPostError
from lamppost.core.names import escape_controls

AMBER, SLATE, BRICK, DIM, BOLD, PLAIN = "38;5;214", "38;5;110", "38;5;167", "2", "1", "0"
_NARROWEST = 8
_PAINT = frozenset(f"\033[{colour}m" for colour in (AMBER, SLATE, BRICK, DIM, BOLD, PLAIN))
_PAINTED = re.compile(r"(\033\[[0-9;]*m)")
_C1 = re.compile("[\x7f-\x9f]")
"""Control characters that JSON leaves as they are, and that some terminals obey."""
LAMPS = {
    "serving": ("●", AMBER),
    "degraded": ("◐", AMBER),
    "asleep": ("○", SLATE),
    "opening": ("◌", SLATE),
    "down": ("⊖", BRICK),
    "silent": ("◐", AMBER),
    "restarting": ("◐", AMBER),
    "closed": ("⊖", BRICK),
    "barred": ("⊖", SLATE),
    "not joined": ("○", SLATE),
}
"""The picture of each state of an endpoint or a lane."""


def paint(text: str, colour: str, stream: Any = None) -> str:
    """The text in colour, where a person looks at it."""
    stream = stream or sys.stdout
    return f"\033[{colour}m{text}\033[0m" if stream.isatty() and _takes_colour() else text


def _takes_colour() -> bool:
    """Whether nobody asked for plain text, by ``NO_COLOR`` (no-color.org) or a terminal that has no colours."""
    return not os.environ.get("NO_COLOR") and os.environ.get("TERM") != "dumb"


def lamp(state: str) -> str:
    """Picture and word of the state of an endpoint or a lane."""
    glyph, colour = LAMPS[state]
    return f"{paint(glyph, colour)} {state}"


def print_line(text: str = "", stream: Any = None) -> None:
    """One line for people. Control characters in it are shown, but for the colours of `paint`: names and notes come from others."""
    print("".join(part if part in _PAINT else escape_controls(part) for part in _PAINTED.split(text)), file=stream, flush=True)


def print_json(value: Any, indent: int | None = 2) -> None:
    """A value for programs; on one line without an indent."""
    print(_C1.sub(lambda found: f"\\u{ord(found[0]):04x}", json.dumps(value, indent=indent, ensure_ascii=False, default=str)), flush=True)


def print_change(answer: dict[str, Any], as_json: bool, mark: tuple[str, str] = LAMPS["serving"]) -> None:
    """What a change did, and the command that takes it back if there is one. mark : picture and colour before the summary."""
    if as_json:
        print_json(answer)
        return
    print_line(f"{paint(*mark)} {answer['summary']}")
    if answer.get("undo"):
        print_line(paint(f"  undo: {answer['undo']}", DIM))


def print_done(text: str, value: Any, as_json: bool) -> None:
    """What was done, in a sentence for people or as a value for programs."""
    if as_json:
        print_json(value)
    else:
        print_line(text)


def short_json(value: Any, longest: int = 80) -> str:
    """JSON on one line for people: long texts, such as pictures in base64, and long lists are cut."""

    def cut(part: Any) -> Any:
        if isinstance(part, dict):
            return {key: cut(item) for key, item in part.items()}
        if isinstance(part, list):
            return [cut(item) for item in part[:8]] + (["…"] if len(part) > 8 else [])
        return f"{part[:longest]}…" if isinstance(part, str) and len(part) > longest else part

    return json.dumps(cut(value), ensure_ascii=False)


def print_table(head: Sequence[str], rows: Sequence[Sequence[str]], right: frozenset[str] = frozenset()) -> None:
    """Aligned columns; those named in ``right`` hold figures. On a terminal the widest columns of texts are cut until a line fits."""
    rows = [[cell.replace("\n", "\\n").replace("\t", "\\t") for cell in row] for row in rows]
    widths = [max([len(name), *(_width(row[i]) for row in rows)]) for i, name in enumerate(head)]

    if sys.stdout.isatty() and len(head) > 1:
        texts = [at for at, name in enumerate(head) if name not in right]
        widths = fitting_widths(widths, texts, shutil.get_terminal_size().columns)
        head = [_cut(name, width) for name, width in zip(head, widths, strict=True)]
        rows = [[_cut(cell, width) for cell, width in zip(row, widths, strict=True)] for row in rows]

    def line(cells: Sequence[str]) -> str:
        parts = []
        for cell, width, name in zip(cells, widths, head, strict=True):
            gap = " " * (width - _width(cell))
            parts.append(gap + cell if name in right else cell + gap)
        return "  ".join(parts).rstrip()

    print_line(paint(line(head), DIM))
    for row in rows:
        print_line(line(row))


def fitting_widths(widths: Sequence[int], texts: Sequence[int], room: int) -> list[int]:
    """Widths of columns, with two spaces between them, of which those in ``texts`` are cut, the widest first, down to eight characters.

    >>> fitting_widths([30, 12, 6], [0, 1], 40)
    [18, 12, 6]
    """
    fitted = list(widths)
    excess = sum(fitted) + 2 * (len(fitted) - 1) - room
    while excess > 0 and texts:
        widest = max(texts, key=lambda at: fitted[at])
        if fitted[widest] <= _NARROWEST:
            break
        fitted[widest] -= 1
        excess -= 1
    return fitted


def _cut(text: str, room: int) -> str:
    """A text of at most so many characters; colours of a cut text end where it ends."""
    if _width(text) <= room:
        return text
    parts, shown = [], 0
    for part in _PAINTED.split(text):
        if part in _PAINT:
            parts.append(part)
        else:
            parts.append(part[: max(0, room - 1 - shown)])
            shown += len(parts[-1])
    return "".join([*parts, "…"])


def _width(text: str) -> int:
    """Characters on screen: colour codes do not count."""
    shown, hidden = 0, False
    for character in text:
        if character == "\033":
            hidden = True
        elif hidden:
            hidden = character != "m"
        else:
            shown += 1
    return shown


@contextmanager
def transfer_progress(name: str, quiet: bool) -> Iterator[Callable[[int, int | None], None] | None]:
    """A bar for what is on its way, on a terminal only; gives what to tell bytes there and bytes in all, None where that is not known."""
    if quiet or not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TransferSpeedColumn

    columns = (TextColumn("{task.description}"), BarColumn(complete_style="color(214)"), DownloadColumn(), TransferSpeedColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as bars:
        task = bars.add_task(name, total=None)
        yield lambda there, whole: bars.update(task, completed=there, total=whole)


def time_ago(when: str) -> str:
    """A time as people say it: ``3 min ago``."""
    seconds = (datetime.now(UTC) - datetime.fromisoformat(when)).total_seconds()
    for size, unit in ((86_400, "d"), (3_600, "h"), (60, "min")):
        if seconds >= size:
            return f"{int(seconds // size)} {unit} ago"
    return "just now" if seconds < 10 else f"{int(seconds)} s ago"


def format_ms(value: float | None) -> str:
    """Milliseconds with three figures, or a dash."""
    if value is None:
        return "–"
    return f"{value:.0f}" if value >= 100 else f"{value:.1f}" if value >= 10 else f"{value:.2f}"


def show_error(error: LampPostError, as_json: bool = False) -> None:
    """An error for people: what, then each fault or difference on a line of its own, then a valid example; or as a problem document."""
    if as_json:
        print(json.dumps(error.to_problem(), ensure_ascii=False, default=str), file=sys.stderr, flush=True)
        return
    print_line(f"{paint('✗', BRICK, sys.stderr)} {error.detail}", sys.stderr)
    faults = error.extra.get("faults") or []
    if len(faults) > 1:
        for fault in faults[1:10]:
            place = ", ".join(part for part in (f"row {fault['row']}" if "row" in fault else "", fault.get("field", "")) if part)
            hint = f" ({fault['hint']})" if fault.get("hint") else ""
            print_line(f"  {place}: given {fault.get('given', '?')}, expected {fault['expected']}{hint}", sys.stderr)
    for difference in (error.extra.get("differences") or [])[1:6]:
        print_line(f"  {difference}", sys.stderr)
    if "example" in error.extra:
        print_line(f"  a valid example: {short_json(error.extra['example'])}", sys.stderr)
