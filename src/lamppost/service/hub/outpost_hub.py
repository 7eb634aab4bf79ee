"""The hub's side of outposts: the state that each is to have, and the records that each brings."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import orjson

from lamppost.core.endpoint.outposts import SILENT_AFTER, WantedAtOutpost, brought_by_outpost, setup_at_outpost
from lamppost.core.endpoint.setup import write_setup
from lamppost.core.errors import BadBody, Conflict, LampPostError, NotAllowed, Unavailable
from lamppost.core.monitoring.alert_rules import Level, RuleReading
from lamppost.core.names import parse_version
from lamppost.core.payload.outpost_records import SentRecords
from lamppost.core.roles import MAY, Principal, principal_to_dict
from lamppost.service.auth import Auth
from lamppost.service.deployment.route_table import RouteTable
from lamppost.service.hub.outpost_rollouts import OutpostRollouts
from lamppost.store import packages
from lamppost.store.call_records import days_of_calls
from lamppost.store.database import Pool
from lamppost.store.hub import outposts
from lamppost.store.hub.outposts import StoredOutpost
from lamppost.store.packages import OpenableVersion
from lamppost.store.records import CountedFrames, last_stored_frame, make_partition, store_frames
from lamppost.store.spool import KINDS, SpoolFrame
from lamppost.store.windows import WindowDelta

RULE = "outpost "
"""What the rule of an alert about an outpost begins with."""
_SEGMENT = re.compile("[0-9a-f]{32}")
_REPLACED_AFTER = timedelta(minutes=2)
"""Another process may report under the name of an outpost that has not been heard of for so long."""
MAX_WINDOW_ROWS = 10**9
_AHEAD_S, _OLDEST_S = 86_400.0, 3 * 366 * 86_400.0
_WRONG_CLOCK_S = 60.0
"""Clocks that differ by more are wrong, and the times of records are corrected."""


@dataclass(frozen=True, slots=True)
class OutpostState:
    """What an outpost is to have. digest : of all of it, by which an outpost says what it has already."""

    digest: str
    document: dict[str, Any]


class OutpostHub:
    """Serves the outposts of one service, on each of its nodes."""

    def __init__(self, pool: Pool, auth: Auth, table: RouteTable, rollouts: OutpostRollouts) -> None:
        self._pool = pool
        self._auth = auth
        self._table = table
        self._rollouts = rollouts
        self._changed = asyncio.Event()
        self._ending = False
        self._noted: dict[str, frozenset[str]] = {}

    def end_waits(self) -> None:
        """Answer outposts that wait at once, from now on: this node is about to end."""
        self._ending = True
        self._changed.set()

    def note_change(self) -> None:
        """Have outposts that wait for a change look again."""
        self._changed.set()
        self._changed = asyncio.Event()

    async def require_outpost(self, name: str, principal: Principal) -> StoredOutpost:
        """The outpost that a token belongs to; raise NotFound, or NotAllowed for the token of another one."""
        outpost = await outposts.get_outpost(self._pool, name)
        if outpost.token != principal.token:
            raise NotAllowed(f"the token {principal.token!r} is not that of the outpost {name}")
        return outpost

    async def note_report(self, outpost: StoredOutpost, instance: str, clock: datetime, report: dict[str, Any]) -> None:
        """Note what an outpost says of itself; raise Conflict where another process of its name is there."""
        if (
            outpost.instance not in (None, instance)
            and outpost.heard_s_ago is not None
            and outpost.heard_s_ago < _REPLACED_AFTER.total_seconds()
        ):
            raise Conflict(
                f"another outpost reports as {outpost.name}, the last time {outpost.heard_s_ago:.0f} s ago; give this one a name of its "
                f"own, or end the other one and wait {_REPLACED_AFTER.total_seconds() / 60:.0f} minutes"
            )
        ahead_s = (clock - datetime.now(UTC)).total_seconds()
        await outposts.note_report(self._pool, outpost.name, instance, report, ahead_s)

    def _require_settled(self) -> None:
        """Raise Unavailable while this node has not read its endpoints: an outpost would be told to serve none."""
        if not self._table.settled:
            raise Unavailable("this node is starting and does not know its endpoints yet; try again in a second", retry_after_s=1)

    async def _wanted_by(self, outpost: StoredOutpost) -> tuple[dict[str, WantedAtOutpost], dict[str, OpenableVersion]]:
        """What an outpost is to serve, by endpoint, and the packages of those versions that there are, by their names."""
        wanted = (await outposts.load_wanted_versions(self._pool)).at_outpost(outpost.name, outpost.labels)
        names = {name for one in wanted.values() for name in one.shares.of}
        return wanted, await packages.openable_versions(self._pool, [parse_version(name) for name in sorted(names)])

    async def state_of(self, name: str, sealed: bool = False) -> OutpostState:
        """What an outpost is to have now: endpoints with setups, packages of their versions, and who may ask. sealed : whether it seals
        its packages, and gets its key.
        """
        self._require_settled()
        outpost = await outposts.get_outpost(self._pool, name)
        wanted, known = await self._wanted_by(outpost)
        served = {
            endpoint: {"version": one.newest, "setup": write_setup(setup_at_outpost(route.setup, one.shares))}
            for endpoint, one in wanted.items()
            if one.shares.of.keys() <= known.keys() and (route := self._table.by_endpoint.get(endpoint)) is not None
        }
        if not served.keys() <= self._noted.get(name, frozenset()):
            await outposts.note_endpoints(self._pool, name, list(served))
            self._noted[name] = self._noted.get(name, frozenset()) | served.keys()
        document = {
            "endpoints": served,
            "versions": {
                version: {"digest": about.digest, "signatures": [list(pair) for pair in about.signatures]}
                for version, about in known.items()
            },
            "tokens": {
                hashed.hex(): principal_to_dict(principal)
                for hashed, principal in self._auth.principals.items()
                if "predict" in MAY[principal.role] or "view" in MAY[principal.role]
            },
            "payload_bytes_per_day": outpost.payload_bytes_per_day,
        }
        if sealed:
            document["seal_key"] = base64.b64encode(await outposts.seal_key(self._pool, name)).decode()
        content = orjson.dumps(document, option=orjson.OPT_SORT_KEYS, default=str)
        return OutpostState(hashlib.sha256(content).hexdigest(), orjson.loads(content))

    async def state_of_own_files(self, outpost: StoredOutpost, digests: Sequence[str]) -> OutpostState:
        """What an outpost that serves lamp files of its own needs to bring their records: the names of its packages here, by digest, and
        the endpoints of which it may.
        """
        document = {
            "names": await packages.names_of_packages(self._pool, digests),
            "endpoints": sorted(await outposts.endpoints_of_outpost(self._pool, outpost.name)),
            "payload_bytes_per_day": outpost.payload_bytes_per_day,
        }
        return OutpostState(hashlib.sha256(orjson.dumps(document, option=orjson.OPT_SORT_KEYS)).hexdigest(), document)

    async def require_package(self, outpost: StoredOutpost, digest: str) -> None:
        """Raise NotAllowed for a package that an outpost is not to serve."""
        _, known = await self._wanted_by(outpost)
        if digest not in {version.digest for version in known.values()}:
            raise NotAllowed(f"the outpost {outpost.name} is not to serve the package {digest[:12]}…")

    async def changed_state(self, name: str, known: str, wait_s: float, sealed: bool = False) -> OutpostState:
        """What an outpost is to have: as soon as it differs from what the outpost knows, or after so many seconds."""
        loop = asyncio.get_running_loop()
        until = loop.time() + wait_s
        while True:
            changed = self._changed
            state = await self.state_of(name, sealed)
            left_s = until - loop.time()
            if state.digest != known or left_s <= 0 or self._ending:
                return state
            try:
                await asyncio.wait_for(changed.wait(), left_s)
            except TimeoutError:
                return state

    async def take_records(self, outpost: StoredOutpost, records: SentRecords, clock: datetime) -> int:
        """Store records that an outpost brings, each once however often it brings them; how many the database could not hold.

        Raise BadBody for what cannot be theirs.
        """
        self._require_settled()
        frames = _frames_of(outpost.name, records)
        ahead_s = (clock - datetime.now(UTC)).total_seconds()
        shift_s = -ahead_s if abs(ahead_s) > _WRONG_CLOCK_S else 0.0
        counted = await asyncio.to_thread(_counted, outpost.name, frames, records, shift_s)
        calls = [call for frame in counted.frames for call in frame.calls]
        named = {call.endpoint for call in calls} | {delta.endpoint for delta in counted.deltas}
        if foreign := named - self._table.by_endpoint.keys():
            raise BadBody(f"the records name the endpoint {min(foreign)!r}, which this service does not have")
        if others := named - await outposts.endpoints_of_outpost(self._pool, outpost.name):
            raise BadBody(f"the records name the endpoint {min(others)!r}, which the outpost {outpost.name} was never to serve")
        _check_times([*(call.at for call in calls), *(delta.at.timestamp() for delta in counted.deltas)])
        for day in days_of_calls(calls):
            await make_partition(self._pool, day)
        to_count_s = 0.0 if shift_s else ahead_s  # times of a clock that is wrong are corrected already
        lost = await store_frames(
            self._pool, counted, lambda connection, stored: self._rollouts.count_calls(connection, outpost.name, stored, to_count_s)
        )
        if lost is None:
            through = await last_stored_frame(self._pool, frames[0].segment)
            if through >= frames[-1].number:
                lost = 0
            else:
                raise Conflict(f"frames up to {through} of this segment are stored; bring those behind it by themselves", through=through)
        if calls:
            await outposts.note_records(self._pool, outpost.name, datetime.fromtimestamp(max(call.at for call in calls), UTC))
        return lost

    async def alert_readings(self, now: datetime) -> dict[tuple[str, str], RuleReading]:
        """By endpoint and rule, whether an outpost that is to serve the endpoint has fallen silent or cannot serve what it should."""
        wanted = await outposts.load_wanted_versions(self._pool)
        readings: dict[tuple[str, str], RuleReading] = {}
        for outpost in await outposts.list_outposts(self._pool):
            if outpost.barred_at is not None or outpost.heard_at is None:
                continue
            refused = (outpost.report or {}).get("refused") or {}
            for endpoint in outpost.recorded_versions(wanted):
                silent = timedelta(seconds=outpost.heard_s_ago or 0) > SILENT_AFTER
                if silent:
                    text = f"the outpost {outpost.name} was not heard of for {(outpost.heard_s_ago or 0) / 60:.0f} minutes"
                elif endpoint in refused:
                    text = f"the outpost {outpost.name} cannot serve {refused[endpoint]['version']}: {refused[endpoint]['reason']}"
                else:
                    text = f"the outpost {outpost.name} is there"
                level: Level = "wrong" if silent or endpoint in refused else "back"
                readings[endpoint, RULE + outpost.name] = RuleReading(now, level, text, "certain", RULE + outpost.name)
        return readings


def _check_times(times: Sequence[float]) -> None:
    """Raise BadBody for times that would make partitions of days that nobody looks at."""
    now = datetime.now(UTC).timestamp()
    if times and (max(times) > now + _AHEAD_S or min(times) < now - _OLDEST_S):
        raise BadBody("the records are of more than a day ahead, or of more than three years ago")


def _frames_of(name: str, records: SentRecords) -> list[SpoolFrame]:
    if not _SEGMENT.fullmatch(records.segment) or not records.frames:
        raise BadBody("the records name no segment, or hold no frame")
    numbers = [frame.number for frame in records.frames]
    if numbers != sorted(set(numbers)) or numbers[0] < 1 or any(frame.kind not in KINDS for frame in records.frames):
        raise BadBody("the frames are not in their order")
    # the segments of an outpost are its own, whatever it calls them
    return [SpoolFrame(f"{name}/{records.segment}", frame.number, frame.kind, frame.payload) for frame in records.frames]  # type: ignore[arg-type]


def _counted(name: str, frames: list[SpoolFrame], records: SentRecords, shift_s: float) -> CountedFrames:
    """Frames with their counts. shift_s : is added to every time, where the outpost's clock is wrong."""
    try:
        for frame in frames:
            _ = frame.calls, frame.counts
    except LampPostError:
        raise
    except Exception as error:
        raise BadBody(f"a frame cannot be read: {error}") from error
    if shift_s:
        for frame in frames:
            shifted = [call._replace(at=call.at + shift_s) for call in frame.calls]
            frame.__dict__["calls"] = shifted  # in place of what was read of the payload
            frame.__dict__.pop("counts", None)
    try:
        deltas = [
            WindowDelta(
                window.endpoint,
                window.version,
                datetime.fromtimestamp(window.at + round(shift_s / 10) * 10, UTC),
                window.rows,
                window.odd,
                window.data,
            )
            for window in records.windows
        ]
    except (ValueError, OverflowError, OSError) as error:
        raise BadBody(f"a window is at no time that there is: {error}") from error
    if any(not 0 <= delta.odd <= delta.rows <= MAX_WINDOW_ROWS for delta in deltas):
        raise BadBody("a window counts more rows than there can be")
    return CountedFrames(frames, deltas, records.odd, brought_by_outpost(name))
