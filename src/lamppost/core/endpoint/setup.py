"""What an endpoint serves, and how: one version or several, look-ups, lenient reading, lane rules, monitoring settings.

A setup is kept whole with each change of an endpoint, so that any earlier one can be put back.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, fields, replace
from dataclasses import field as default
from functools import cache, lru_cache
from typing import Any, ClassVar, Literal

from pydantic import TypeAdapter, ValidationError

from lamppost.core.endpoint.remote_endpoints import RemoteAddress, RemoteDescription, is_remote, parse_remote, read_description
from lamppost.core.endpoint.rollout import RolloutPlan
from lamppost.core.endpoint.shares import Shares
from lamppost.core.errors import BadRequest, Conflict
from lamppost.core.monitoring.settings import MonitoringSettings
from lamppost.core.names import RESERVED_FIELDS, VersionName, parse_version

_CLOSED = {"extra": "forbid", "allow_inf_nan": False}
MAX_SHADOWS = 4
MAX_VERSIONS = 32
"""Most versions behind one endpoint: their names, one after the other, are a key of the tables of latency, which holds 2,704 bytes."""

MAX_REMOTES = 6
"""Most remote endpoints behind one; their services' names stand beside them in that key."""

Unknown = Literal["refuse", "missing"]


@dataclass(frozen=True, slots=True)
class VersionChoice:
    """Which of several versions answers: each row's by a field, or each call's by an option or a header.

    name : of the field, option or header. cases : its values, each with a version. other : the version for any other value, or none.
    """

    by: Literal["field", "option", "header"]
    name: str
    cases: dict[str, str]
    other: str | None = None

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class EnsembleSetup:
    """Versions and remote endpoints that all answer, and one more that makes one answer of theirs.

    parts : a name for each of them, with its version or the address of a remote endpoint. combine : a version or such an address too;
    takes their answers as ``part.answer`` (``part.answer.choice`` of a vector), or as ``answer`` where only one part gives that, and, by
    their own names, fields of the request. described : by address, what each remote endpoint promised when the setup was made, which
    the service finds out.
    """

    parts: dict[str, str]
    combine: str
    described: dict[str, dict[str, Any]] = default(default_factory=dict)

    __pydantic_config__: ClassVar = _CLOSED

    @property
    def names(self) -> tuple[str, ...]:
        """Versions and addresses; the one that combines first."""
        return (self.combine, *self.parts.values())

    @property
    def remotes(self) -> tuple[RemoteAddress, ...]:
        """The remote endpoints, each once."""
        return tuple(parse_remote(name) for name in dict.fromkeys(self.names) if is_remote(name))

    def description_of(self, address: str) -> RemoteDescription:
        """What a remote endpoint promised; raise Conflict where that was not found out."""
        if address not in self.described:
            raise Conflict(f"what {address} answers was not asked yet")
        return read_description(self.described[address], address)


@dataclass(frozen=True, slots=True)
class LookupSetup:
    """Fields that a table in PostgreSQL knows: a key in the request becomes them.

    source : name of a database that the operator gave the node. table : ``table`` or ``schema.table``. key : the field that callers send.
    column : the table's column with keys. fields : the model's fields, each with the column that holds it. key_kind, example : what the key
    column holds, and a key that is there, both of which the service finds out.
    ttl_s : how long a row that was read is used again. timeout_s : longest wait for the database.
    unknown : whether a key that is not in the table is refused, or its fields are missing.
    """

    source: str
    table: str
    key: str
    column: str
    fields: dict[str, str]
    key_kind: Literal["text", "integer"] | None = None
    example: int | str | None = None
    ttl_s: float = 60.0
    timeout_s: float = 0.5
    unknown: Unknown = "refuse"

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class LaneRules:
    """How the lanes behind an endpoint are run; None leaves it to the service.

    copies_least, copies_most : workers that a version is open in. max_rows : most rows of a batch. target_ms : what the p99 should stay
    under; batches are made smaller for it. queue_rows, queue_s : most rows that may wait, and longest expected wait, before callers are
    refused. linger_ms : how long a lone request waits for others. run_s : longest time for one batch. keep_warm : opened at the start and
    never let go. sleep_after_s : quiet time after which it is let go until the next request. threads : that graphs and
    networks compute one batch on. form : whether the compiled form of fitted steps answers where there is one, or the original.
    """

    copies_least: int | None = None
    copies_most: int | None = None
    max_rows: int | None = None
    target_ms: float | None = None
    queue_rows: int | None = None
    queue_s: float | None = None
    linger_ms: float | None = None
    run_s: float | None = None
    keep_warm: bool = False
    sleep_after_s: float | None = None
    threads: int | None = None
    form: Literal["compiled", "original"] | None = None

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        bounds: dict[str, tuple[float, float]] = {
            "copies_least": (1, 64),
            "copies_most": (1, 64),
            "max_rows": (1, 10_000),
            "target_ms": (0.1, 60_000),
            "queue_rows": (1, 1_000_000),
            "queue_s": (0.001, 600),
            "linger_ms": (0, 1_000),
            "run_s": (0.01, 600),
            "sleep_after_s": (1, 86_400),
            "threads": (1, 64),
        }
        for name, (low, high) in bounds.items():
            value = getattr(self, name)
            if value is not None and not low <= value <= high:
                raise BadRequest(f"lane.{name} is {value:g}; it goes from {low:g} to {high:,g}")
        if (self.copies_least or 1) > (self.copies_most or 64):
            raise BadRequest(f"lane.copies_least is {self.copies_least}, above copies_most, which is {self.copies_most}")


def combine_lane_rules(rules: Iterable[LaneRules]) -> LaneRules:
    """The rules of a lane that several endpoints use: room enough for each of them, the tightest target, the longest sleep, and
    the original form where one of them asks for it.
    """
    combined = LaneRules()
    for rule in rules:
        if combined == LaneRules():
            combined = rule
        elif rule != LaneRules():
            values: dict[str, Any] = {}
            for field in fields(LaneRules):
                pair = [value for value in (getattr(combined, field.name), getattr(rule, field.name)) if value is not None]
                values[field.name] = (min if field.name in ("target_ms", "linger_ms") else max)(pair, default=None)
            combined = LaneRules(**values)
    return combined


@dataclass(frozen=True, slots=True)
class ShadowSetup:
    """A version that gets copies of calls. Its answers are recorded and compared, and no caller waits for them. share : percent of
    calls.
    """

    version: str
    share: float = 100.0

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        if not 0 < self.share <= 100:
            raise BadRequest(f"the shadow {self.version} has {self.share:g} % of calls; it is above 0 and at most 100")


@dataclass(frozen=True, slots=True)
class EndpointSetup:
    """What an endpoint serves: exactly one of version, shares, choose and together.

    shadows : versions that get copies. rollout : how a rollout goes where nothing else is said. lane : how its lanes are run.
    monitoring : see `MonitoringSettings`. lenient : whether values are converted where their meaning is certain; see
    `lamppost.core.payload.coercion`.

    >>> EndpointSetup(version="outage-risk@2").versions
    (VersionName(model='outage-risk', number=2),)
    """

    version: str | None = None
    shares: Shares | None = None
    choose: VersionChoice | None = None
    together: EnsembleSetup | None = None
    lookups: tuple[LookupSetup, ...] = default(default=())
    lenient: bool = False
    lane: LaneRules = LaneRules()
    shadows: tuple[ShadowSetup, ...] = default(default=())
    rollout: RolloutPlan | None = None
    monitoring: MonitoringSettings = default(default=MonitoringSettings())

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        if sum(way is not None for way in (self.version, self.shares, self.choose, self.together)) != 1:
            raise BadRequest(
                "an endpoint serves a version, or gives versions shares, or chooses between them, or asks several together: say exactly one"
            )
        remote = () if self.together is None else self.together.remotes
        if not self._names:
            raise BadRequest(
                f"all parts are remote ({', '.join(map(str, remote))}); name a version of this service too, or let callers ask there"
                if remote
                else "name at least one version"
            )
        if len(remote) > MAX_REMOTES:
            raise BadRequest(f"an endpoint may have {MAX_REMOTES} remote parts, this one has {len(remote)}")
        if len(self._names) + len(remote) > MAX_VERSIONS:
            raise BadRequest(f"an endpoint may have {MAX_VERSIONS} versions, this one has {len(self._names) + len(remote)}")
        for name in self._names:
            parse_version(name)
        keys = [self.choose.name] if self.choose else [self.shares.sticky.name] if self.shares and self.shares.sticky else []
        if reserved := [name for name in keys if name in RESERVED_FIELDS]:
            raise BadRequest(f"{reserved[0]!r} is a key of request bodies themselves; choose by another name")
        if self.together is not None and (odd := [part for part in self.together.parts if not part or "." in part]):
            raise BadRequest(f"{odd[0]!r} cannot name a part; use letters, digits and hyphens")
        if len(self.shadows) > MAX_SHADOWS:
            raise BadRequest(f"an endpoint may have {MAX_SHADOWS} shadows, this one has {len(self.shadows)}")
        shadows = [shadow.version for shadow in self.shadows]
        for name in shadows:
            parse_version(name)
            if shadows.count(name) > 1 or name in self._names:
                raise BadRequest(f"{name} cannot be a shadow of its own answers, or twice")
        for lookup in self.lookups:
            if not lookup.fields or lookup.key in lookup.fields:
                raise BadRequest(f"the look-up in {lookup.table} needs fields that it gives, and its key {lookup.key!r} is none of them")
            if not 0 <= lookup.ttl_s <= 86_400 or not 0 < lookup.timeout_s <= 30:
                raise BadRequest("a look-up is kept for 0 to 86,400 seconds, and waited for at most 30")
        given = [name for lookup in self.lookups for name in lookup.fields]
        if twice := sorted({name for name in given if given.count(name) > 1}):
            raise BadRequest(f"two look-ups give the field {twice[0]!r}")

    @property
    def _names(self) -> tuple[str, ...]:
        if self.version is not None:
            return (self.version,)
        if self.shares is not None:
            return (self.shares.largest_share, *self.shares.of)
        if self.choose is not None:
            return (*self.choose.cases.values(), *([self.choose.other] if self.choose.other else []))
        assert self.together is not None
        return tuple(name for name in self.together.names if not is_remote(name))

    @property
    def versions(self) -> tuple[VersionName, ...]:
        """Every version of this service, once; the one that stands for the endpoint first: the only, the first case's, the one that
        combines, or the one with the largest share. Shadows are none of them.
        """
        return _parsed(self._names)

    @property
    def shadow_versions(self) -> tuple[VersionName, ...]:
        """The versions that get copies."""
        return _parsed(tuple(shadow.version for shadow in self.shadows))

    def summary(self) -> str:
        """What is served, in a few words: ``north@1 or south@2 by district``."""
        if self.version is not None:
            return self.version
        if self.shares is not None:
            return self.shares.summary()
        if self.choose is not None:
            by = self.choose.name if self.choose.by == "field" else f"{self.choose.by} {self.choose.name}"
            return f"{' or '.join(dict.fromkeys(self._names))} by {by}"
        assert self.together is not None
        return f"{self.together.combine} over {', '.join(self.together.parts.values())}"

    def with_version(self, version: VersionName) -> EndpointSetup:
        """The same setup with one version, which answers alone."""
        return replace(
            self,
            version=str(version),
            shares=None,
            choose=None,
            together=None,
            shadows=tuple(shadow for shadow in self.shadows if shadow.version != str(version)),
        )

    def with_replaced(self, version: VersionName, by: VersionName) -> EndpointSetup:
        """The same setup with one version in the place of another, wherever the other stands.

        >>> setup = EndpointSetup(shares=Shares({"risk@1": 90, "risk@2": 10}))
        >>> setup.with_replaced(VersionName("risk", 1), VersionName("risk", 2)).summary()
        'risk@2 100 %'
        """

        def new(name: str) -> str:
            return str(by) if name == str(version) else name

        shares, choose, together = self.shares, self.choose, self.together
        if shares is not None:
            of: dict[str, float] = {}
            for name, share in shares.of.items():
                of[new(name)] = of.get(new(name), 0) + share
            shares = replace(shares, of=of)
        if choose is not None:
            cases = {value: new(name) for value, name in choose.cases.items()}
            choose = replace(choose, cases=cases, other=None if choose.other is None else new(choose.other))
        if together is not None:
            parts = {part: new(name) for part, name in together.parts.items()}
            together = replace(together, parts=parts, combine=new(together.combine))
        alone = None if self.version is None else new(self.version)
        answering = {new(name) for name in self._names}
        shadows = {new(shadow.version): replace(shadow, version=new(shadow.version)) for shadow in self.shadows}
        kept = tuple(shadow for name, shadow in shadows.items() if name not in answering)
        return replace(self, version=alone, shares=shares, choose=choose, together=together, shadows=kept)

    def with_shares(self, shares: Shares) -> EndpointSetup:
        """The same setup with shares."""
        kept = tuple(shadow for shadow in self.shadows if shadow.version not in shares.of)
        return replace(self, version=None, shares=shares, choose=None, together=None, shadows=kept)


@lru_cache(maxsize=10_000)
def _parsed(names: tuple[str, ...]) -> tuple[VersionName, ...]:
    return tuple(parse_version(name) for name in dict.fromkeys(names))


@cache
def _adapter() -> TypeAdapter[EndpointSetup]:
    return TypeAdapter(EndpointSetup)


def write_setup(setup: EndpointSetup) -> dict[str, Any]:
    """A setup as JSON has it, without what is at its default."""
    data: dict[str, Any] = _adapter().dump_python(setup, mode="json", exclude_defaults=True)
    return data


def without_findings(setup: EndpointSetup) -> EndpointSetup:
    """A setup as somebody would write it: without what the service finds out about look-ups and remote endpoints."""
    lookups = tuple(replace(lookup, key_kind=None, example=None) for lookup in setup.lookups)
    together = None if setup.together is None else replace(setup.together, described={})
    return replace(setup, lookups=lookups, together=together)


def read_setup(data: Any) -> EndpointSetup:
    """A setup from JSON values; raise BadRequest that names the key."""
    try:
        return _adapter().validate_python(data)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        place = ".".join(str(part) for part in first["loc"])
        raise BadRequest(f"the setup is wrong at {place or 'its top'}: {first['msg'].lower()}") from error
