"""Commands ``backup`` and ``restore``."""

from __future__ import annotations

import zipfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer

from lamppost.cli.out import DIM, paint, print_json, print_line, transfer_progress
from lamppost.cli.parameters import Address, AsJson
from lamppost.client import Client
from lamppost.core.backup import ABOUT, DUMP, SETTINGS, read_about
from lamppost.core.errors import BadRequest
from lamppost.core.quantities import format_bytes


def backup(
    to: Annotated[Path | None, typer.Option(help="Where the file goes [lamppost-DATE.backup].", metavar="FILE")] = None,
    records: Annotated[bool, typer.Option("--records/--no-records", help="Put recorded calls and outcomes into it.")] = True,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``backup``."""
    file = to or Path(f"lamppost-{datetime.now(UTC):%Y-%m-%d}.backup")
    with Client(address) as client, transfer_progress(f"writing {file.name}", as_json) as progress:
        client.backup(file, records, progress)
    size = file.stat().st_size
    if as_json:
        print_json({"path": str(file), "size_bytes": size, "records": records})
        return
    print_line(f"{file}  {format_bytes(size)}{'' if records else ', without recorded calls'}")
    print_line(paint(f"  put it back with: lamppost restore {file} --data FOLDER", DIM))


def restore(
    file: Annotated[Path, typer.Argument(help="A backup.")],
    data: Annotated[Path, typer.Option(help="Data folder of the service, which must not be running.")] = Path(".lamppost"),
    database: Annotated[
        str | None, typer.Option(help="URL of the PostgreSQL to restore into, instead of the private one.", envvar="LAMPPOST_DATABASE")
    ] = None,
    replace: Annotated[bool, typer.Option("--replace", help="Lose the models and endpoints that are there now.")] = False,
    as_json: AsJson = False,
) -> None:
    """Command ``restore``."""
    from lamppost.cli.node.data_folder import database_url, only_one
    from lamppost.service.deployment.node_memory import FILE as MEMORY_FILE
    from lamppost.store.backup import restore_database

    data = data.resolve()
    try:
        with zipfile.ZipFile(file) as archive, archive.open(DUMP) as dump:
            about = read_about(archive.read(ABOUT))
            settings = archive.read(SETTINGS).decode()
            with only_one(data), database_url(database, data) as url:
                revoked = restore_database(url, dump, database is None, replace)
                (data / MEMORY_FILE).unlink(missing_ok=True)  # what was served before is not what is restored
    except FileNotFoundError as error:
        raise BadRequest(f"there is no file {file}") from error
    except (zipfile.BadZipFile, KeyError, OSError) as error:
        raise BadRequest(f"{file} is damaged, or is no backup of Lamp Post ({error}); nothing was changed") from error
    if as_json:
        print_json({"made_at": about.made_at.isoformat(), "lamppost": about.lamppost, "records": about.records, "revoked_again": revoked})
        return
    print_line(f"restored the backup of {about.made_at:%Y-%m-%d %H:%M} UTC, made by Lamp Post {about.lamppost}")
    if revoked:
        print_line(f"  {revoked} tokens that were revoked since stay revoked")
    print_line(paint("  tokens that were revoked after the backup, and are unknown here, are in force again: lamppost token list", DIM))
    if settings.strip():
        print_line(paint("  the service was started with these settings:", DIM))
        for line in settings.strip().splitlines():
            print_line(f"    {line}")
