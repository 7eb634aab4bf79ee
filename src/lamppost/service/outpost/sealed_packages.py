"""Keeps the packages of an outpost on its disk in cipher only: with a key that the hub gives at the start and that stays in memory.

Open packages lie in a folder of memory (tmpfs), which ends with the machine. A sealed file is AES-256-GCM (NIST SP 800-38D) in segments:
each with a nonce of eight random bytes of the file and four of the segment's number, and bound to the package's digest and to whether it
is the last one.
"""

from __future__ import annotations

import base64
import hashlib
import os
import secrets
import shutil
import struct
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

from lamppost.core.errors import PackageRefused, SetupError

KEY_BYTES = 32
_MEMORY = Path("/dev/shm")  # noqa: S108 - memory, and a folder of this user alone
_MAGIC = b"LPSEAL1\n"
_SEGMENT = 4 * 2**20
_TAG = 16
_PREFIX = 8
_TMPFS = "tmpfs"


def memory_folder(data: Path) -> Path:
    """A folder of memory for an outpost, empty, for this user alone. Raise SetupError where the machine has none."""
    mounts = {line.split()[1]: line.split()[2] for line in Path("/proc/mounts").read_text(encoding="utf-8").splitlines()}
    if mounts.get(str(_MEMORY)) != _TMPFS:
        raise SetupError(f"--sealed needs a folder of memory at {_MEMORY}, and there is none; start without --sealed")
    folder = _MEMORY / f"lamppost-{hashlib.sha256(str(data).encode()).hexdigest()[:16]}"
    shutil.rmtree(folder, ignore_errors=True)  # of a process that was killed
    folder.mkdir(mode=0o711)
    return folder


class SealedPackages:
    """The sealed files in a folder. key : given once, by the hub."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._cipher: AESGCM | None = None

    def take_key(self, text: str) -> None:
        """Take the key, in base64; raise SetupError for what is none."""
        try:
            key = base64.b64decode(text, validate=True)
        except ValueError:
            key = b""
        if len(key) != KEY_BYTES:
            raise SetupError("the hub gave no key for sealed packages; it may be of an older version")
        self._cipher = AESGCM(key)

    def seal(self, digest: str, file: Path) -> None:
        """Keep a package."""
        self._folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        part = self._path(digest).with_suffix(".part")
        prefix = secrets.token_bytes(_PREFIX)
        with file.open("rb") as source, part.open("wb") as target:
            target.write(_MAGIC + prefix)
            size, number = file.stat().st_size, 0
            while True:
                segment = source.read(_SEGMENT)
                last = source.tell() >= size
                target.write(self._known().encrypt(_nonce(prefix, number), segment, _bound(digest, number, last)))
                number += 1
                if last:
                    break
        part.replace(self._path(digest))

    def open(self, digest: str, to: Path) -> bool:
        """Put a package that is kept into a folder of memory; whether there is one. Raise PackageRefused for one that was changed."""
        path = self._path(digest)
        if not path.exists():
            return False
        part = to.with_name(f".{to.name}.part")
        with path.open("rb") as source, part.open("wb") as target:
            if source.read(len(_MAGIC)) != _MAGIC:
                raise PackageRefused(f"{path} is no sealed package; delete it, and it is fetched again")
            prefix, number = source.read(_PREFIX), 0
            size = path.stat().st_size
            while True:
                segment = source.read(_SEGMENT + _TAG)
                last = source.tell() >= size
                try:
                    target.write(self._known().decrypt(_nonce(prefix, number), segment, _bound(digest, number, last)))
                except InvalidTag:
                    part.unlink(missing_ok=True)
                    raise PackageRefused(f"{path} was changed, or sealed with another key; delete it, and it is fetched again") from None
                number += 1
                if last:
                    break
        os.replace(part, to)  # noqa: PTH105 - into the same folder
        return True

    def forget_others(self, digests: set[str]) -> None:
        """Delete the packages that are wanted no more."""
        for path in self._folder.glob("*.sealed") if self._folder.exists() else ():
            if path.stem not in digests:
                path.unlink(missing_ok=True)

    def _path(self, digest: str) -> Path:
        return self._folder / f"{digest}.sealed"

    def _known(self) -> AESGCM:
        if self._cipher is None:
            raise SetupError("the packages of this outpost are sealed, and the hub has not given the key yet")
        return self._cipher


def _nonce(prefix: bytes, number: int) -> bytes:
    return prefix + struct.pack(">I", number)


def _bound(digest: str, number: int, last: bool) -> bytes:
    return f"{digest} {number} {'last' if last else 'more'}".encode()
