"""Arguments and options that several commands share."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

Address = Annotated[str | None, typer.Option(help="Address of the service [from the client's file, else http://127.0.0.1:8420].")]
AsJson = Annotated[bool, typer.Option("--json", help="Print JSON for programs.")]
Endpoint = Annotated[str, typer.Argument(help="The endpoint.")]
AllowCode = Annotated[
    bool, typer.Option("--allow-code", help="Load files that can run code (pickles, Python modules, PyTorch programs): they are trusted.")
]
LampFile = Annotated[Path, typer.Argument(help="The lamp file.", metavar="FILE")]
BreakCallers = Annotated[bool, typer.Option("--anyway", help="Make the change although it would refuse calls like those of the last hour.")]
Override = Annotated[str | None, typer.Option(help="Skip the review, for this reason (admins only).", metavar="REASON")]
Since = Annotated[str | None, typer.Option(help="Start, such as 2026-05-01 or 2026-05-01T20:00Z.", metavar="TIME")]
Until = Annotated[str | None, typer.Option(help="End [now].", metavar="TIME")]
Sticky = Annotated[
    str | None, typer.Option(help="Keep callers with their version by header:NAME, field:NAME or option:NAME.", metavar="BY:NAME")
]
