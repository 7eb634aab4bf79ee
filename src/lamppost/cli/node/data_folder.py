"""The data folder of a service: one service at a time uses it, and its private PostgreSQL runs meanwhile."""

from __future__ import annotations

import fcntl
import os
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from lamppost.core.errors import SetupError
from lamppost.store.postgres import PrivateServer, keep_running


@contextmanager
def only_one(data: Path) -> Iterator[None]:
    """One service a data folder."""
    try:
        data.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise SetupError(f"{data} cannot be the data folder ({error.strerror}); give a folder with --data") from error
    with (data / "lock").open("a+") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError as error:
            file.seek(0)
            raise SetupError(
                f"a service (process {file.read().strip() or '?'}) runs in {data} already; stop it, or choose another folder with --data"
            ) from error
        file.truncate(0)
        file.write(str(os.getpid()))
        file.flush()
        yield


@contextmanager
def database_url(database: str | None, data: Path) -> Iterator[str]:
    """The URL of the database: the one given, or that of a private server that ends with us."""
    if database:
        yield database
        return
    server = PrivateServer(data, durable=os.environ.get("LAMPPOST_DURABLE", "1") != "0")
    ended = threading.Event()
    keeper = threading.Thread(target=keep_running, args=(server, ended), name="keeper of PostgreSQL", daemon=True)
    try:
        url = server.start()
        keeper.start()
        yield url
    finally:
        ended.set()
        if keeper.is_alive():
            keeper.join()
        server.stop()
