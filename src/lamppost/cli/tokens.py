"""Command ``token``: makes, lists and revokes tokens."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from urllib.parse import quote

from lamppost.cli.out import print_json, print_line, print_table, time_ago
from lamppost.client import Client
from lamppost.core.errors import BadRequest


@dataclass(frozen=True, slots=True)
class TokenOptions:
    """What was said on the command line. expires : ``90d``, ``12h`` or a date. rate : requests a second."""

    name: str
    role: str
    endpoints: list[str] | None
    expires: str | None
    rate: float | None


def token_new(wanted: TokenOptions, address: str | None, as_json: bool) -> None:
    """``lamppost token new``."""
    asked = {"name": wanted.name, "role": wanted.role, "endpoints": wanted.endpoints or None, "rate_per_s": wanted.rate}
    if wanted.expires is not None:
        asked["expires_at"] = parse_time(wanted.expires, datetime.now(UTC)).isoformat()
    with Client(address) as client:
        answer = client.fetch("POST", "/api/tokens", asked)
    if as_json:
        print_json(answer)
        return
    covers = f"may ask {', '.join(wanted.endpoints)}" if wanted.endpoints else f"has the role {wanted.role}"
    until = f" until {answer['expires_at'][:16].replace('T', ' ')} UTC" if answer["expires_at"] else ""
    pace = f", {wanted.rate:g} times a second" if wanted.rate else ""
    print_line(f"{wanted.name} {covers}{until}{pace}. Its secret is shown this once:")
    print_line(answer["secret"])


def parse_time(text: str, now: datetime) -> datetime:
    """A time from ``90d``, ``12h``, ``30min``, or a date or RFC 3339 time; raise BadRequest for anything else."""
    if found := re.fullmatch(r"(\d{1,5})(d|h|min)", text.strip()):
        unit = {"d": "days", "h": "hours", "min": "minutes"}[found[2]]
        return now + timedelta(**{unit: int(found[1])})
    try:
        at = datetime.fromisoformat(text)
    except ValueError as error:
        raise BadRequest(f"{text!r} is no time; write 90d, 12h, 30min, or a date such as 2027-03-31") from error
    return at if at.tzinfo else at.replace(tzinfo=UTC)


def token_list(address: str | None, as_json: bool) -> None:
    """``lamppost token list``."""
    with Client(address) as client:
        found = client.fetch("GET", "/api/tokens")
    if as_json:
        print_json(found)
        return
    now = datetime.now(UTC)
    print_table(
        ["token", "role", "endpoints", "a second", "made", "by", "last used", "state"],
        [
            [
                t["name"],
                t["role"],
                "all" if t["endpoints"] is None else ", ".join(t["endpoints"]),
                "any" if t["rate_per_s"] is None else f"{t['rate_per_s']:g}",
                time_ago(t["made_at"]),
                t["made_by"] or "",
                time_ago(t["last_used_at"]) if t["last_used_at"] else "never",
                _state(t["revoked_at"], t["expires_at"], now),
            ]
            for t in found
        ],
        right=frozenset({"a second"}),
    )


def _state(revoked_at: str | None, expires_at: str | None, now: datetime) -> str:
    if revoked_at:
        return f"revoked {time_ago(revoked_at)}"
    if expires_at is None:
        return "in force"
    if datetime.fromisoformat(expires_at) <= now:
        return f"expired {time_ago(expires_at)}"
    return f"in force until {expires_at[:10]}"


def token_revoke(name: str, address: str | None) -> None:
    """``lamppost token revoke``."""
    with Client(address) as client:
        client.fetch("DELETE", f"/api/tokens/{quote(name, safe='')}")
    print_line(f"{name} is revoked")
