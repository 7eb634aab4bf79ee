"""What a load asks: of which endpoints, by how many clients, for how long, and in which order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from typing import Any, ClassVar, Literal

from pydantic import TypeAdapter, ValidationError

from lamppost.core.errors import BadRequest

Order = Literal["sequential", "random"]
MOST_CLIENTS = 4_096
MOST_SECONDS = 3_600.0
MOST_STEPS = 20
LEAST_WARM_S = 1.0
_WARM_PART = 0.1


@dataclass(frozen=True, slots=True)
class LoadPlan:
    """clients : of each step, so many connections at once. seconds : of a step, after its warm-up.

    rate : requests a second that are due whatever the service does (an open loop); None where each client waits for its answer.
    order : in which endpoints are asked. rows : where the rows are from, in words.
    """

    endpoints: tuple[str, ...]
    clients: tuple[int, ...] = (1, 8, 64)
    seconds: float = 20.0
    rate: float | None = None
    order: Order = "sequential"
    rows: str = "records"

    __pydantic_config__: ClassVar = {"extra": "forbid", "allow_inf_nan": False}

    def __post_init__(self) -> None:
        if not self.endpoints:
            raise BadRequest("a load asks one endpoint at least; name it")
        if len(set(self.endpoints)) < len(self.endpoints):
            raise BadRequest("an endpoint is named twice; name each once")
        if not 1 <= len(self.clients) <= MOST_STEPS or any(not 1 <= one <= MOST_CLIENTS for one in self.clients):
            raise BadRequest(f"the clients of a load are up to {MOST_STEPS} numbers from 1 to {MOST_CLIENTS:,}, such as 1,8,64")
        if not 1 <= self.seconds <= MOST_SECONDS:
            raise BadRequest(f"a step of a load takes 1 to {MOST_SECONDS:,.0f} seconds, and not {self.seconds:g}")
        if self.rate is not None and not 0 < self.rate <= 1e6:
            raise BadRequest(f"the rate of a load is requests a second above 0, and not {self.rate:g}")

    @property
    def warm_s(self) -> float:
        """Seconds before each step that are not measured."""
        return max(LEAST_WARM_S, _WARM_PART * self.seconds)

    @property
    def whole_s(self) -> float:
        """Seconds of all steps."""
        return len(self.clients) * (self.seconds + self.warm_s)


@cache
def _plans() -> TypeAdapter[LoadPlan]:
    return TypeAdapter(LoadPlan)


def read_plan(document: Any) -> LoadPlan:
    """The plan that a document describes; raise BadRequest for what is none."""
    try:
        return _plans().validate_python(document)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        raise BadRequest(f"{'.'.join(map(str, first['loc'])) or 'the load'}: {first['msg'].lower()}") from error


def write_plan(plan: LoadPlan) -> dict[str, Any]:
    """The plan as a JSON document."""
    document: dict[str, Any] = _plans().dump_python(plan, mode="json")
    return document


def split_clients(clients: int, processes: int) -> list[int]:
    """How many clients each process is, as even as can be; processes without any are left out.

    >>> split_clients(5, 2), split_clients(1, 4)
    ([3, 2], [1])
    """
    each, more = divmod(clients, processes)
    return [each + (at < more) for at in range(processes) if each + (at < more)]


def due_times(rate: float, process: int, processes: int, until: float) -> Sequence[float]:
    """Seconds after the start at which one of several processes has a request due, together evenly ``rate`` a second."""
    step = processes / rate
    return [process / rate + at * step for at in range(int((until - process / rate) / step) + 1)] if process / rate <= until else []
