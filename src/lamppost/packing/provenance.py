"""Finds who packed a model, and from which commit. Reads no clock, so that the same inputs give the same bytes.

The time is that of SOURCE_DATE_EPOCH (reproducible-builds.org) where it is set, else that of the commit; a service notes by itself
when a package was pushed.
"""

from __future__ import annotations

import getpass
import os
import subprocess
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path


@dataclass(frozen=True, slots=True)
class PackOrigin:
    """by : who packed. commit : of the checkout, full hash. changed : whether files there differ from it. at : RFC 3339 time, or None."""

    by: str | None
    commit: str | None
    changed: bool
    at: str | None


def find_origin(folder: Path, by: str | None = None) -> PackOrigin:
    """Where a package that is made in ``folder`` comes from."""
    commit = _git(folder, "rev-parse", "HEAD")
    changed = commit is not None and bool(_git(folder, "status", "--porcelain", "--untracked-files=no"))
    epoch = os.environ.get("SOURCE_DATE_EPOCH") or (_git(folder, "show", "-s", "--format=%ct", "HEAD") if commit else None)
    at = datetime.fromtimestamp(int(epoch), UTC).isoformat().replace("+00:00", "Z") if epoch and epoch.isdigit() else None
    return PackOrigin(by or _git(folder, "config", "user.name") or _login(), commit, changed, at)


def _git(folder: Path, *arguments: str) -> str | None:
    """What git says, None where there is no git, no checkout, or nothing to say."""
    try:
        done = subprocess.run(["git", "-C", str(folder), *arguments], capture_output=True, text=True, timeout=10, check=True)
    except (OSError, subprocess.SubprocessError):
        return None
    return done.stdout.strip() or None


def _login() -> str | None:
    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):
        return None
