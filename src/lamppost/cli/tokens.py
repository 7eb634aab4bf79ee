"""Command ``token``: makes, lists and revokes tokens."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from typing import Annotated

import typer

from lamppost.cli.out import DIM, paint, print_done, print_json, print_line, print_table, time_ago
from lamppost.cli.parameters import Address, AsJson
from lamppost.cli.times import parse_time
from lamppost.client import Client
from lamppost.client.config import find_connection, keep_token


def token_new(
    name: Annotated[str, typer.Argument(help="A name for it, such as billing-service.")],
    role: Annotated[str, typer.Option(help="caller, viewer, publisher, operator, reviewer or admin.")] = "caller",
    endpoint: Annotated[list[str] | None, typer.Option(help="For a caller: only this endpoint (may be repeated).")] = None,
    expires: Annotated[str | None, typer.Option(help="When the token expires: 90d, 12h, or a date such as 2027-03-31.")] = None,
    rate: Annotated[float | None, typer.Option(help="Most requests a second, on each node.")] = None,
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``token new``."""
    expires_at = None if expires is None else parse_time(expires, datetime.now(UTC)).isoformat()
    with Client(address) as client:
        answer = client.make_token(name, role, endpoint, expires_at, rate)
    if as_json:
        print_json(answer)
        return
    covers = f"may ask {', '.join(endpoint)}" if endpoint else f"has the role {role}"
    until = f" until {answer['expires_at'][:16].replace('T', ' ')} UTC" if answer["expires_at"] else ""
    limit = f", {rate:g} times a second" if rate else ""
    print_line(f"{name} {covers}{until}{limit}. Its secret is shown this once:")
    print_line(answer["secret"])


def token_list(address: Address = None, as_json: AsJson = False) -> None:
    """Command ``token list``."""
    with Client(address) as client:
        tokens = client.tokens()
    if as_json:
        print_json(tokens)
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
            for t in tokens
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


def token_rotate(
    name: Annotated[str, typer.Argument(help="The token's name.")],
    keep: Annotated[str, typer.Option(help="How long the former secret stays in force: 1h, 30min, 2d, or 0 to end it now.")] = "1h",
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``token rotate``."""
    now = datetime.now(UTC)
    keep_s = 0 if keep == "0" else round((parse_time(keep, now) - now).total_seconds())
    with Client(address) as client:
        own = client.fetch("GET", "/api/session")["token"] == name
        answer = client.rotate_token(name, keep_s)
    kept = keep_token(find_connection(address).address, answer["secret"]) if own and "LAMPPOST_TOKEN" not in os.environ else None
    if as_json:
        print_json(answer)
        return
    ends = f"The former one ends at {answer['former_until'][:16].replace('T', ' ')} UTC" if keep_s else "The former one has ended"
    print_line(f"{name} has a new secret, shown this once. {ends}.")
    print_line(answer["secret"])
    if kept:
        print_line(paint(f"  it is your own token: kept in {kept}", DIM))


def token_revoke(name: Annotated[str, typer.Argument(help="The token's name.")], address: Address = None, as_json: AsJson = False) -> None:
    """Command ``token revoke``."""
    with Client(address) as client:
        client.revoke_token(name)
    print_done(f"{name} is revoked", {"revoked": name}, as_json)
