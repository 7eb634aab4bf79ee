"""Reports lamp files that a node serves on its own to a hub: how it does, and the records of its calls.

The hub knows versions by its own names, and the node counts them from 1 at every start. The digests of the packages say which is which:
the hub answers a report with the names that it has for them. Calls of a package that the hub does not have, or of an endpoint of which it
takes no records from here, are not brought.
"""

from __future__ import annotations

import asyncio
import logging
import socket
from typing import Any

from lamppost.core.errors import HubAway, LampPostError, NotFound, Unavailable
from lamppost.core.names import parse_version
from lamppost.service.ended_tasks import end_tasks
from lamppost.service.outpost.hub_link import HubLink
from lamppost.service.outpost.lamp_file_endpoints import LampFileEndpoints
from lamppost.service.outpost.node_report import report_of_node
from lamppost.service.outpost.record_delivery import PayloadBudget, TakenVersions
from lamppost.service.outpost.standalone_node import StandaloneNode

log = logging.getLogger("lamppost.outpost")

_EVERY_S = 15.0
_SOON_S = 1.0


class OwnFileReports:
    """Serves lamp files like `LampFileEndpoints`, and reports. taken : is told what the hub takes records of."""

    def __init__(self, node: StandaloneNode, files: LampFileEndpoints, link: HubLink, budget: PayloadBudget, taken: TakenVersions) -> None:
        self._node = node
        self._files = files
        self._link = link
        self._budget = budget
        self._taken = taken
        self._instance = f"serve {socket.gethostname()[:60]} {node.settings.address}"[:100]
        self._trouble: str | None = None
        self._left_out: set[str] = set()
        self._task: asyncio.Task[None] | None = None

    async def start(self) -> None:
        """Serve the files, whether the hub answers or not, and begin to report. Raise what serving them raises."""
        await self._files.start()
        self._task = asyncio.create_task(self._report_on(), name="reports")

    async def close(self) -> None:
        """Report no more, and follow the files no more."""
        if self._task is not None:
            await end_tasks([self._task])
        await self._files.close()

    async def _report_on(self) -> None:
        reported: list[str] = []
        while True:
            try:
                about = await self._about()
                served = sorted(one["digest"] for one in about["served"].values() if one["digest"] is not None)
                _, state = await self._link.report(about, 0.0)
                self._take(served, state)
                reported, self._trouble = served, None
            except HubAway as error:
                self._say_trouble(f"{error.detail}; calls go on, and their records wait")
            except LampPostError as error:
                self._say_trouble(f"the hub refuses the reports of this node: {error.detail}")
            except Exception:
                log.exception("reporting to the hub failed on a fault of our own, trying again")
            await self._rest(reported)

    async def _rest(self, reported: list[str]) -> None:
        """Sleep until the next report is due, or another package is served."""
        for _ in range(int(_EVERY_S / _SOON_S)):
            await asyncio.sleep(_SOON_S)
            if sorted(filter(None, [await self._digest(str(route.in_force.version)) for route in self._routes.values()])) != reported:
                return

    @property
    def _routes(self) -> dict[str, Any]:
        return self._node.deployment.table.by_endpoint

    async def _about(self) -> dict[str, Any]:
        about = report_of_node(self._node, self._instance, self._budget, {})
        for served in about["served"].values():
            served["digest"] = await self._digest(served["version"])
        return {**about, "own_files": True}

    async def _digest(self, version: str) -> str | None:
        try:
            return (await self._node.memory.find_version(parse_version(version))).digest
        except (NotFound, Unavailable):
            return None

    def _take(self, served: list[str], state: dict[str, Any]) -> None:
        self._budget.most_bytes = state["payload_bytes_per_day"]
        self._taken.take(served, state["names"], state["endpoints"])
        left_out = set()
        for endpoint, route in self._routes.items():
            if endpoint not in self._taken.endpoints:
                left_out.add(
                    f"the hub takes no records of {endpoint} from here; add this node there with: "
                    f"lamppost outpost new {self._link.name} --may-report {endpoint}"
                )
            elif not any(lane.digest in self._taken.names for lane in route.lanes):
                left_out.add(f"the hub does not have the package that {endpoint} serves here, so its calls are not recorded: push it there")
        for text in sorted(left_out - self._left_out):
            log.warning("%s", text)
        self._left_out = left_out

    def _say_trouble(self, text: str) -> None:
        if text != self._trouble:
            self._trouble = text
            log.warning("%s", text)
