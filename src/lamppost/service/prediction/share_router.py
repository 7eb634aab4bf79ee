"""Sends each call, or each row with its key, to one of several versions by their shares."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from random import Random, SystemRandom

from lamppost.core.endpoint.endpoint_schema import EndpointSchema, endpoint_schema
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.endpoint.shares import Shares
from lamppost.core.errors import LampPostError
from lamppost.core.schema.fields import Schema
from lamppost.core.schema.value_kinds import choice_text
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import LIVE_REQUEST, RequestOptions
from lamppost.service.prediction.lookups import LookupTable
from lamppost.service.prediction.predictors import (
    NO_REMOTE_PARTS,
    ChosenVersion,
    Ensemble,
    Headers,
    LookupPredictor,
    PredictionInput,
    PredictionOutput,
    Predictor,
    RemoteParts,
    RowRouter,
    SingleVersion,
)

_random = Random(SystemRandom().getrandbits(128))


class ShareRouter(RowRouter):
    """See the module. quick : whether `pick` alone says which version answers a whole call, whose rows it takes as they are."""

    def __init__(self, shares: Shares, schema: EndpointSchema, lanes: Mapping[str, Lane]) -> None:
        sticky = shares.sticky
        self._header = sticky.name.lower().encode() if sticky is not None and sticky.by == "header" else None
        self._field = sticky.name if sticky is not None and sticky.by != "header" else None
        super().__init__(schema, lanes, self._field, sticky is not None and sticky.by == "field")
        self.single_versions = {name: SingleVersion(name, lanes[name]) for name in shares.of}
        self.takes_whole_calls = self._field is None and all(_same(lane.columns, self.columns) for lane in lanes.values())
        self._shares = shares
        self._start = _random.random()
        self._calls = 0

    def pick_version(self, headers: Headers) -> SingleVersion:
        """The version of a whole call, by its header or by its turn."""
        key = self._key_among(headers)
        return self.single_versions[self._turn() if key is None else self._shares.version_of_key(key)]

    def _key_among(self, headers: Headers) -> str | None:
        if self._header is None:
            return None
        return next((value.decode("latin-1") for name, value in headers if name == self._header), None)

    def _turn(self) -> str:
        self._calls += 1
        return self._shares.version_of_nth_call(self._calls, self._start)

    async def predict(self, given: PredictionInput, options: RequestOptions = LIVE_REQUEST) -> PredictionOutput:
        """All rows by one version, or each by that of its key, the answers in the rows' order."""
        if self.takes_whole_calls:
            chosen, key = self.pick_version(given.headers), self._key_among(given.headers)
            try:
                output = await chosen.predict(given, options)
                return output if key is None else output._replace(keys={chosen.version: key})
            except LampPostError as error:
                error.version = chosen.version
                raise
        rows = self.rows_of(given)
        if self._field is None:
            keys = [self._key_among(given.headers)] * len(rows)
            versions = [self.pick_version(given.headers).version] * len(rows)
        else:
            keys = [None if (value := row.get(self._field)) is None else choice_text(value) for row in rows]
            versions = [self._turn() if key is None else self._shares.version_of_key(key) for key in keys]
        output = await self.answer_by_versions(versions, rows, given.size_bytes, options)
        first = {version: key for version, key in reversed(list(zip(versions, keys, strict=True))) if key is not None}
        return output._replace(keys=first) if first else output


def _same(schema: Schema, promised: Schema) -> bool:
    """Whether rows of the promise are rows of the version as they are: the promise is as tight, and leaves nothing to fill in."""
    return schema.names == promised.names and all(
        field.kind == other.kind and field.default == other.default and field.missing >= other.missing
        for field, other in zip(schema, promised, strict=True)
    )


def make_predictor(
    setup: EndpointSetup, lanes: Mapping[str, Lane], tables: Sequence[LookupTable] = (), remote: RemoteParts = NO_REMOTE_PARTS
) -> Predictor:
    """What answers for a setup, by the open lanes of its versions; raise Conflict when they do not go together."""
    manifests = {name: lane.manifest for name, lane in lanes.items()}
    bare = endpoint_schema(replace(setup, lookups=()), manifests)
    inner: Predictor
    if setup.choose is not None:
        inner = ChosenVersion(setup.choose, bare, lanes)
    elif setup.together is not None:
        inner = Ensemble(setup.together, bare, lanes, remote)
    elif setup.shares is not None:
        inner = ShareRouter(setup.shares, bare, lanes)
    else:
        inner = SingleVersion(str(setup.version), lanes[str(setup.version)])
    return LookupPredictor(inner, endpoint_schema(setup, manifests), tables) if setup.lookups else inner
