"""Has an outpost serve what its hub says, and keep that on its disk: it goes on while the hub is away, also after a restart.

A version is fetched, opened and proven beside what answers, and takes its place only then. A version that cannot be served leaves what
answers as it is; the hub is told the reason.
"""

from __future__ import annotations

import asyncio
import logging
from typing import Any
from uuid import uuid4

from lamppost.core.endpoint.setup import read_setup
from lamppost.core.errors import HubAway, LampPostError, Unavailable
from lamppost.core.names import parse_version
from lamppost.core.roles import principal_from_dict
from lamppost.service.ended_tasks import end_tasks
from lamppost.service.outpost.hub_link import HubLink
from lamppost.service.outpost.node_report import report_of_node
from lamppost.service.outpost.package_fetching import PackageFetching
from lamppost.service.outpost.record_delivery import PayloadBudget
from lamppost.service.outpost.sealed_packages import SealedPackages
from lamppost.service.outpost.standalone_node import StandaloneNode
from lamppost.store.packages import OpenableVersion

log = logging.getLogger("lamppost.outpost")

_WAIT_S = 20.0
_AGAIN_S = 5.0
_LONGEST_REST_S = 60.0


class HubFollower:
    """Follows the hub for one node. sealed : keeps its packages in cipher; None where they lie open on its disk. refused : by endpoint, the
    version that is not served, and why.
    """

    def __init__(self, node: StandaloneNode, link: HubLink, budget: PayloadBudget, sealed: SealedPackages | None = None) -> None:
        self.refused: dict[str, tuple[str, str]] = {}
        self._node = node
        self._link = link
        self._budget = budget
        self._sealed = sealed
        self._fetching = PackageFetching(link, node.deployment.package_cache, node.settings.packages_folder, sealed)
        self._known = ""
        self._instance = self._own_instance()
        self._task: asyncio.Task[None] | None = None
        self._away_said = False

    def _own_instance(self) -> str:
        file = self._node.settings.data / "instance"
        if not file.exists():
            file.write_text(uuid4().hex)
        return file.read_text().strip()

    async def start(self) -> None:
        """Serve what was served before; else ask the hub. Raise Unavailable where neither is possible, or the hub's refusal."""
        # what is sealed opens only with the key that the hub gives
        remembered = await asyncio.to_thread(self._node.memory.read) if self._sealed is None else None
        if remembered is not None:
            self._node.auth.put_in_force(remembered.principals)
            revisions = [history[0] for history in remembered.histories.values() if history]
            await self._node.deployment.reconciler.serve_revisions(revisions)
            await self._node.deployment.waking.warm_up()
        try:
            await self._report(0.0)
        except HubAway as error:
            if remembered is None:
                reason = (
                    "this outpost has never joined, so it has nothing to serve: start it again when the hub answers"
                    if self._sealed is None
                    else "the packages of this outpost are sealed, and open only with the key that the hub gives at the start"
                )
                raise Unavailable(f"{error.detail}; {reason}") from error
            self._note_away(error)
        except LampPostError as error:
            if remembered is None:
                raise
            log.error("the hub refuses this outpost, which goes on with what it has: %s", error.detail)
        self._task = asyncio.create_task(self._follow(), name="hub")

    async def close(self) -> None:
        """Follow the hub no more."""
        if self._task is not None:
            await end_tasks([self._task])

    async def _follow(self) -> None:
        rest_s = _AGAIN_S
        while True:
            try:
                await self._report(_WAIT_S)
                rest_s = _AGAIN_S
                if not self._known:
                    await asyncio.sleep(_AGAIN_S)  # something could not be fetched; it is tried again
                continue
            except HubAway as error:
                self._note_away(error)
            except LampPostError as error:
                log.error("the hub refuses this outpost, which goes on with what it has: %s", error.detail)
            except Exception:
                log.exception("following the hub failed on a fault of our own, trying again")
            await asyncio.sleep(rest_s)
            rest_s = min(_LONGEST_REST_S, 2 * rest_s)

    def _note_away(self, error: HubAway) -> None:
        if not self._away_said:
            self._away_said = True
            log.warning("%s; this outpost goes on with what it has, and keeps its records", error.detail)

    async def _report(self, wait_s: float) -> None:
        digest, state = await self._link.report(self._about(), wait_s)
        if self._away_said:
            self._away_said = False
            log.warning("the hub answers again")
        if state:
            applied = await self._apply(state)
            self._known = digest if applied else ""

    def _about(self) -> dict[str, Any]:
        """What the hub is told of this outpost."""
        about = report_of_node(self._node, self._instance, self._budget, self.refused)
        return {**about, "known": self._known, "sealed": self._sealed is not None}

    async def _apply(self, state: dict[str, Any]) -> bool:
        """Serve what the hub says. Returns whether all of it was tried; what the hub or the disk kept from that is tried again."""
        node = self._node
        if self._sealed is not None:
            self._sealed.take_key(str(state.get("seal_key", "")))
        node.auth.put_in_force({bytes.fromhex(hashed): principal_from_dict(token) for hashed, token in state["tokens"].items()})
        self._budget.most_bytes = state["payload_bytes_per_day"]
        versions = {
            name: OpenableVersion(about["digest"], "not yet", None, tuple((key, signature) for key, signature in about["signatures"]))
            for name, about in state["versions"].items()
        }
        table = node.deployment.table
        whole = True
        for endpoint in table.by_endpoint.keys() - state["endpoints"].keys():
            log.warning("%s is not to be served here any more", endpoint)
            await node.deployment.take_away(endpoint)
        self.refused = {endpoint: about for endpoint, about in self.refused.items() if endpoint in state["endpoints"]}
        for endpoint, wanted in state["endpoints"].items():
            setup = read_setup(wanted["setup"])
            route = table.by_endpoint.get(endpoint)
            if route is not None and route.setup == setup and not route.failure:
                self.refused.pop(endpoint, None)
                continue
            try:
                needed = {name: versions[name] for name in map(str, setup.versions)}
                for version in needed.values():
                    await self._fetching.fetch(version.digest)
                node.memory.know_versions(needed)
                await node.switch(endpoint, setup, "hub")
                log.info("%s serves %s", endpoint, setup.summary())
                self.refused.pop(endpoint, None)
            except HubAway as error:
                whole = False
                self._note_away(error)
            except (LampPostError, OSError) as error:
                reason = error.detail if isinstance(error, LampPostError) else f"this outpost's disk: {error.strerror or error}"
                whole = whole and isinstance(error, LampPostError) and not isinstance(error, Unavailable)
                if self.refused.get(endpoint) != (wanted["version"], reason):
                    kept = f"; {route.in_force.version} goes on" if route is not None else ""
                    log.error("%s cannot serve %s: %s%s", endpoint, wanted["version"], reason, kept)
                self.refused[endpoint] = (wanted["version"], reason)
        await self._remember()
        return whole

    async def _remember(self) -> None:
        """Write down what is served and who may ask, and delete packages that are not needed for it."""
        node = self._node
        routes = node.deployment.table.by_endpoint
        await node.memory.remember({endpoint: [route.in_force] for endpoint, route in routes.items()}, node.auth.principals)
        digests = set()
        for route in routes.values():
            for version in route.setup.versions:
                digests.add((await node.memory.find_version(parse_version(str(version)))).digest)
        if not node.recorder.waiting:  # rows that wait in the spool are still to be counted by the package that answered them
            await self._fetching.forget_others(digests)
