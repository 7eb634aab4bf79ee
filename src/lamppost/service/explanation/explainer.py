"""Has answers explained: finds the reference, checks the row, and has the rows of the explanation answered after all live calls."""

from __future__ import annotations

import asyncio
import base64
import time
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import asdict, dataclass
from typing import Any

import orjson
from cachetools import LRUCache

from lamppost.core.artifact.reference import Reference
from lamppost.core.errors import InvalidRows, LampPostError, ModelFault, Unavailable, from_problem
from lamppost.core.explanation.asking import Row
from lamppost.core.explanation.explanation import ExplanationTerms
from lamppost.core.explanation.told import Told
from lamppost.core.names import VersionName
from lamppost.core.schema.fields import Field, Schema
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import RequestOptions
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.explanation.explaining_process import describe_fields
from lamppost.service.prediction.predictors import LookupPredictor, PredictionInput, Predictor, SingleVersion
from lamppost.service.processes.child_process import ChildEnded, ChildProcess

_PROCESSES = 2
"""Explanations that are made on a node at the same time, each by a process of its own; further ones wait."""
_WAIT_S = 10.0
_REMEMBERED = 32
_REST = 6.0
"""Seconds of rest for each second that live calls had to share with an explanation."""
_MOST_REST_S = 0.1
_AT_ONCE = 4
"""Bodies whose rows are asked together while nobody else asks."""


@dataclass(slots=True)
class Explained:
    """What answers the rows of an explanation. key : of it and its reference. version : that answers, or stands for those that do.

    reference : the message that the explaining process gets once. lookups : what fills in fields of a row from tables before, None where
    nothing does. busy : whether others were asking when it was last asked.
    """

    key: str
    version: str
    predictor: Predictor
    lanes: Sequence[Lane]
    reference: bytes
    lookups: LookupPredictor | None = None
    busy: bool = False

    @property
    def requests(self) -> int:
        """Requests that its lanes have had so far."""
        return sum(lane.load.requests for lane in self.lanes)

    @property
    def inputs(self) -> Schema:
        """The fields of a row."""
        return self.predictor.plan.schema


class Explainer:
    """All explanations of one node. made, failed : explanations and curves since it started. rows_asked : that models answered for them."""

    def __init__(self, deployment: Deployment) -> None:
        self.made = self.failed = self.rows_asked = 0
        self._deployment = deployment
        self._free = [ChildProcess("lamppost.service.explanation.explaining_process") for _ in range(_PROCESSES)]
        self._places = asyncio.Semaphore(_PROCESSES)
        self._known: LRUCache[str, Explained] = LRUCache(_REMEMBERED)

    async def close(self) -> None:
        """End the processes."""
        for child in self._free:
            await child.close()

    @asynccontextmanager
    async def of_endpoint(self, endpoint: str) -> AsyncIterator[Explained]:
        """What an endpoint serves now, kept open inside the block."""
        route, predictor = await self._deployment.waking.awake(endpoint)
        with self._deployment.kept_open(endpoint, predictor):
            name = str(route.in_force.version)
            key, lookups = f"{endpoint} {route.in_force.revision} {id(predictor)}", None
            if isinstance(predictor, LookupPredictor):  # what it looks up is explained, and not the key
                lookups, predictor = predictor, predictor.inner
            # the reference is that of the version that knows most fields: one that only combines others knows none
            asked = set(predictor.plan.schema.names)
            lanes = sorted(route.lanes, key=lambda lane: (-len(asked & set(lane.manifest.inputs.names)), lane.name != name))
            yield await self._explained(key, name, predictor, lanes, lookups)

    @asynccontextmanager
    async def of_version(self, version: VersionName) -> AsyncIterator[Explained]:
        """One version, served or not, kept open inside the block. Raise what opening it raises."""
        async with self._deployment.leases.visited(version) as lane:
            yield await self._explained(f"{version} {id(lane)}", str(version), SingleVersion(str(version), lane), (lane,))

    async def _explained(
        self, key: str, version: str, predictor: Predictor, lanes: Sequence[Lane], lookups: LookupPredictor | None = None
    ) -> Explained:
        found = self._known.get(key)
        if found is None or lanes[0] is not found.lanes[0]:
            lamp = await self._deployment.package_cache.lamp_of(lanes[0].digest)
            reference = await asyncio.to_thread(_reference_message, lamp.reference, predictor)
            found = self._known[key] = Explained(f"{key} {time.monotonic_ns()}", version, predictor, lanes, reference, lookups)
        return found

    async def explain(
        self, explained: Explained, row: Row, options: Row, terms: ExplanationTerms, rows: int, seconds: float, cases: int
    ) -> Told:
        """The explanation of the answer to a row, which is checked as a request is: raise InvalidRows for one that is refused.

        options : of the call that is explained. rows, seconds : what it may cost. cases : how many tried rows are listed. Raise Unavailable
        while too much is being explained.
        """
        order = {"terms": asdict(terms), "rows": rows, "seconds": seconds, "cases": cases}
        return await self._converse(explained, row, options, order)

    async def curve(self, explained: Explained, row: Row, options: Row, of: Field, rows: int) -> Told:
        """The answer as one field goes through its range."""
        return await self._converse(explained, row, options, {"field": of.name, "rows": rows, "seconds": 30.0})

    async def _converse(self, explained: Explained, row: Row, options: Row, order: dict[str, Any]) -> Told:
        if explained.lookups is not None:
            row = await _filled(explained.lookups, row, options)
        row = _complete_row(explained.predictor, row, options)
        order |= {"key": explained.key, "row": row, "options": options}
        async with self._process() as child:
            try:
                reply = orjson.loads(await child.ask(orjson.dumps(order)))
                while "ask" in reply or "need" in reply:
                    message = explained.reference if "need" in reply else orjson.dumps(await self._answers(explained, reply))
                    reply = orjson.loads(await child.ask(message))
            except ChildEnded:
                raise Unavailable("the process that explains ended; another one is started, so try again", retry_after_s=1) from None
            except BaseException:
                self.failed += 1
                await child.kill()  # it waits for answers that will not come, and would take the next order for them
                raise
        self.made += "told" in reply
        self.failed += "failed" in reply
        if "problem" in reply:
            raise from_problem(reply["problem"], int(reply["problem"]["status"]))
        if "failed" in reply:
            raise LampPostError(f"the explanation failed on a fault of the service ({reply['failed']}); its log has more")
        told: Told = reply["told"]
        return told

    @asynccontextmanager
    async def _process(self) -> AsyncIterator[ChildProcess]:
        try:
            await asyncio.wait_for(self._places.acquire(), _WAIT_S)
        except TimeoutError:
            raise Unavailable("other explanations are being made on this node; try again in a moment", retry_after_s=1) from None
        child = self._free.pop()
        try:
            yield child
        finally:
            self._free.append(child)
            self._places.release()

    async def _answers(self, explained: Explained, asked: dict[str, Any]) -> list[Row | None]:
        """Answers to the rows of some bodies, in order: several bodies at once, or, beside live calls, one after the other with rests."""
        bodies: list[bytes] = [body.encode() for body in asked["ask"]]
        answers: list[Row | None] = []
        while bodies:
            many = 1 if explained.busy else _AT_ONCE
            some, bodies = bodies[:many], bodies[many:]
            seen = explained.requests
            started = time.perf_counter()
            answers += await self._of_bodies(explained.predictor, some)
            explained.busy = explained.requests > seen + 1  # others were asked meanwhile, and come first
            if explained.busy:
                await asyncio.sleep(min(_MOST_REST_S, _REST * (time.perf_counter() - started)))
        return answers

    async def _of_bodies(self, predictor: Predictor, bodies: Sequence[bytes]) -> list[Row | None]:
        """Answers to the rows of bodies; those that the model, or the endpoint, fails on have none."""
        rows: list[dict[str, Any]] = []
        try:
            for body in bodies:
                rows += predictor.plan.read_body(body, None).rows
                await asyncio.sleep(0)  # live calls come first
            options = RequestOptions(bulk=True)
            output = await predictor.predict(PredictionInput("rows", len(rows), rows, size_bytes=sum(map(len, bodies))), options)
            self.rows_asked += len(rows)
        except (ModelFault, InvalidRows):
            if len(bodies) > 1:
                return [answer for body in bodies for answer in await self._of_bodies(predictor, [body])]
            whole = orjson.loads(bodies[0])
            if len(whole["rows"]) == 1:
                return [None]
            middle = len(whole["rows"]) // 2
            halves = [orjson.dumps({**whole, "rows": half}) for half in (whole["rows"][:middle], whole["rows"][middle:])]
            return [answer for half in halves for answer in await self._of_bodies(predictor, [half])]
        return list(output.answer.rows)


def _body(row: Row, options: Row) -> bytes:
    return orjson.dumps({**row, "options": options} if options else row)


async def _filled(lookups: LookupPredictor, row: Row, options: Row) -> Row:
    """A row with the fields that are looked up for it, without the options."""
    (filled,) = await lookups.fill_rows(lookups.plan.read_body(_body(row, options), None).rows)
    names = lookups.inner.plan.schema.names
    read: Row = orjson.loads(orjson.dumps({name: value for name, value in filled.items() if name in names}, default=_as_base64))
    return read


def _as_base64(value: Any) -> str:
    if isinstance(value, bytes):
        return base64.b64encode(value).decode()
    raise TypeError(type(value).__name__)


def _complete_row(predictor: Predictor, row: Row, options: Row) -> dict[str, Any]:
    """A row with every field, those that were left out as they are then read. Raise InvalidRows for one that is refused."""
    predictor.plan.read_body(_body(row, options), None)
    return {one.name: row.get(one.name, one.default) for one in predictor.plan.schema}


def _reference_message(reference: Reference | None, predictor: Predictor) -> bytes:
    """The schemas, the reference's rows, as far as the endpoint takes them, and correlations of numbers."""
    schema = predictor.plan.schema
    public = {one.name for one in schema if not one.private}
    rows: list[Row] = []
    pairs: list[tuple[str, str, float]] = []
    if reference is not None:
        rows = [{name: value for name, value in row.items() if name in public} for row in reference.sample]
    # a field that only chooses a version, and one that is private, is in no row of the reference: it stays as it is
    if rows and set(schema.names) == rows[0].keys():
        rows = [row for row in rows if _is_taken(predictor, row)]
    if reference is not None and reference.pairs is not None:
        listed = reference.pairs.names
        places = [(first, second) for at, first in enumerate(listed) for second in listed[at + 1 :]]
        pairs = [(*place, correlation) for place, correlation in zip(places, reference.pairs.correlations, strict=True)]
    described = {"inputs": describe_fields(schema), "answers": describe_fields(predictor.answers), "rows": rows, "pairs": pairs}
    return orjson.dumps({**described, "options": predictor.plan.options is not None})


def _is_taken(predictor: Predictor, row: Row) -> bool:
    try:
        predictor.plan.read_body(orjson.dumps(row), None)
    except InvalidRows:
        return False
    return True
