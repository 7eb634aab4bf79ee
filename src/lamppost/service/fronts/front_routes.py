"""What fronts may answer: the node writes down the routes that are usual, and a front reads them to answer by them.

Usual is a route by which one version answers each whole call, and whose rows and answers JSON holds as they are. Each has a serial number,
by which the node knows whether a front asked by the present route.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any, Protocol, cast

from pydantic import TypeAdapter

from lamppost.core.endpoint.endpoint_schema import EndpointSchema
from lamppost.core.endpoint.setup import EndpointSetup, read_setup, write_setup
from lamppost.core.payload.validation_plan import Row, ValidationPlan
from lamppost.core.schema.fields import Schema
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.runtime.lane import Lane
from lamppost.runtime.lane_options import AnswerReceiver, RequestOptions
from lamppost.service.deployment.route_table import Route
from lamppost.service.http.fast_path import FastPathCall, answers_whole_calls
from lamppost.service.prediction.answer_hooks import AnswerHooks
from lamppost.service.prediction.predictors import Predictor, SingleVersion
from lamppost.service.prediction.share_router import ShareRouter

_IN_JSON = frozenset({"number", "integer", "choice", "yes/no", "text", "vector"})
"""Kinds of fields whose values are the same after they were written as JSON and read again."""


@cache
def _schemas() -> TypeAdapter[Schema]:
    return TypeAdapter(Schema)


@cache
def _optional_schemas() -> TypeAdapter[Schema | None]:
    return TypeAdapter(Schema | None)


def _write_schemas(inputs: Schema, options: Schema | None, answers: Schema) -> dict[str, Any]:
    named = {"inputs": inputs, "options": options, "answers": answers}
    return {name: _optional_schemas().dump_python(schema, mode="json", exclude_defaults=True) for name, schema in named.items()}


def _read_schemas(data: dict[str, Any]) -> EndpointSchema:
    return EndpointSchema(
        _schemas().validate_python(data["inputs"], strict=False),
        _optional_schemas().validate_python(data["options"], strict=False),
        _schemas().validate_python(data["answers"], strict=False),
    )


def write_route(route: Route | None, serial: int) -> dict[str, Any] | None:
    """A route as fronts read it; None where the node answers itself."""
    if route is None or not answers_whole_calls(route.predictor):
        return None
    predictor = route.predictor
    versions = [predictor] if isinstance(predictor, SingleVersion) else list(predictor.single_versions.values())
    schemas = [schema for version in versions for schema in (version.lane.columns, version.lane.answers)]
    if any(field.kind not in _IN_JSON for schema in schemas for field in schema):
        return None
    plan = predictor.plan
    return {
        "serial": serial,
        "setup": write_setup(route.setup),
        "schemas": _write_schemas(plan.schema, plan.options, predictor.answers),
        "versions": {
            version.version: _write_schemas(version.lane.plan.schema, version.lane.plan.options, version.lane.answers)
            for version in versions
        },
    }


def version_of_route(route: Route, name: str) -> SingleVersion | None:
    """The version of a usual route by its name, None where the route does not serve it."""
    if isinstance(route.predictor, ShareRouter):
        return route.predictor.single_versions.get(name)
    return route.predictor if isinstance(route.predictor, SingleVersion) and route.predictor.version == name else None


class Asking(Protocol):
    """What a front sends its questions by."""

    def ask(self, call: FastPathCall, version: str, serial: int, rows: list[Row], size_bytes: int) -> None:
        """Have the node answer rows; the call gets the answer."""


class AskedLane:
    """Stands for a lane of the node: what is submitted here is asked there."""

    def __init__(self, asking: Asking, version: str, serial: int, schemas: EndpointSchema) -> None:
        self._asking = asking
        self._version = version
        self._serial = serial
        self.plan = ValidationPlan(schemas.inputs, options=schemas.options)
        self.columns = Schema((*schemas.inputs, *(schemas.options or ())))
        self.answers = schemas.answers
        self.redaction = RedactionPolicy(schemas.inputs, schemas.options, schemas.answers)

    def submit(self, rows: list[Row], size_bytes: int, terms: RequestOptions, done: AnswerReceiver, request_id: str = "") -> None:
        """Ask the node for the answers to rows; ``done`` gets them later."""
        del terms, request_id  # the node has its own; the call knows its id
        assert isinstance(done, FastPathCall)
        self._asking.ask(done, self._version, self._serial, rows, size_bytes)


@dataclass(frozen=True, slots=True)
class FrontRoute:
    """A usual route, as a front has it."""

    setup: EndpointSetup
    predictor: Predictor | None
    hooks: AnswerHooks | None = None


class FrontRoutes:
    """The usual routes that a front knows. Each is read when it is first asked for."""

    def __init__(self, asking: Asking) -> None:
        self._asking = asking
        self._written: dict[str, dict[str, Any]] = {}
        self._read: dict[str, FrontRoute] = {}
        self.sampling_percent: dict[str, float] = {}
        """Of the endpoints whose inputs and answers are not all kept."""

    def put(self, written: dict[str, dict[str, Any] | None]) -> None:
        """Take in routes that have changed; None for those that the node answers itself."""
        for endpoint, route in written.items():
            self._read.pop(endpoint, None)
            self.sampling_percent.pop(endpoint, None)
            if route is None:
                self._written.pop(endpoint, None)
            else:
                self._written[endpoint] = route

    def get(self, endpoint: str, /) -> FrontRoute | None:
        """The route of an endpoint; None where the node answers."""
        if (known := self._read.get(endpoint)) is not None:
            return known
        if (written := self._written.get(endpoint)) is None:
            return None
        route = self._read[endpoint] = self._read_route(written)
        if (sample := route.setup.monitoring.sample) < 100:
            self.sampling_percent[endpoint] = sample
        return route

    def _read_route(self, written: dict[str, Any]) -> FrontRoute:
        setup = read_setup(written["setup"])
        # a lane here is only asked by the fast path, which submits to it and does nothing else with it
        lanes = {
            name: cast("Lane", AskedLane(self._asking, name, written["serial"], _read_schemas(schemas)))
            for name, schemas in written["versions"].items()
        }
        if setup.shares is not None:
            return FrontRoute(setup, ShareRouter(setup.shares, _read_schemas(written["schemas"]), lanes))
        ((name, lane),) = lanes.items()
        return FrontRoute(setup, SingleVersion(name, lane))
