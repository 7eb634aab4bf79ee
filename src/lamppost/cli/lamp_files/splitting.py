"""Command ``split-package``."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from lamppost.cli.lamp_files.packages import require_trusted_package
from lamppost.cli.out import AMBER, DIM, paint, print_json, print_line
from lamppost.cli.parameters import AllowCode, AsJson, LampFile
from lamppost.core.names import plain_name
from lamppost.core.quantities import format_bytes
from lamppost.package.read import read_lamp
from lamppost.packing.splitting import split_package as split


def split_package(
    file: LampFile,
    at: Annotated[str, typer.Option(help="Column at which to split: the steps up to the one that gives it are the first half.")],
    first: Annotated[Path | None, typer.Option(help="File for the first half [NAME-until-COLUMN.lamp].", metavar="FILE")] = None,
    second: Annotated[Path | None, typer.Option(help="File for the second half [NAME-from-COLUMN.lamp].", metavar="FILE")] = None,
    allow_code: AllowCode = False,
    as_json: AsJson = False,
) -> None:
    """Command ``split-package``."""
    lamp = read_lamp(file)
    require_trusted_package(lamp, str(file), allow_code)
    name, column = lamp.manifest.name, plain_name(at) or "cut"
    names = (f"{name}-until-{column}", f"{name}-from-{column}")
    first, second = first or file.with_name(f"{names[0]}.lamp"), second or file.with_name(f"{names[1]}.lamp")
    halves = split(lamp, at, first, second, names, frozenset({"skops"}) | lamp.manifest.formats)
    if as_json:
        print_json(
            {
                "crossing": list(halves.crossing.names),
                "notes": list(halves.notes),
                "halves": [
                    {"name": half.manifest.name, "file": str(half.path), "digest": half.digest, "size_bytes": half.size_bytes}
                    for half in (halves.first, halves.second)
                ],
            }
        )
        return
    for half in (halves.first, halves.second):
        takes, gives = (", ".join(schema.names) for schema in (half.manifest.inputs, half.manifest.answers))
        print_line(f"{paint(half.manifest.name, AMBER)}  {half.path}, {format_bytes(half.size_bytes)}: takes {takes}, gives {gives}")
    print_line(f"both proved: {len(halves.first.proof.rows)} rows through the two give what training gave")
    for note in halves.notes:
        print_line(paint(f"  {note}", DIM))
    print_line("once both are pushed, and the second serves an endpoint of its own, this setup asks them together:")
    print_line(f'  [together]\n  parts = {{first = "{names[0]}@1"}}\n  combine = "grpc://SERVICE/{names[1]}"')
