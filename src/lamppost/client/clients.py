"""The synchronous and the asynchronous client, two thin drivers of the generators in `lamppost.client.calls`."""

from __future__ import annotations

import asyncio
import io
import os
import ssl
import time
from collections.abc import Iterable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from types import TracebackType
from typing import Any, BinaryIO, Protocol, Self, TypeVar
from urllib.parse import urlsplit

import anyio
import httpx

from lamppost.client import bulk, calls, questions
from lamppost.client.asking import AsyncClientQuestions, ClientQuestions
from lamppost.client.backup import write_backup
from lamppost.client.bulk import AsyncBulkRun, BulkRun
from lamppost.client.calls import Call, Progress
from lamppost.client.config import find_connection
from lamppost.client.repeating import wait_before_repeat
from lamppost.client.replies import reply_of
from lamppost.client.rows import Row
from lamppost.client.values import Prediction, Reply, Request
from lamppost.core.errors import BadRequest, LampPostError, ServerUnreachable

T = TypeVar("T")


_OPENING_S = 300.0
REPEATS = 2
PUSHES_AT_ONCE = 8
_LOST = (httpx.ReadError, httpx.WriteError, httpx.CloseError, httpx.RemoteProtocolError)
"""A connection that ended before the answer was there, such as a kept one that a balancer has just closed."""
_THIS_MACHINE = ("localhost", "127.0.0.1", "::1")


class PackedFile(Protocol):
    """What `lamppost.pack` returns, as far as pushing it goes."""

    @property
    def path(self) -> Path:
        """Where the lamp file lies."""


def _httpx_request(client: httpx.Client | httpx.AsyncClient, request: Request) -> httpx.Request:
    return client.build_request(
        request.method,
        request.path,
        params=dict(request.params) or None,
        headers=dict(request.headers),
        timeout=_patience(client.timeout, request),
        content=request.content,
    )


def _patience(usual: httpx.Timeout, request: Request) -> httpx.Timeout:
    """A change of an endpoint may open versions for the first time: each is loaded, proven and measured before the answer."""
    if request.method == "GET" or not request.path.startswith("/api/endpoints/") or usual.read is None:
        return usual
    return httpx.Timeout(connect=usual.connect, read=max(usual.read, _OPENING_S), write=usual.write, pool=usual.pool)


def _write_whole(to: Path, content: bytes) -> Path:
    part = to.with_name(f".{to.name}.part")
    part.write_bytes(content)
    return part.replace(to)


def _translated(error: httpx.HTTPError | httpx.InvalidURL, address: str) -> LampPostError:
    """Foreign errors become ours, here and nowhere else."""
    if isinstance(error, httpx.TimeoutException):
        return ServerUnreachable(f"{address} did not answer in time ({type(error).__name__})")
    if isinstance(error, httpx.InvalidURL | httpx.UnsupportedProtocol):
        return ServerUnreachable(f"{address!r} is no address; it looks like http://127.0.0.1:8420")
    return ServerUnreachable(f"nothing answers at {address} ({error}); is it running? Start it with: lamppost up")


def _options(address: str | None, token: str | None, timeout_s: float, ca: str | Path | None) -> dict[str, Any]:
    connection = find_connection(address, token)
    headers = {"authorization": f"Bearer {connection.token}"} if connection.token else {}
    return {
        "base_url": connection.address,
        "headers": headers,
        "timeout": httpx.Timeout(timeout_s, connect=5.0),
        "trust_env": urlsplit(connection.address).hostname not in _THIS_MACHINE,  # proxies lead elsewhere
        "verify": _certificates(connection.address, ca),
    }


def _certificates(address: str, ca: str | Path | None) -> ssl.SSLContext | bool:
    """What a service's certificate is checked with. Plain HTTP need not wait the 80 ms that loading takes."""
    if address.lower().startswith("http://"):
        return False
    given = ca or os.environ.get("SSL_CERT_FILE")
    if given is None:
        return True
    try:
        return ssl.create_default_context(cafile=str(given))
    except (OSError, ssl.SSLError) as error:
        raise BadRequest(f"the certificates in {given} cannot be read ({error}); give a file in PEM format") from error


class Client(ClientQuestions):
    """Asks a Lamp Post service.

    address, token : taken from the environment or the client's own file where left out. timeout_s : for each call, in seconds;
    changes of endpoints may take 300, because they open versions. repeats : how many times a prediction or a question is sent again where
    the service says with status 503 that it should be, or where the connection is lost. ca : file with the certificates (PEM) that the
    service's own is checked with [the system's, or those in ``SSL_CERT_FILE``]. Proxies are taken from the environment, but for services
    on this machine.
    Every method raises a `lamppost.LampPostError`.

    >>> with Client() as client:                                   # doctest: +SKIP
    ...     client.predict("outage-risk", {"age_years": 12.0, …}).answer["label"]
    """

    def __init__(
        self,
        address: str | None = None,
        token: str | None = None,
        timeout_s: float = 60.0,
        repeats: int = REPEATS,
        ca: str | Path | None = None,
    ) -> None:
        self._options = _options(address, token, timeout_s, ca)
        self._http = httpx.Client(**self._options)
        self._repeats = repeats

    def predict(self, endpoint: str, rows: Any, options: Row | None = None, headers: Mapping[str, str] | None = None) -> Prediction:
        """Answers to one row (a mapping, or a Series) or to several: an iterable of mappings, a data frame, an Arrow table, an array with
        named columns, or the path of a file of CSV, NDJSON or Arrow.

        A picture is given as the bytes of its file, a time as a datetime with an offset, a tensor as lists or an array. options : named
        parameters of the call. headers : one may choose a version.
        """
        return self._run(calls.predict(endpoint, rows, options, headers))

    def push(self, file: str | Path | PackedFile, model: str | None = None, progress: Progress | None = None) -> dict[str, Any]:
        """Push a lamp file, or what `lamppost.pack` returned, as the next version of its model.

        Returns version, digest, and whether it is new.

        What the service has already, of this file or of earlier versions, is not sent. progress : called with bytes there and in all.
        """
        with _opened(file) as content:
            return self._run(calls.push(content, model, progress))

    def push_all(
        self, files: Iterable[str | Path | PackedFile], progress: Progress | None = None, at_once: int = PUSHES_AT_ONCE
    ) -> list[dict[str, Any]]:
        """Push many lamp files, some at the same time; returns what `push` returns for each, in their order.

        Raise the first error; files before it are stored, and pushing all of them again stores only what is missing.
        progress : called with files that are there and files in all.
        """
        wanted = list(files)
        done = 0
        answers = []
        with ThreadPoolExecutor(at_once) as pool:
            try:
                for answer in pool.map(self.push, wanted):
                    answers.append(answer)
                    done += 1
                    if progress is not None:
                        progress(done, len(wanted))
            finally:
                pool.shutdown(wait=True, cancel_futures=True)
        return answers

    def download(self, version: str, to: str | Path) -> Path:
        """Write the lamp file of ``model@number`` to disk, whole or not at all; returns the path."""
        return _write_whole(Path(to), self._run(questions.download(version)))

    def backup(self, to: str | Path, records: bool = True, progress: Progress | None = None) -> Path:
        """Write a backup of the service to a file, whole or not at all, which ``lamppost restore`` puts back; returns its path. Needs an
        admin's token. records : whether recorded calls and outcomes are in it. progress : called with bytes there and None.
        """
        return write_backup(self._options, Path(to), records, progress)

    def bulk(
        self,
        of: str | Sequence[str] | Mapping[str, str],
        source: str | Path,
        target: str | None = None,
        options: Row | None = None,
        progress: Progress | None = None,
        **settings: Any,
    ) -> BulkRun:
        """Score a file or table as a whole; returns the run, which can be waited for. Needs an operator's token.

        of : an endpoint or a version, several, or several by names of their own. source : a file of this machine, which is brought to the
        service, or a place on the service: ``town:lamps.parquet``, ``city:SELECT …``, a URL. target : a place there; None to download the
        output later. progress : called with bytes brought and in all. settings : ``keep``, ``columns``, ``most_rejects``,
        ``rows_per_second``, ``key``, ``replace``, ``source_format``, ``target_format``, ``delimiter``, ``name``.
        """
        if (file := bulk.source_file(source)) is not None:
            with _opened(file) as content:
                source = self._run(bulk.upload(content, file.name, file.stat().st_size, progress))
        return BulkRun(self, self._run(bulk.start(bulk.make_order(of, str(source), target, options, settings))))

    @property
    def connection_options(self) -> Mapping[str, Any]:
        """Options for another HTTP client to the same service."""
        return self._options

    def compare(self, before: str, after: str) -> dict[str, Any]:
        """What changed from ``model@1`` to ``model@2``, and whether it would break callers."""
        compared: dict[str, Any] = self.fetch("GET", "/api/compare", before=before, after=after)
        return compared

    def point(self, endpoint: str, version: str | Row, break_callers: bool = False, override: str | None = None) -> dict[str, Any]:
        """Make an endpoint serve ``model@number``, or what `push` returned; returns what changed and how to undo it.

        Raise Conflict when callers of the last hour would be refused, unless ``break_callers``, and when a review lacks, unless an admin
        gives a reason to ``override`` it.
        """
        return self._run(calls.point(endpoint, version, break_callers, override))

    def set_up(
        self, endpoint: str, setup: Mapping[str, Any], after: int | None = None, break_callers: bool = False, override: str | None = None
    ) -> dict[str, Any]:
        """Give an endpoint a whole setup: one version or several, shares, shadows, look-ups. after : the revision it was thought out
        against.
        """
        return self._run(calls.set_up(endpoint, setup, after, break_callers, override))

    def rollback(self, endpoint: str, note: str | None = None) -> dict[str, Any]:
        """Serve again what was served before, at once; twice in a row goes back twice."""
        return self._run(calls.rollback(endpoint, note))

    def roll_out(
        self,
        endpoint: str,
        version: str,
        plan: Mapping[str, Any] | None = None,
        sticky: Mapping[str, str] | None = None,
        break_callers: bool = False,
        override: str | None = None,
    ) -> dict[str, Any]:
        """Move an endpoint to a version step by step; it goes back by itself when a guard says so.

        plan : steps and guards, None for the endpoint's own. sticky : ``{"by": "header", "name": "customer"}`` keeps callers with
        their version.
        """
        return self._run(calls.roll_out(endpoint, version, plan, sticky, break_callers, override))

    def record_outcome(self, endpoint: str, request_id: str, truth: Any, row: int = 0) -> dict[str, Any]:
        """Report the truth about an earlier answer: ``client.record_outcome("outage-risk", answer.request_id, "holds")``."""
        return self._run(calls.record_outcome(endpoint, request_id, truth, row))

    def fetch_bytes(self, path: str, **params: Any) -> bytes:
        """Any call whose answer is no JSON, such as a report, or the trail as NDJSON."""
        return self._run(calls.fetch_bytes(path, **params))

    def fetch(self, method: str, path: str, json: Any = None, **params: Any) -> Any:
        """Any other call of the API: ``client.fetch("GET", "/api/endpoints")``."""
        return self._run(calls.fetch(method, path, json, **params))

    def close(self) -> None:
        """Close the connections."""
        self._http.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        self.close()

    def _send(self, request: Request) -> Reply:
        left = self._repeats
        while True:
            try:
                reply = reply_of(self._http.send(_httpx_request(self._http, request)))
            except _LOST as error:
                if (wait_s := wait_before_repeat(request, error, left)) is None:
                    raise
            else:
                if (wait_s := wait_before_repeat(request, reply, left)) is None:
                    return reply
            left -= 1
            time.sleep(wait_s)

    def _run(self, call: Call[T]) -> T:
        try:
            request = next(call)
            while True:
                request = call.send(self._send(request))
        except StopIteration as done:
            result: T = done.value
            return result
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise _translated(error, str(self._http.base_url)) from error


class AsyncClient(AsyncClientQuestions):
    """`Client` for asyncio: the same methods, awaited."""

    def __init__(
        self,
        address: str | None = None,
        token: str | None = None,
        timeout_s: float = 60.0,
        repeats: int = REPEATS,
        ca: str | Path | None = None,
    ) -> None:
        self._options = _options(address, token, timeout_s, ca)
        self._http = httpx.AsyncClient(**self._options)
        self._repeats = repeats

    async def predict(self, endpoint: str, rows: Any, options: Row | None = None, headers: Mapping[str, str] | None = None) -> Prediction:
        """See `Client.predict`."""
        return await self._run(calls.predict(endpoint, rows, options, headers))

    async def push(self, file: str | Path | PackedFile, model: str | None = None, progress: Progress | None = None) -> dict[str, Any]:
        """See `Client.push`; the file is held in memory meanwhile."""
        content = await anyio.to_thread.run_sync(lambda: _opened(file).read())
        return await self._run(calls.push(io.BytesIO(content), model, progress))

    async def push_all(
        self, files: Iterable[str | Path | PackedFile], progress: Progress | None = None, at_once: int = PUSHES_AT_ONCE
    ) -> list[dict[str, Any]]:
        """See `Client.push_all`."""
        wanted = list(files)
        answers: list[dict[str, Any]] = []
        for start in range(0, len(wanted), at_once):
            answers += await asyncio.gather(*(self.push(file) for file in wanted[start : start + at_once]))
            if progress is not None:
                progress(len(answers), len(wanted))
        return answers

    async def download(self, version: str, to: str | Path) -> Path:
        """See `Client.download`."""
        return await anyio.to_thread.run_sync(_write_whole, Path(to), await self._run(questions.download(version)))

    async def backup(self, to: str | Path, records: bool = True, progress: Progress | None = None) -> Path:
        """See `Client.backup`."""
        return await anyio.to_thread.run_sync(write_backup, self._options, Path(to), records, progress)

    async def bulk(
        self,
        of: str | Sequence[str] | Mapping[str, str],
        source: str | Path,
        target: str | None = None,
        options: Row | None = None,
        progress: Progress | None = None,
        **settings: Any,
    ) -> AsyncBulkRun:
        """See `Client.bulk`."""
        if (file := bulk.source_file(source)) is not None:
            with _opened(file) as content:
                source = await self._run(bulk.upload(content, file.name, file.stat().st_size, progress))
        return AsyncBulkRun(self, await self._run(bulk.start(bulk.make_order(of, str(source), target, options, settings))))

    @property
    def connection_options(self) -> Mapping[str, Any]:
        """See `Client.connection_options`."""
        return self._options

    async def compare(self, before: str, after: str) -> dict[str, Any]:
        """See `Client.compare`."""
        compared: dict[str, Any] = await self.fetch("GET", "/api/compare", before=before, after=after)
        return compared

    async def point(self, endpoint: str, version: str | Row, break_callers: bool = False, override: str | None = None) -> dict[str, Any]:
        """See `Client.point`."""
        return await self._run(calls.point(endpoint, version, break_callers, override))

    async def set_up(
        self, endpoint: str, setup: Mapping[str, Any], after: int | None = None, break_callers: bool = False, override: str | None = None
    ) -> dict[str, Any]:
        """See `Client.set_up`."""
        return await self._run(calls.set_up(endpoint, setup, after, break_callers, override))

    async def rollback(self, endpoint: str, note: str | None = None) -> dict[str, Any]:
        """See `Client.rollback`."""
        return await self._run(calls.rollback(endpoint, note))

    async def roll_out(
        self,
        endpoint: str,
        version: str,
        plan: Mapping[str, Any] | None = None,
        sticky: Mapping[str, str] | None = None,
        break_callers: bool = False,
        override: str | None = None,
    ) -> dict[str, Any]:
        """See `Client.roll_out`."""
        return await self._run(calls.roll_out(endpoint, version, plan, sticky, break_callers, override))

    async def record_outcome(self, endpoint: str, request_id: str, truth: Any, row: int = 0) -> dict[str, Any]:
        """See `Client.record_outcome`."""
        return await self._run(calls.record_outcome(endpoint, request_id, truth, row))

    async def fetch_bytes(self, path: str, **params: Any) -> bytes:
        """See `Client.fetch_bytes`."""
        return await self._run(calls.fetch_bytes(path, **params))

    async def fetch(self, method: str, path: str, json: Any = None, **params: Any) -> Any:
        """See `Client.fetch`."""
        return await self._run(calls.fetch(method, path, json, **params))

    async def close(self) -> None:
        """Close the connections."""
        await self._http.aclose()

    async def __aenter__(self) -> Self:
        return self

    async def __aexit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        await self.close()

    async def _send(self, request: Request) -> Reply:
        left = self._repeats
        while True:
            try:
                reply = reply_of(await self._http.send(_httpx_request(self._http, request)))
            except _LOST as error:
                if (wait_s := wait_before_repeat(request, error, left)) is None:
                    raise
            else:
                if (wait_s := wait_before_repeat(request, reply, left)) is None:
                    return reply
            left -= 1
            await anyio.sleep(wait_s)

    async def _run(self, call: Call[T]) -> T:
        try:
            request = next(call)
            while True:
                request = call.send(await self._send(request))
        except StopIteration as done:
            result: T = done.value
            return result
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise _translated(error, str(self._http.base_url)) from error


def _opened(file: str | Path | PackedFile) -> BinaryIO:
    path = Path(file) if isinstance(file, (str, Path)) else file.path
    try:
        return path.open("rb")
    except OSError as error:
        raise LampPostError(f"{path} cannot be read: {error.strerror}") from error
