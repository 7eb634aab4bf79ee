"""Signs packages and checks signatures: Ed25519 (RFC 8032) over the content digest, keys as PEM (RFC 8410).

A signature stands beside the manifest, not in it, so that signing does not change the digest.
"""

from __future__ import annotations

import base64
import os
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from pydantic import TypeAdapter, ValidationError

from lamppost.core.errors import BadRequest, PackageRefused
from lamppost.core.names import check_name

SIGNATURES = "signatures.json"
MAX_SIGNATURES_BYTES = 2**16
_SAID = b"lamppost package "


@dataclass(frozen=True, slots=True)
class Signature:
    """key : raw public key, base64. signature : base64, of the words ``lamppost package`` and the digest in hex."""

    key: str
    signature: str

    __pydantic_config__: ClassVar = {"extra": "forbid", "strict": True}


_LIST = TypeAdapter(list[Signature])


def make_key(folder: Path, name: str) -> tuple[Path, Path]:
    """A new key pair in ``folder``: the private file, which only its owner may read, and the public one. Raise BadRequest if it exists."""
    check_name(name, "key")
    private, public = folder / f"{name}.pem", folder / f"{name}.pub"
    if private.exists() or public.exists():
        raise BadRequest(f"there is a key {name} in {folder} already; choose another name")
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    key = Ed25519PrivateKey.generate()
    pem = key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    with os.fdopen(os.open(private, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
        file.write(pem)
    public.write_bytes(key.public_key().public_bytes(serialization.Encoding.PEM, serialization.PublicFormat.SubjectPublicKeyInfo))
    return private, public


def sign(private: Path, digest: str) -> Signature:
    """The signature of a package's digest; raise BadRequest where the file holds no Ed25519 key."""
    try:
        key = serialization.load_pem_private_key(private.read_bytes(), password=None)
    except OSError as error:
        raise BadRequest(f"the key {private} cannot be read: {error.strerror}; make one with: lamppost key new {private.stem}") from error
    except (ValueError, TypeError, UnsupportedAlgorithm) as error:
        raise BadRequest(f"{private} holds no private key that can be used: {error}") from error
    if not isinstance(key, Ed25519PrivateKey):
        raise BadRequest(f"{private} holds a key of another kind; Ed25519 is needed")
    raw = key.public_key().public_bytes_raw()
    return Signature(base64.b64encode(raw).decode(), base64.b64encode(key.sign(_SAID + digest.encode())).decode())


def read_public(path: Path) -> str:
    """The public key in a PEM file, as it stands in signatures."""
    try:
        key = serialization.load_pem_public_key(path.read_bytes())
    except OSError as error:
        raise BadRequest(f"the key {path} cannot be read: {error.strerror}") from error
    except (ValueError, UnsupportedAlgorithm) as error:
        raise BadRequest(f"{path} holds no public key: {error}") from error
    if not isinstance(key, Ed25519PublicKey):
        raise BadRequest(f"{path} holds a key of another kind; Ed25519 is needed")
    return base64.b64encode(key.public_bytes_raw()).decode()


def check(signatures: Iterable[Signature], digest: str) -> None:
    """Raise PackageRefused unless every signature is of this digest."""
    for signature in signatures:
        try:
            key = Ed25519PublicKey.from_public_bytes(base64.b64decode(signature.key, validate=True))
            key.verify(base64.b64decode(signature.signature, validate=True), _SAID + digest.encode())
        except (ValueError, InvalidSignature) as error:
            raise PackageRefused(f"the signature by {signature.key} is not of this package; it was changed after signing") from error


def demand(known: frozenset[str], signatures: Iterable[Signature], formats: frozenset[str]) -> None:
    """Raise PackageRefused for a package that can run code and that none of the known keys has signed.

    known : public keys; empty where nothing is demanded. formats : those of the package's manifest.
    """
    risky = formats - {"skops"}
    if not known or not risky:
        return
    given = [signature.key for signature in signatures]
    if not known.intersection(given):
        by = f"it is signed by {', '.join(given)}" if given else "it is not signed"
        raise PackageRefused(
            f"the package holds {' and '.join(sorted(risky))}, which can run code, and here that needs the signature of a known key; {by}; "
            "sign it with lamppost sign, or ask who runs the service to trust that key"
        )


def write_signatures(signatures: Iterable[Signature]) -> bytes:
    """Canonical JSON bytes."""
    return _LIST.dump_json(sorted(signatures, key=lambda signature: signature.key), indent=2)


def read_signatures(data: bytes) -> tuple[Signature, ...]:
    """Read what `write_signatures` wrote; raise PackageRefused for anything else."""
    try:
        return tuple(_LIST.validate_json(data))
    except ValidationError as error:
        raise PackageRefused(f"{SIGNATURES} cannot be read: {error.errors(include_url=False)[0]['msg'].lower()}") from error
