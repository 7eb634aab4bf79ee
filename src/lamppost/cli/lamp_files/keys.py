"""Commands ``key`` and ``sign``: Ed25519 key pairs, and signatures of lamp files."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from lamppost.cli.out import AMBER, DIM, paint, print_json, print_line
from lamppost.cli.parameters import AsJson, LampFile
from lamppost.client.config import config_file
from lamppost.core.names import NAME
from lamppost.package.signing import make_key, read_public
from lamppost.package.signing import sign as sign_digest
from lamppost.package.write import add_signature


def _folder() -> Path:
    return config_file().parent / "keys"


def key_new(name: Annotated[str, typer.Argument(help="A name for it, such as release.")], as_json: AsJson = False) -> None:
    """Command ``key new``."""
    private, public = make_key(_folder(), name)
    key = read_public(public)
    if as_json:
        print_json({"name": name, "key": key, "private": str(private), "public": str(public)})
        return
    print_line(f"{paint('●', AMBER)} {name}  {key}")
    print_line(f"  private, for you alone: {private}")
    print_line(f"  public, for services:   {public}")
    print_line(paint(f"  next: lamppost sign FILE.lamp --key {name}; and where the service runs: lamppost up --signed-by {public}", DIM))


def key_list(as_json: AsJson = False) -> None:
    """Command ``key list``."""
    listed = [{"name": path.stem, "key": read_public(path), "public": str(path)} for path in sorted(_folder().glob("*.pub"))]
    if as_json:
        print_json(listed)
        return
    if not listed:
        print_line("There is no key yet. Make one with: lamppost key new NAME")
    for key in listed:
        print_line(f"{key['name']}  {key['key']}  {key['public']}")


def own_keys() -> frozenset[str]:
    """The public keys of one's own key pairs."""
    return frozenset(read_public(path) for path in _folder().glob("*.pub") if path.with_suffix(".pem").exists())


def sign(
    file: LampFile, key: Annotated[str, typer.Option(help="Name of the key, or file of the private one.")], as_json: AsJson = False
) -> None:
    """Command ``sign``."""
    signed = sign_file(file, key)
    if as_json:
        print_json(signed)
        return
    print_line(f"{paint('●', AMBER)} {file} is signed by {signed['key']}")
    print_line(f"  digest {signed['digest']}")


def sign_file(file: Path, key: str) -> dict[str, str]:
    """Sign a lamp file in place with a key of one's own, or with a private key's file."""
    from lamppost.package.read import read_lamp

    private = _folder() / f"{key}.pem" if NAME.fullmatch(key) else Path(key)
    digest = read_lamp(file).digest
    signature = sign_digest(private, digest)
    add_signature(file, signature)
    return {"file": str(file), "digest": digest, "key": signature.key}
