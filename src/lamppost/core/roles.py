"""Roles, and the permissions they are made of."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any, Literal, get_args

from lamppost.core.errors import NotAllowed

Role = Literal["caller", "viewer", "publisher", "operator", "reviewer", "admin", "desk", "outpost"]
Permission = Literal["predict", "view", "push", "point", "review", "tokens", "desk", "outpost"]
ROLES: tuple[str, ...] = get_args(Role)

MAY: dict[str, frozenset[Permission]] = {
    "caller": frozenset({"predict"}),
    "viewer": frozenset({"view"}),
    "publisher": frozenset({"view", "predict", "push"}),
    "operator": frozenset({"view", "predict", "push", "point", "desk"}),
    "reviewer": frozenset({"view", "predict", "review"}),
    "admin": frozenset(get_args(Permission)) - {"outpost"},
    "desk": frozenset({"desk"}),
    "outpost": frozenset({"outpost"}),
}


LOAD_TOKEN = "load:"  # noqa: S105, the beginning of a name
"""What the name of the token of a load begins with; no other token's name can have a colon."""


def is_load(token: str | None) -> bool:
    """Whether a call came from a load: it is recorded, and counts as no traffic."""
    return token is not None and token.startswith(LOAD_TOKEN)


@dataclass(frozen=True, slots=True)
class Principal:
    """The sender of a request.

    endpoints : the only ones a caller may ask, or whose desk a link opens; None for all. expires_at : when the token ends by itself.
    rate_per_s : requests a second that it may make on each node.
    """

    token: str
    role: Role
    endpoints: frozenset[str] | None = None
    expires_at: datetime | None = None
    rate_per_s: float | None = None

    def require_permission(self, permission: Permission, endpoint: str | None = None) -> None:
        """Raise NotAllowed unless the role covers ``permission``, for this endpoint if one is named."""
        if permission not in MAY[self.role]:
            able = ", ".join(role for role in ROLES if permission in MAY[role])
            raise NotAllowed(f"token {self.token!r} has the role {self.role}, which may not {permission}; roles that may: {able}")
        if endpoint is not None and self.endpoints is not None and endpoint not in self.endpoints:
            raise NotAllowed(
                f"token {self.token!r} may ask {', '.join(sorted(self.endpoints)) or 'no endpoint'}, not {endpoint}; "
                "ask an admin for a token that covers it"
            )


def principal_to_dict(principal: Principal) -> dict[str, Any]:
    """A principal as values that JSON has, its time as a datetime."""
    return {**asdict(principal), "endpoints": None if principal.endpoints is None else sorted(principal.endpoints)}


def principal_from_dict(data: dict[str, Any]) -> Principal:
    """The principal that `principal_to_dict` wrote, from JSON: its time as text in ISO 8601."""
    return Principal(
        data["token"],
        data["role"],
        None if data["endpoints"] is None else frozenset(data["endpoints"]),
        None if data["expires_at"] is None else datetime.fromisoformat(data["expires_at"]),
        data["rate_per_s"],
    )
