"""Decides the state of an endpoint on a node, and the reasons for it. No other place decides that.

An endpoint is one of: ``serving``; ``degraded``, it answers and something needs a look; ``asleep``, its next request opens it;
``opening``; ``down``, it cannot answer. An open alert is no state of serving: it is shown beside the state.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

LaneState = Literal["opening", "serving", "silent", "restarting", "down", "closed"]
EndpointState = Literal["serving", "degraded", "asleep", "opening", "down"]


@dataclass(frozen=True, slots=True)
class LaneCondition:
    """The state of a lane. version : its name. reason : why the lane does not serve normally; None where it does."""

    version: str
    state: LaneState
    reason: str | None = None


@dataclass(frozen=True, slots=True)
class EndpointStatus:
    """A state with its reasons. reasons : one sentence part each, why the endpoint is degraded or down; empty in any other state."""

    state: EndpointState
    reasons: tuple[str, ...] = ()

    @property
    def answers(self) -> bool:
        """Whether a request would be answered now, or after the endpoint was opened for it."""
        return self.state != "down"


def endpoint_status(
    lanes: Sequence[LaneCondition] | None, opening: bool = False, failure: str | None = None, trouble: Sequence[str] = ()
) -> EndpointStatus:
    """The status of an endpoint.

    lanes : those that answer for it, None while it is not open. opening : whether they are being opened.
    failure : why the last attempt to open them failed, None where it did not fail. trouble : what is wrong with the node itself.

    >>> endpoint_status([LaneCondition("lamps@1", "serving")]).state
    'serving'
    >>> endpoint_status([LaneCondition("lamps@1", "restarting", "it was killed")])
    EndpointStatus(state='degraded', reasons=('the worker of lamps@1 is being replaced: it was killed',))
    """
    if lanes is None:
        if opening:
            return EndpointStatus("opening")
        return EndpointStatus("asleep") if failure is None else EndpointStatus("down", (failure,))
    down = tuple(f"{lane.version} is down: {lane.reason or lane.state}" for lane in lanes if lane.state in ("down", "closed"))
    if down:
        return EndpointStatus("down", down)
    silent = tuple(f"{lane.version} answers in other workers: {lane.reason}" for lane in lanes if lane.state == "silent")
    replaced = tuple(
        f"the worker of {lane.version} is being replaced: {lane.reason or 'it has ended'}"
        for lane in lanes
        if lane.state not in ("serving", "silent")
    )
    reasons = (*replaced, *silent, *trouble)
    return EndpointStatus("degraded", reasons) if reasons else EndpointStatus("serving")
