"""Finds the address of the service and the token: from arguments, then the environment, then the client's file.

The file is ``$LAMPPOST_CONFIG``, or ``lamppost/client.toml`` in ``$XDG_CONFIG_HOME`` or ``~/.config``. It is kept at mode 0600.
"""

from __future__ import annotations

import os
import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lamppost.core.errors import LampPostError

DEFAULT_ADDRESS = "http://127.0.0.1:8420"


@dataclass(frozen=True, slots=True)
class Connection:
    """address : of the service, without a slash at its end. token : None where none is known."""

    address: str
    token: str | None


def config_file() -> Path:
    """Where the client's file lies."""
    if given := os.environ.get("LAMPPOST_CONFIG"):
        return Path(given)
    return Path(os.environ.get("XDG_CONFIG_HOME") or Path.home() / ".config") / "lamppost" / "client.toml"


def find_connection(address: str | None = None, token: str | None = None) -> Connection:
    """What to talk to and with which token."""
    kept = _read()
    chosen = (address or os.environ.get("LAMPPOST_ADDRESS") or kept.get("address") or DEFAULT_ADDRESS).rstrip("/")
    return Connection(chosen, token or os.environ.get("LAMPPOST_TOKEN") or kept.get("tokens", {}).get(chosen))


def keep_token(address: str, token: str) -> Path:
    """Remember a token and make its address the default; returns the file."""
    path = config_file()
    kept = _read()
    tokens = kept.get("tokens", {}) | {address: token}
    lines = [f'address = "{address}"', "", "[tokens]", *(f'"{key}" = "{value}"' for key, value in sorted(tokens.items()))]
    path.parent.mkdir(parents=True, exist_ok=True)
    unfinished = path.with_name(f".{path.name}.{os.getpid()}")
    with os.fdopen(os.open(unfinished, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w", encoding="utf-8") as file:
        file.write("\n".join(lines) + "\n")
    unfinished.replace(path)
    return path


def _read() -> dict[str, Any]:
    path = config_file()
    try:
        return tomllib.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        return {}
    except (tomllib.TOMLDecodeError, OSError) as error:
        raise LampPostError(f"{path} cannot be read ({error}); mend it or take it away") from error
