"""Bulk runs from Python: files are brought to the service and fetched from it, and a run is an object that can be waited for."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any, BinaryIO, Protocol

import anyio
import httpx

from lamppost.client.calls import Call, Progress, checked_json, fetch
from lamppost.client.replies import reply_of
from lamppost.client.values import Request
from lamppost.core.errors import BadRequest, LampPostError
from lamppost.core.names import plain_name

_PIECE_BYTES = 4 * 2**20
_POLL_S = 0.5
_READ_S = 600.0
_PLACE = re.compile(r"([a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?:.+|[a-z0-9]+://.+)", re.DOTALL)

Follow = Callable[[dict[str, Any]], object]
"""Called with what the service says of a run, whenever it was asked."""


class RunClient(Protocol):
    """What a run needs of the client that started it."""

    @property
    def connection_options(self) -> Mapping[str, Any]:
        """Options for another HTTP client to the same service."""

    def fetch(self, method: str, path: str, json: Any = None, **params: Any) -> Any:
        """Any call of the API."""


class AsyncRunClient(Protocol):
    """The same for asyncio."""

    @property
    def connection_options(self) -> Mapping[str, Any]:
        """Options for another HTTP client to the same service."""

    async def fetch(self, method: str, path: str, json: Any = None, **params: Any) -> Any:
        """Any call of the API."""


def is_place(text: str | Path) -> bool:
    """Whether a text names a place on the service, ``town:lamps.parquet`` or a URL, and not a file of this machine."""
    return isinstance(text, str) and _PLACE.fullmatch(text) is not None


def upload(file: BinaryIO, name: str, size: int, progress: Progress | None = None) -> Call[str]:
    """Bring a file to the service, piece by piece; returns how an order names it."""
    begun = yield from fetch("POST", "/api/uploads", {"file_name": name})
    sent = 0
    while piece := file.read(_PIECE_BYTES):
        headers = {"content-type": "application/octet-stream"}
        checked_json((yield Request("PUT", f"/api/uploads/{begun['id']}", piece, {"at": sent}, headers)))
        sent += len(piece)
        if progress is not None:
            progress(sent, size)
    return str(begun["source"])


def make_order(
    of: str | Sequence[str] | Mapping[str, str], source: str, target: str | None, options: Mapping[str, Any] | None, more: Mapping[str, Any]
) -> dict[str, Any]:
    """The body of an order. of : one endpoint or version, several, or several with names of their own."""
    given = of if isinstance(of, Mapping) else {plain_name(one): one for one in ([of] if isinstance(of, str) else of)}
    questions = [{"of": one, "options": dict(options or {}), **({"name": name} if len(given) > 1 else {})} for name, one in given.items()]
    return {"questions": questions, "source": source, **({"target": target} if target else {}), **more}


def start(order: Mapping[str, Any]) -> Call[dict[str, Any]]:
    """Start a run."""
    return fetch("POST", "/api/bulk", dict(order))


def source_file(source: str | Path) -> Path | None:
    """The file of this machine that a source is; None for a place on the service. Raise BadRequest for a file that is not there."""
    if is_place(source):
        return None
    path = Path(source)
    if not path.is_file():
        raise BadRequest(f"there is no file {path}; name one, or a place on the service: FOLDER:PATH, SOURCE:TABLE, or a URL")
    return path


def require_finished(run: Mapping[str, Any]) -> None:
    """Raise LampPostError for a run that has ended otherwise."""
    if run["state"] != "finished":
        raise LampPostError(f"the bulk run {run['name']} is {run['state']}: {run['reason'] or 'nobody said why'}", run=run["name"])


def download_file(options: Mapping[str, Any], path: str, to: Path, progress: Progress | None = None) -> Path:
    """Write what the service sends to a file, whole or not at all. options : of the HTTP client."""
    part = to.with_name(f".{to.name}.part")
    try:
        with httpx.Client(**{**options, "timeout": httpx.Timeout(_READ_S, connect=5.0)}) as http, http.stream("GET", path) as response:
            if response.status_code != 200:
                response.read()
                checked_json(reply_of(response))
            whole = int(response.headers.get("content-length", 0)) or None
            size = 0
            with part.open("wb") as file:
                for piece in response.iter_bytes():
                    file.write(piece)
                    size += len(piece)
                    if progress is not None:
                        progress(size, whole)
        return part.replace(to)
    except OSError as error:
        raise LampPostError(f"{to} cannot be written: {error.strerror or error}") from error
    except httpx.HTTPError as error:
        raise LampPostError(f"{path} broke off ({error}), and nothing of it was kept; try again") from error
    finally:
        part.unlink(missing_ok=True)


class BulkRun:
    """A run on the service. name : of it. facts : what the service said when it was last asked.

    >>> run = client.bulk("outage-risk", "lamps.parquet")          # doctest: +SKIP
    >>> run.wait().download("scored.parquet")                       # doctest: +SKIP
    """

    def __init__(self, client: RunClient, facts: dict[str, Any]) -> None:
        self._client = client
        self.facts = facts
        self.name = str(facts["name"])

    @property
    def state(self) -> str:
        """The state that the run was last known to be in."""
        return str(self.facts["state"])

    def refresh(self) -> dict[str, Any]:
        """Ask how far the run is. What its answers are, and how its rows differ, is for ``client.fetch("GET", "/api/bulk/NAME")``."""
        self.facts = self._client.fetch("GET", f"/api/bulk/{self.name}/progress")
        return self.facts

    def wait(self, follow: Follow | None = None) -> BulkRun:
        """Wait until the run has ended; raise LampPostError with the reason unless it has finished."""
        while self.refresh()["ended_at"] is None:
            if follow is not None:
                follow(self.facts)
            time.sleep(_POLL_S)
        if follow is not None:
            follow(self.facts)
        require_finished(self.facts)
        return self

    def stop(self) -> None:
        """Stop the run; `resume` goes on with it."""
        self.facts = self._client.fetch("POST", f"/api/bulk/{self.name}/stop")

    def resume(self, most_rejects: float | None = None) -> BulkRun:
        """Go on with a run that was stopped or failed, where it was. most_rejects : another bound."""
        self.facts = self._client.fetch("POST", f"/api/bulk/{self.name}/resume", {"most_rejects": most_rejects})
        return self

    def download(self, to: str | Path, progress: Progress | None = None) -> Path:
        """Write the output of a run whose order named no target to a file of this machine; returns its path."""
        return download_file(self._client.connection_options, f"/api/bulk/{self.name}/output", Path(to), progress)

    def download_rejects(self, to: str | Path) -> Path:
        """Write the rows that were left out, each with its fault, to a file of this machine; returns its path."""
        return download_file(self._client.connection_options, f"/api/bulk/{self.name}/rejects", Path(to))


class AsyncBulkRun:
    """`BulkRun` for asyncio."""

    def __init__(self, client: AsyncRunClient, facts: dict[str, Any]) -> None:
        self._client = client
        self.facts = facts
        self.name = str(facts["name"])

    @property
    def state(self) -> str:
        """See `BulkRun.state`."""
        return str(self.facts["state"])

    async def refresh(self) -> dict[str, Any]:
        """See `BulkRun.refresh`."""
        self.facts = await self._client.fetch("GET", f"/api/bulk/{self.name}/progress")
        return self.facts

    async def wait(self, follow: Follow | None = None) -> AsyncBulkRun:
        """See `BulkRun.wait`."""
        while (await self.refresh())["ended_at"] is None:
            if follow is not None:
                follow(self.facts)
            await anyio.sleep(_POLL_S)
        if follow is not None:
            follow(self.facts)
        require_finished(self.facts)
        return self

    async def stop(self) -> None:
        """See `BulkRun.stop`."""
        self.facts = await self._client.fetch("POST", f"/api/bulk/{self.name}/stop")

    async def resume(self, most_rejects: float | None = None) -> AsyncBulkRun:
        """See `BulkRun.resume`."""
        self.facts = await self._client.fetch("POST", f"/api/bulk/{self.name}/resume", {"most_rejects": most_rejects})
        return self

    async def download(self, to: str | Path, progress: Progress | None = None) -> Path:
        """See `BulkRun.download`."""
        path = f"/api/bulk/{self.name}/output"
        return await anyio.to_thread.run_sync(download_file, self._client.connection_options, path, Path(to), progress)

    async def download_rejects(self, to: str | Path) -> Path:
        """See `BulkRun.download_rejects`."""
        path = f"/api/bulk/{self.name}/rejects"
        return await anyio.to_thread.run_sync(download_file, self._client.connection_options, path, Path(to))
