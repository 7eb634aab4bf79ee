"""Command ``export``: writes a package in another form, after that was held against the package's own answers."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated

import typer

import lamppost
from lamppost.cli.lamp_files.shell import package_file
from lamppost.cli.out import AMBER, DIM, paint, print_json, print_line
from lamppost.cli.parameters import Address, AllowCode, AsJson
from lamppost.core.errors import BadRequest
from lamppost.core.extras import check_extra
from lamppost.core.names import closest_name, plain_name
from lamppost.core.quantities import format_bytes
from lamppost.package.read import read_lamp
from lamppost.packing.export.exporting import FORMS, SqlOptions, export_package

_ENDINGS = {"sql": "sql", "onnx": "onnx", "pmml": "pmml", "python": "py", "c": "c"}


def export(
    package: Annotated[str, typer.Argument(help="A lamp file, or a stored version.", metavar="FILE|MODEL@N")],
    form: Annotated[str, typer.Option("--as", help="sql, onnx, pmml, python, c, image or containerfile.", metavar="FORM")],
    to: Annotated[Path | None, typer.Option(help="Where the file goes [the model's name with the form's ending].", metavar="FILE")] = None,
    table: Annotated[
        str | None, typer.Option(help="For SQL: the table of the rows, as SQL writes it, or a query in brackets.", metavar="TABLE")
    ] = None,
    keep: Annotated[list[str] | None, typer.Option(help="For SQL: a column that goes along (may be repeated).", metavar="COLUMN")] = None,
    view: Annotated[str | None, typer.Option(help="For SQL: make a view of this name.", metavar="NAME")] = None,
    function: Annotated[
        str | None, typer.Option(help="For SQL: make a function of this name that takes the fields of a row.", metavar="NAME")
    ] = None,
    base: Annotated[
        Path | None, typer.Option(help="For an image: the image layout (a tar) that it stands on, with a Python.", metavar="FILE")
    ] = None,
    allow_code: AllowCode = False,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``export``."""
    if form in ("image", "containerfile"):
        if table is not None or function is not None or keep or view is not None:
            raise BadRequest(f"--table, --function, --keep and --view go with --as sql, and not with --as {form}")
        _export_image(package, form, to, base, allow_code, address, as_json)
        return
    if base is not None:
        raise BadRequest(f"--base goes with --as image, and not with --as {form}")
    chosen = next((one for one in FORMS if one == form), None)
    if chosen is None:
        known = (*FORMS, "image", "containerfile")
        like = closest_name(form, known)
        raise BadRequest(f"there is no form {form!r}" + (f"; did you mean {like}?" if like else f"; there are {', '.join(known)}"))
    if chosen == "sql" and (table is None) == (function is None):
        raise BadRequest("SQL needs the table of the rows with --table, or with --function the name of a function to make; one of both")
    if function is not None and (keep or view is not None):
        raise BadRequest("--keep and --view go with --table, and not with --function")
    if chosen != "sql" and (table is not None or function is not None or keep or view is not None):
        raise BadRequest(f"--table, --function, --keep and --view go with --as sql, and not with --as {chosen}")
    formats = frozenset({"skops"} | ({"pickle", "python", "torch"} if allow_code else set()))
    with tempfile.TemporaryDirectory(prefix="lamppost-export-") as folder:
        lamp = read_lamp(package_file(package, Path(folder), address))
        target = to or Path(f"{lamp.manifest.name}.{_ENDINGS[chosen]}")
        options = SqlOptions(_private_database, table, tuple(keep or ()), view, function) if chosen == "sql" else None
        made = export_package(lamp, chosen, target, formats, options, f"Lamp Post {lamppost.__version__}")
    if as_json:
        print_json({"path": str(target), "form": made.form, "size_bytes": made.size_bytes, "rows_checked": made.checked.rows,
                    "largest_difference": made.checked.largest})  # fmt: skip
        return
    print_line(f"{paint('●', AMBER)} {target}  {format_bytes(made.size_bytes)}")
    numbers = f"numbers differ by {made.checked.largest:.1g} at most" if made.checked.largest else "every number is the same"
    print_line(f"  {made.checked.rows:,} rows get the package's own answers from it; {numbers}")
    if made.form == "sql":
        print_line(paint("  rows that the service would refuse (out of range, of an unknown choice) are not refused here", DIM))


def _export_image(
    package: str, form: str, to: Path | None, base: Path | None, allow_code: bool, address: str | None, as_json: bool
) -> None:
    """Write an image, or a Containerfile for those who have an engine."""
    from lamppost.packing.image.containerfile import write_containerfile
    from lamppost.packing.image.writing import write_package_image

    if form == "image" and base is None:
        raise BadRequest("an image stands on another one: name its image layout (a tar) with --base, or take --as containerfile")
    if form == "containerfile" and base is not None:
        raise BadRequest("--base goes with --as image; a Containerfile names its base itself")
    formats = frozenset({"skops"} | ({"pickle", "python", "torch"} if allow_code else set()))
    with tempfile.TemporaryDirectory(prefix="lamppost-export-") as folder:
        lamp = read_lamp(package_file(package, Path(folder), address))
        name = lamp.manifest.name
        if form == "containerfile":
            target = to or Path(f"{name}.Containerfile")
            target.write_text(write_containerfile(lamp.manifest, f"{name}.lamp", lamppost.__version__))
            facts: dict[str, object] = {"path": str(target), "form": form, "size_bytes": target.stat().st_size}
            lines = [f"it copies {name}.lamp, which has to lie beside it; nothing was run: there may be no engine here"]
        else:
            assert base is not None
            target = to or Path(f"{name}.tar")
            reference = plain_name(package) if "@" not in package else package.replace("@", ":")
            made = write_package_image(lamp, base, reference, formats, target)
            facts = {"path": str(target), "form": form, "size_bytes": made.size_bytes, "digest": made.digest,
                     "rows_checked": made.checked.rows, "largest_difference": made.checked.largest}  # fmt: skip
            lines = [
                f"{reference}, {made.digest[:19]}…, {format_bytes(made.added_bytes)} beside its base",
                f"{made.checked.rows:,} rows get the package's own answers from what it adds, run here",
            ]
    if as_json:
        print_json(facts)
        return
    print_line(f"{paint('●', AMBER)} {target}  {format_bytes(target.stat().st_size)}")
    for line in lines:
        print_line(f"  {line}")


@contextlib.contextmanager
def _private_database() -> Iterator[str]:
    """A PostgreSQL that is there as long as the block."""
    check_extra("service")
    from lamppost.store.postgres import PrivateServer

    with tempfile.TemporaryDirectory(prefix="lamppost-sql-") as folder:
        Path(folder).chmod(0o711)  # the server is another user where this one is root
        server = PrivateServer(Path(folder) / "data", durable=False)
        try:
            yield server.start()
        finally:
            server.stop()
