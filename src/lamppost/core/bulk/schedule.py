"""Schedules of bulk runs: when each is due, by cron expressions in a zone, and what is done about times that passed unseen.

Clock changes follow Debian's cron: a time that the clocks skip runs right after the skip, a time that comes twice runs once, and
expressions with a wildcard hour or minute go on by elapsed time.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from itertools import islice
from typing import Any, ClassVar, Literal
from zoneinfo import ZoneInfo, available_timezones

from lamppost.core.bulk.order import BulkOrder, read_order, write_order
from lamppost.core.errors import BadRequest
from lamppost.core.names import check_name, closest_name

Missed = Literal["once", "skip"]
LATE = timedelta(minutes=10)
"""A time that passed longer ago was missed: nothing was there to start its run."""
_LONGEST_CRON = 200


@dataclass(frozen=True, slots=True)
class Schedule:
    """When a bulk run is started. name : of it. every : cron expression of five fields. zone : IANA name of the zone that it is meant in.

    order : of each run; ``{date}`` and ``{time}`` in its source and target stand for the time that is due, in the zone. missed : whether
    one run catches up with times that were missed, or they are skipped. paused : whether nothing is started.
    """

    name: str
    every: str
    zone: str
    order: BulkOrder
    missed: Missed = "once"
    paused: bool = False

    __pydantic_config__: ClassVar = {"extra": "forbid"}

    def __post_init__(self) -> None:
        check_name(self.name, "schedule")
        if self.missed not in ("once", "skip"):
            raise BadRequest(f"missed is once or skip, and not {self.missed!r}")
        if not next_times(self.every, self.zone, datetime(2026, 1, 1, tzinfo=UTC), 1):
            raise BadRequest(f"{self.every!r} is never due")


def find_zone(name: str) -> ZoneInfo:
    """The zone of an IANA name; raise BadRequest for an unknown one."""
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError) as error:  # ZoneInfoNotFoundError is a KeyError
        like = closest_name(name, available_timezones())
        raise BadRequest(
            f"{name[:100]!r} is no zone" + (f"; did you mean {like}?" if like else "; write one such as Europe/Lisbon")
        ) from error


def next_times(every: str, zone: str, after: datetime, count: int) -> list[datetime]:
    """The next times in UTC at which a cron expression is due, fewer where it is never due again; raise BadRequest for no expression.

    >>> next_times("30 1 * * *", "Europe/Lisbon", datetime(2026, 3, 29, tzinfo=UTC), 1)
    [datetime.datetime(2026, 3, 29, 1, 0, tzinfo=datetime.timezone.utc)]
    """
    from cronsim import CronSim, CronSimError

    place = find_zone(zone)
    if len(every) > _LONGEST_CRON or len(every.split()) != 5:
        raise BadRequest(
            f"{every[:100]!r} is no cron expression: minute, hour, day of the month, month, day of the week, as in '0 5 * * *'"
        )
    try:
        return [due.astimezone(UTC) for due in islice(CronSim(every, after.astimezone(place)), count)]
    except CronSimError as error:
        raise BadRequest(f"{every!r} is no cron expression: {str(error).lower()}; write five fields, as in '0 5 * * *'") from error


@dataclass(frozen=True, slots=True)
class DueTime:
    """A time that has come. start : whether a run is started for it. note : why not, or what the run makes up for."""

    at: datetime
    start: bool
    note: str | None = None


def decide_due_times(schedule: Schedule, next_at: datetime, now: datetime, most: int = 1_000) -> list[DueTime]:
    """What to do about the times that have come since a schedule was last looked at. next_at : the first time that was not decided yet."""
    due = [next_at] if next_at <= now else []
    while due and len(due) < most:
        following = next_times(schedule.every, schedule.zone, due[-1], 1)
        if not following or following[0] > now:
            break
        due.append(following[0])
    missed = [at for at in due if now - at > LATE]
    timely = [at for at in due if now - at <= LATE]
    decided = []
    for at in missed:
        if schedule.missed == "skip":
            decided.append(DueTime(at, False, "missed, because no node was there, and skipped"))
        elif at is missed[-1] and not timely:
            more = f", for {len(missed)} times" if len(missed) > 1 else ""
            decided.append(DueTime(at, True, f"missed, because no node was there, and caught up{more}"))
        else:
            decided.append(DueTime(at, False, "missed, because no node was there; a later run makes up for it"))
    return decided + [DueTime(at, at is timely[-1], None if at is timely[-1] else "a later run makes up for it") for at in timely]


def order_at(schedule: Schedule, due: datetime) -> BulkOrder:
    """The order of the run that is due: the day and time stand in its source and target.

    Names of files then tell the nights apart: ``town:scored-{date}.parquet``.
    """
    local = due.astimezone(find_zone(schedule.zone))
    words = {"{date}": f"{local:%Y-%m-%d}", "{time}": f"{local:%H%M}"}

    def filled(text: str) -> str:
        for word, value in words.items():
            text = text.replace(word, value)
        return text

    order = schedule.order
    return replace(order, source=filled(order.source), target=None if order.target is None else filled(order.target))


def run_name_at(schedule: str, due: datetime) -> str:
    """The name of the run that is due: the same for whoever starts it."""
    return f"{schedule[:45]}-{due.astimezone(UTC):%Y%m%d-%H%M}"


def write_schedules(schedules: Sequence[Schedule]) -> dict[str, Any]:
    """Schedules by name, as a document holds them."""
    document: dict[str, Any] = {}
    for one in sorted(schedules, key=lambda schedule: schedule.name):
        entry: dict[str, Any] = {"every": one.every, "zone": one.zone, "run": write_order(one.order)}
        document[one.name] = entry | ({"missed": one.missed} if one.missed != "once" else {}) | ({"paused": True} if one.paused else {})
    return document


def read_schedules(document: Any) -> dict[str, Schedule]:
    """The schedules of a document; raise BadRequest that names the place."""
    if not isinstance(document, dict):
        raise BadRequest("schedules need a table [schedules.NAME] each")
    schedules = {}
    for name, entry in document.items():
        if not isinstance(entry, dict) or not isinstance(entry.get("every"), str):
            raise BadRequest(f"schedules.{name} needs every, zone and run")
        if odd := sorted(entry.keys() - {"every", "zone", "run", "missed", "paused"}):
            raise BadRequest(f"schedules.{name} has a key {odd[0]!r}; it has every, zone, run, missed and paused")
        try:
            schedules[str(name)] = Schedule(
                str(name),
                entry["every"],
                str(entry.get("zone", "UTC")),
                read_order(entry.get("run")),
                entry.get("missed", "once"),
                entry.get("paused", False) is True,
            )
        except BadRequest as error:
            raise BadRequest(f"schedules.{name}: {error.detail}") from error
    return schedules
