"""Options that several commands which start a node have, and what they are read to."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import re
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated
from urllib.parse import urlsplit

import typer

from lamppost.core.errors import SetupError
from lamppost.runtime.confinement.control_groups import worker_groups
from lamppost.runtime.confinement.probe import ConfinementReport, measure_confinement
from lamppost.runtime.confinement.worker_home import WorkerRules
from lamppost.runtime.worker_pool import memory_of_all_workers
from lamppost.service.http.tls import TlsFiles

log = logging.getLogger("lamppost.workers")


PublicUrl = Annotated[
    list[str] | None, typer.Option(help="Address that people and programs use, such as https://lamps.example (may be repeated).")
]
TlsCert = Annotated[Path | None, typer.Option(help="Certificate chain (PEM) to answer over TLS with; read anew on SIGHUP.", metavar="FILE")]
TlsKey = Annotated[Path | None, typer.Option(help="Its private key (PEM).", metavar="FILE")]
Memory = Annotated[str | None, typer.Option(help="Memory that all models together may hold, such as 2GB [half of the machine's].")]
GrpcPort = Annotated[int | None, typer.Option(help="Port for gRPC; without this option there is no gRPC.", min=1, max=65535)]
AllowPickle = Annotated[bool, typer.Option("--allow-pickle", help="Open packages that are stored as pickle; a pickle can run code.")]
AllowCode = Annotated[bool, typer.Option("--allow-code", help="Open packages that carry Python code of their own.")]
Unconfined = Annotated[
    bool, typer.Option("--unconfined", help="Let packages reach what the service reaches: files, network, other processes.")
]
SignedBy = Annotated[
    list[Path] | None,
    typer.Option(help="Public key, one of which must have signed packages that can run code (may be repeated).", metavar="FILE"),
]
LogJson = Annotated[bool, typer.Option("--log-json", help="Log as lines of JSON.")]


def package_formats(allow_pickle: bool, allow_code: bool) -> frozenset[str]:
    """The formats of artifacts that may be opened."""
    return frozenset({"skops"} | ({"pickle", "torch"} if allow_pickle else set()) | ({"python"} if allow_code else set()))


def tls_files(cert: Path | None, key: Path | None) -> TlsFiles | None:
    """The files to answer over TLS with; None for plain HTTP."""
    return None if cert is None and key is None else TlsFiles(cert, key)


def read_secret(file: Path, option: str) -> str:
    """The one line of a file; raise SetupError if there is none."""
    try:
        secret = file.read_text(encoding="utf-8").strip()
    except (OSError, UnicodeDecodeError) as error:
        raise SetupError(f"{option} {file} cannot be read: {getattr(error, 'strerror', None) or error}") from error
    if not secret or len(secret.splitlines()) > 1:
        raise SetupError(f"{option} {file} holds {'nothing' if not secret else 'several lines'}; write one line")
    return secret


def byte_count(text: str, option: str) -> int:
    """Bytes of ``512MB``, ``2GB``."""
    size_match = re.fullmatch(r"(\d+(?:\.\d+)?) ?(k|M|G)B?", text.strip(), re.IGNORECASE)
    if size_match is None or float(size_match[1]) <= 0:
        raise SetupError(f"{option} {text} is no amount of bytes; write 512MB or 2GB")
    return int(float(size_match[1]) * {"K": 1e3, "M": 1e6, "G": 1e9}[size_match[2].upper()])


def public_address(text: str) -> str:
    """An address without a slash at its end; raise SetupError for what is none."""
    parts = urlsplit(text)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise SetupError(f"--public-url {text} is no address; write http:// or https:// and a name")
    return text.rstrip("/")


@contextlib.contextmanager
def worker_confines(folder: Path, data: Path, unconfined: bool, formats: frozenset[str]) -> Iterator[tuple[WorkerRules, ConfinementReport]]:
    """What workers of a node are confined to, and what of that was measured to be in force.

    folder : of workers. data : of the service, which they must not read.
    Raise SetupError where packages may run code and files would be open to them.
    """
    with worker_groups(memory_of_all_workers()) as groups:
        rules = WorkerRules(folder, data, not unconfined, groups)
        shutil.rmtree(folder, ignore_errors=True)  # of a service that was killed
        report = asyncio.run(measure_confinement(rules))
        if not report.files and rules.confined and formats != {"skops"}:
            raise SetupError(
                "packages that run code are allowed, and this kernel cannot keep them from the files of the service "
                "(Landlock is needed: Linux 5.13 or later, with landlock in /sys/kernel/security/lsm); start without --allow-code and "
                "--allow-pickle, or with --unconfined if you trust every package"
            )
        log.log(logging.INFO if report.files else logging.WARNING, "%s", report.summary)
        yield rules, report
