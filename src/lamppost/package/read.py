"""Reads lamp files that may be broken or hostile.

Nothing is written to disk before every member's path, size and digest have been checked against the manifest, and no member
is ever unpickled here. All that can be wrong becomes PackageRefused with one clear sentence.
"""

from __future__ import annotations

import hashlib
import shutil
import stat
import struct
import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path, PurePosixPath

from lamppost.core.artifact.manifest import MANIFEST, Manifest, PackageFile, manifest_digest, read_manifest
from lamppost.core.artifact.proof import Proof, read_proof
from lamppost.core.artifact.reference import Reference, read_reference
from lamppost.core.errors import PackageRefused
from lamppost.core.insight.insight import ModelInsight, read_insight
from lamppost.core.limits import MAX_MANIFEST_BYTES, MAX_MEMBER_BYTES, MAX_MEMBERS, MAX_PACKAGE_BYTES
from lamppost.package.signing import MAX_SIGNATURES_BYTES, SIGNATURES, Signature, check, read_signatures

_CHUNK = 2**20
_SHARED_BYTES = 2**20
_SHOWN_ERROR = 200
"""Letters of an error of the ZIP library; it quotes the file, which may be anything."""


@dataclass(frozen=True, slots=True)
class Lamp:
    """A lamp file that was checked whole.

    path : where it lies. digest : content digest, hex. size_bytes : size of the file itself. signatures : all of them checked.
    """

    path: Path
    manifest: Manifest
    proof: Proof
    reference: Reference | None
    digest: str
    size_bytes: int
    signatures: tuple[Signature, ...] = ()
    insight: ModelInsight | None = None

    def __repr__(self) -> str:
        """Short, because a notebook shows it."""
        inputs, answers = (", ".join(schema.names) for schema in (self.manifest.inputs, self.manifest.answers))
        return f"<Lamp {self.manifest.name} {self.digest[:12]}: {inputs[:200]} → {answers[:80]}; {self.path}>"

    def unpack(self, folder: Path) -> Path:
        """Put the members into ``folder/<digest>`` and return that folder; nothing is done when it is there already."""
        return unpack_lamp(self.path, self.digest, folder)


def unpack_lamp(path: Path, digest: str, folder: Path) -> Path:
    """Put the members of a lamp file of that digest into ``folder/<digest>``, each checked as it is written, and return that folder.

    Nothing is done when it is there already, and nothing is left of it when something is not as it should be: raise PackageRefused.
    """
    target = folder / digest
    if target.is_dir():
        return target
    folder.mkdir(parents=True, exist_ok=True)
    temporary = Path(tempfile.mkdtemp(dir=folder, prefix=".unpacking-"))
    try:
        with _opened(path) as archive:
            entries, raw = _read_head(path, archive)
            if manifest_digest(raw) != digest:
                raise PackageRefused(f"{path.name} is another package than {digest}; push it again")
            manifest = read_manifest(raw)
            _check_members(entries, manifest)
            for name, member in [(MANIFEST, None), *manifest.members.items()]:
                _extract(archive, name, member, temporary / name)
        temporary.chmod(0o700)
        temporary.rename(target)
    except BaseException as error:
        shutil.rmtree(temporary, ignore_errors=True)
        if isinstance(error, OSError) and target.is_dir():  # somebody else was faster
            return target
        raise
    return target


def read_unpacked(folder: Path, digest: str) -> tuple[Manifest, Proof]:
    """Manifest and proof of an unpacked package; raise FileNotFoundError without a folder, PackageRefused where something was changed.

    What else it holds is checked by whoever loads it.
    """
    if not folder.is_dir():
        raise FileNotFoundError(folder)
    try:
        raw = (folder / MANIFEST).read_bytes()
        manifest = read_manifest(raw) if manifest_digest(raw) == digest else None
        proof = (folder / manifest.proof).read_bytes() if manifest is not None else b""
    except OSError as error:
        raise PackageRefused(f"{folder} cannot be read: {error}") from error
    if manifest is None or hashlib.sha256(proof).hexdigest() != manifest.members[manifest.proof].sha256:
        raise PackageRefused(f"{folder} was changed since it was unpacked")
    return manifest, read_proof(proof)


def read_lamp(path: Path) -> Lamp:
    """Check a lamp file whole and return what is in it; raise PackageRefused for anything that is not as it should be."""
    with _opened(path) as archive:
        entries, raw = _read_head(path, archive)
        manifest = read_manifest(raw)
        _check_members(entries, manifest)
        for name, member in manifest.members.items():
            for _ in _checked(archive, name, member):
                pass
        proof = read_proof(_read_small(archive, entries[manifest.proof], MAX_MEMBER_BYTES))
        reference = (
            _reference_of(_read_small(archive, entries[manifest.reference], MAX_MEMBER_BYTES), manifest.format)
            if manifest.reference
            else None
        )
        insight = read_insight(_read_small(archive, entries[manifest.insight], MAX_MEMBER_BYTES)) if manifest.insight else None
        signatures = read_signatures(_read_small(archive, entries[SIGNATURES], MAX_SIGNATURES_BYTES)) if SIGNATURES in entries else ()
    digest = manifest_digest(raw)
    check(signatures, digest)
    return Lamp(path, manifest, proof, reference, digest, path.stat().st_size, signatures, insight)


def _reference_of(data: bytes, package_format: int) -> Reference:
    """A reference; versions of one family often share it, so small ones that were read last are kept."""
    return _shared_reference(data, package_format) if len(data) <= _SHARED_BYTES else read_reference(data, package_format)


@lru_cache(8)
def _shared_reference(data: bytes, package_format: int) -> Reference:
    return read_reference(data, package_format)


def _read_head(path: Path, archive: zipfile.ZipFile) -> tuple[dict[str, zipfile.ZipInfo], bytes]:
    """What is in the archive, by paths that are allowed, and the manifest's bytes."""
    entries = _check_entries(archive)
    if MANIFEST not in entries:
        raise PackageRefused(f"{path.name} has no {MANIFEST}; it is a ZIP, but no lamp file")
    return entries, _read_small(archive, entries[MANIFEST])


@contextmanager
def _opened(path: Path) -> Iterator[zipfile.ZipFile]:
    """The archive, with every error of the ZIP library said as a refusal."""
    try:
        with zipfile.ZipFile(path) as archive:
            yield archive
    except FileNotFoundError as error:
        raise PackageRefused(f"there is no file {path}") from error
    except IsADirectoryError as error:
        raise PackageRefused(f"{path} is a folder; give the lamp file itself") from error
    except (
        zipfile.BadZipFile,
        zlib.error,
        struct.error,
        OSError,
        EOFError,
        KeyError,
        OverflowError,
        NotImplementedError,
        RuntimeError,
        UnicodeError,
        ValueError,
    ) as error:
        with path.open("rb") as file:
            start = file.read(4)
        if start == b"PK\x03\x04":
            raise PackageRefused(
                f"{path.name} is damaged or cut short ({str(error)[:_SHOWN_ERROR]}); copy it again or pack the model again"
            ) from error
        raise PackageRefused(f"{path.name} is no lamp file (a lamp file is a ZIP, this is not)") from error


def member_starts(path: Path) -> list[int]:
    """Where each file inside begins, in bytes: good places to cut."""
    with _opened(path) as archive:
        return [info.header_offset for info in archive.infolist()]


def _check_entries(archive: zipfile.ZipFile) -> dict[str, zipfile.ZipInfo]:
    entries: dict[str, zipfile.ZipInfo] = {}
    infos = archive.infolist()
    if len(infos) > MAX_MEMBERS:
        raise PackageRefused(f"the lamp file has {len(infos)} members; {MAX_MEMBERS} are allowed")
    for info in infos:
        name = info.filename
        parts = PurePosixPath(name).parts
        if not name or name.startswith("/") or "\\" in name or ":" in name or "\0" in name or ".." in parts or info.is_dir():
            raise PackageRefused(f"the lamp file holds a path that is not allowed: {name!r}; members are plain relative files")
        if stat.S_ISLNK(info.external_attr >> 16):
            raise PackageRefused(f"the lamp file holds a link: {name!r}; members are plain files")
        if info.flag_bits & 0x1:
            raise PackageRefused(f"member {name!r} is encrypted; pack the model again")
        if name in entries:
            raise PackageRefused(f"member {name!r} stands twice in the lamp file")
        entries[name] = info
    return entries


def _check_members(entries: dict[str, zipfile.ZipInfo], manifest: Manifest) -> None:
    if extra := entries.keys() - manifest.members.keys() - {MANIFEST, SIGNATURES}:
        raise PackageRefused(f"the lamp file holds files that its manifest does not list: {', '.join(sorted(extra)[:5])}")
    if lost := manifest.members.keys() - entries.keys():
        raise PackageRefused(f"the manifest lists files that the lamp file does not hold: {', '.join(sorted(lost)[:5])}")
    total = sum(member.size_bytes for member in manifest.members.values())
    if total > MAX_PACKAGE_BYTES:
        raise PackageRefused(f"unpacked, the lamp file has {total:,} bytes; {MAX_PACKAGE_BYTES:,} are allowed")
    for name, member in manifest.members.items():
        if entries[name].file_size != member.size_bytes:
            raise PackageRefused(
                f"member {name!r} unpacks to {entries[name].file_size:,} bytes, the manifest says {member.size_bytes:,}; "
                "the file was changed after packing"
            )


def _read_small(archive: zipfile.ZipFile, info: zipfile.ZipInfo, limit: int = MAX_MANIFEST_BYTES) -> bytes:
    with archive.open(info) as file:
        data = file.read(limit + 1)
    if len(data) > limit:
        raise PackageRefused(f"member {info.filename!r} unpacks to over {limit:,} bytes, which is not allowed")
    return data


def _checked(archive: zipfile.ZipFile, name: str, member: PackageFile) -> Iterator[bytes]:
    """The member's bytes in chunks; never more than the manifest says, and refused unless their digest is the manifest's."""
    hasher, size = hashlib.sha256(), 0
    with archive.open(name) as file:
        while chunk := file.read(_CHUNK):
            size += len(chunk)
            if size > member.size_bytes:
                raise PackageRefused(f"member {name!r} unpacks to more than the {member.size_bytes:,} bytes the manifest says")
            hasher.update(chunk)
            yield chunk
    if hasher.hexdigest() != member.sha256:
        raise PackageRefused(f"member {name!r} has another digest than the manifest says; the file was changed or damaged after packing")


def _extract(archive: zipfile.ZipFile, name: str, member: PackageFile | None, target: Path) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    with target.open("wb") as file:
        for chunk in [_read_small(archive, archive.getinfo(name))] if member is None else _checked(archive, name, member):
            file.write(chunk)
