"""Shows the stages of packing while it works: a bar in a terminal or a notebook, nothing where nobody looks."""

from __future__ import annotations

import sys
from types import TracebackType
from typing import Literal, Self, get_args

Stage = Literal[
    "reading the frame",
    "asking the model",
    "making the proof",
    "describing the training",
    "measuring what it learned",
    "looking for mistakes",
    "proving it",
]


class Stages:
    """Use it as a context; `begin` names what begins. shown : whether there is a bar."""

    def __init__(self, shown: bool = False) -> None:
        self._shown = shown
        self._begun: list[Stage] = []
        self._bar: object = None

    def begin(self, stage: Stage) -> None:
        """The stage before has ended."""
        if self._shown:
            self._show(stage)
        self._begun.append(stage)

    def _show(self, stage: Stage) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

        if not isinstance(self._bar, Progress):
            columns = (TextColumn("{task.description}"), BarColumn(), TimeElapsedColumn())
            self._bar = Progress(*columns, console=Console(stderr=True), transient=True)
            self._bar.add_task(stage, total=len(get_args(Stage)))
            self._bar.start()
        self._bar.update(self._bar.task_ids[0], description=stage, completed=len(self._begun))

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        stop = getattr(self._bar, "stop", None)
        if stop is not None:
            stop()


def somebody_looks() -> bool:
    """Whether this is a terminal or a notebook."""
    return sys.stderr.isatty() or "ipykernel" in sys.modules
