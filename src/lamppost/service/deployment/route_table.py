"""Finds the route of an endpoint on this node, by the endpoint's name or by a version that it serves.

The table holds values and changes nothing else; `lamppost.service.deployment.activation` changes it together with what follows from a
route. Until the node has read all endpoints once (``settled``), an unknown name may only be new.
"""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.endpoint.states import EndpointStatus, endpoint_status
from lamppost.core.errors import NotFound, Unavailable
from lamppost.core.names import VersionName, closest_name
from lamppost.runtime.lane import Lane
from lamppost.service.prediction.answer_hooks import AnswerHooks
from lamppost.service.prediction.predictors import Predictor, remote_parts_of
from lamppost.store.deletion.endpoint_deletion import DeletedEndpoint
from lamppost.store.endpoints import EndpointRevision

_RETRY_S = 20.0
"""How long an endpoint that could not be opened stays down before it is tried again."""


@dataclass(slots=True)
class Route:
    """An endpoint on this node.

    in_force : the revision that is served.
    predictor : what answers, by the lanes; None while the endpoint sleeps, is being opened, or cannot be opened.
    hooks : what follows an answer, None where nothing does.
    opening : whether the lanes are being opened. failure : why opening them failed. failed_at : when, on the loop's clock.
    trouble : tells what is wrong with the node itself.
    """

    in_force: EndpointRevision
    predictor: Predictor | None = None
    lanes: tuple[Lane, ...] = ()
    hooks: AnswerHooks | None = None
    opening: bool = False
    failure: str | None = None
    failed_at: float = 0.0
    trouble: Callable[[], Sequence[str]] = tuple

    @property
    def setup(self) -> EndpointSetup:
        """What is served, and how."""
        return self.in_force.setup

    @property
    def stays_down(self) -> bool:
        """Whether opening the lanes failed recently, so that it is not tried again yet."""
        return bool(self.failure) and asyncio.get_running_loop().time() - self.failed_at < _RETRY_S

    @property
    def status(self) -> EndpointStatus:
        """State and reasons, as they are now."""
        if self.predictor is None:
            return endpoint_status(None, self.opening, self.failure, self.trouble())
        parts = remote_parts_of(self.predictor).parts.values()
        trouble = [sentence for part in parts if (sentence := part.trouble) is not None]
        return endpoint_status(
            [*(lane.condition for lane in self.lanes), *(part.condition for part in parts)], trouble=(*self.trouble(), *trouble)
        )


class RouteTable:
    """All routes of one node. settled : whether every endpoint was read once. deleted : endpoints that can be given back, by name.

    trouble : tells what is wrong with the node itself; endpoints are degraded by it. changed : is called with the name of an endpoint
    whose route has changed.
    """

    def __init__(self, trouble: Callable[[], Sequence[str]] = tuple) -> None:
        self._trouble = trouble
        self.by_endpoint: dict[str, Route] = {}
        self.settled = False
        self.deleted: dict[str, DeletedEndpoint] = {}
        self.changed: Callable[[str], None] | None = None
        self._naming: defaultdict[VersionName, set[str]] = defaultdict(set)
        self._locks: defaultdict[str, asyncio.Lock] = defaultdict(asyncio.Lock)

    def find_route(self, endpoint: str) -> Route:
        """The route of an endpoint; raise NotFound with the closest name, or Unavailable while the table is not settled."""
        route = self.by_endpoint.get(endpoint)
        if route is not None:
            return route
        if not self.settled:
            raise Unavailable(f"this node is starting and does not know {endpoint!r} yet; try again in a second", retry_after_s=1)
        if (deleted := self.deleted.get(endpoint)) is not None:
            raise NotFound(
                f"the endpoint {endpoint!r} was deleted on {deleted.deleted_at:%Y-%m-%d at %H:%M} UTC; until the same time of the next day"
                f" an operator can give it back: lamppost delete endpoint {endpoint} --undo"
            )
        known = sorted(self.by_endpoint)
        like = closest_name(endpoint, known)
        hint = f"did you mean {like}?" if like else f"there are: {', '.join(known[:10])}" if known else "point one at a version first"
        raise NotFound(f"there is no endpoint {endpoint!r}; {hint}")

    def find_setup(self, endpoint: str) -> EndpointSetup | None:
        """The setup in force, None for an endpoint that is not there."""
        route = self.by_endpoint.get(endpoint)
        return None if route is None else route.setup

    def routes_naming(self, version: VersionName) -> list[Route]:
        """The routes of the endpoints whose answers a version takes part in."""
        return [self.by_endpoint[endpoint] for endpoint in sorted(self._naming.get(version, ()))]

    def lock(self, endpoint: str) -> asyncio.Lock:
        """Held by whoever changes the route of an endpoint, from before its lanes are opened until the route stands."""
        return self._locks[endpoint]

    def replace(self, endpoint: str, route: Route | None) -> Route | None:
        """Set the route of an endpoint, or take it out with None; the route before."""
        before = self.by_endpoint.pop(endpoint, None)
        if before is not None:
            for version in before.setup.versions:
                self._naming[version].discard(endpoint)
        if route is not None:
            route.trouble = self._trouble
            self.by_endpoint[endpoint] = route
            for version in route.setup.versions:
                self._naming[version].add(endpoint)
        if self.changed is not None:
            self.changed(endpoint)
        return before
