"""Commands on lamp files: ``inspect``, ``prove``, ``diff``."""

from __future__ import annotations

from dataclasses import asdict
from pathlib import Path
from typing import Annotated, Any

import typer

from lamppost.cli.lamp_files.keys import own_keys
from lamppost.cli.out import AMBER, BRICK, paint, print_json, print_line, print_table
from lamppost.cli.parameters import Address, AllowCode, AsJson, LampFile
from lamppost.client import Client
from lamppost.core.artifact.difference import compare_packages
from lamppost.core.artifact.manifest import Provenance
from lamppost.core.artifact.proof import USUAL_CAUSES
from lamppost.core.artifact.steps import step_summary
from lamppost.core.errors import BadRequest, PackageRefused
from lamppost.core.insight.comparison import compare_insights
from lamppost.core.insight.insight_text import insight_lines
from lamppost.core.names import parse_version
from lamppost.core.quantities import format_bytes
from lamppost.core.schema.fields import Field
from lamppost.package.read import Lamp, read_lamp
from lamppost.runtime.proving import prove as prove_lamp

_SHOWN = 60


def inspect(file: LampFile, as_json: AsJson = False) -> None:
    """Command ``inspect``."""
    lamp = read_lamp(file)
    manifest = lamp.manifest
    if as_json:
        print_json(
            {
                "digest": lamp.digest,
                "size_bytes": lamp.size_bytes,
                "proof_rows": len(lamp.proof.rows),
                **asdict(manifest),
                "insight": lamp.insight and asdict(lamp.insight),
            }
        )
        return
    summary = ", ".join(
        field.name if not field.choices or field.kind == "vector" else "/".join(field.choices[:6]) for field in manifest.answers
    )
    print_line(f"{paint(manifest.name, AMBER)}  tells {summary}; {len(manifest.inputs)} inputs, {format_bytes(lamp.size_bytes)}")
    print_line(f"digest {lamp.digest}")
    print_line()
    print_table(
        ["input", "is", "seen in training", "example"],
        [[f.name, f.expected_text(), "" if f.seen is None else f"{f.seen[0]:g} to {f.seen[1]:g}", _example(f)] for f in manifest.inputs],
    )
    if manifest.options:
        print_line()
        print_table(["option", "is", "meaning"], [[f.name, f.expected_text(), f.meaning or ""] for f in manifest.options])
    print_line()
    print_table(["answer", "is"], [[f.name, f.expected_text()] for f in manifest.answers])
    print_line()
    for at, step in enumerate(manifest.steps):
        print_line(f"step {at}    {step_summary(step)}")
    if lamp.insight is not None:
        for word, text in insight_lines(lamp.insight):
            print_line(f"{word:9} {text}")
    _show_provenance(lamp)


def _example(field: Field) -> str:
    value = field.example
    if value is None:
        return "–"
    if field.kind == "image":
        return f"a picture, {format_bytes(len(str(value)) * 3 // 4)}"
    text = str(value).lower() if isinstance(value, bool) else str(value)
    return text if len(text) <= _SHOWN else text[: _SHOWN - 1] + "…"


def _show_provenance(lamp: Lamp) -> None:
    provenance = lamp.manifest.provenance
    tolerance = lamp.proof.tolerance
    print_line(f"proof     {len(lamp.proof.rows)} rows; numbers agree within {tolerance.absolute:g} + {tolerance.relative:g} of the value")
    if provenance.trained_rows is not None:
        libraries = ", ".join(f"{name} {version}" for name, version in provenance.libraries.items())
        print_line(f"trained   on {provenance.trained_rows:,} rows, Python {provenance.python}, {libraries}")
    if packed := _packed(provenance):
        print_line(f"packed    {packed}")
    if provenance.quantized:
        print_line(f"smaller   {provenance.quantized}")
    if provenance.metrics:
        print_line(f"metrics   {', '.join(f'{name} {value:g}' for name, value in provenance.metrics.items())}")
    if provenance.tags:
        print_line(f"tags      {', '.join(f'{name} {value}' for name, value in provenance.tags.items())}")
    if provenance.notes:
        print_line(f"notes     {provenance.notes.strip()}")
    for signature in lamp.signatures:
        print_line(f"signed    by {signature.key}")
    print_line(f"files     {', '.join(f'{path} {format_bytes(member.size_bytes)}' for path, member in lamp.manifest.members.items())}")


def _packed(provenance: Provenance) -> str:
    """Who packed it, when, and from which commit."""
    commit = f"at commit {provenance.commit[:12]}{' with changes' if provenance.changed else ''}" if provenance.commit else ""
    return " ".join(
        part for part in (f"by {provenance.by}" if provenance.by else "", commit, f"of {provenance.at}" if provenance.at else "") if part
    )


def require_trusted_package(lamp: Lamp, named: str, allow_code: bool) -> None:
    """Raise PackageRefused for a package that can run code, unless that is allowed or one of the caller's own keys has signed it."""
    if lamp.manifest.formats - {"skops"} and not allow_code and not own_keys() & {signature.key for signature in lamp.signatures}:
        kinds = ", ".join(sorted(lamp.manifest.formats - {"skops"}))
        raise PackageRefused(
            f"{named} holds {kinds}, which can run code; if it is yours, or you trust whoever made it, add --allow-code. "
            "What one of your own keys has signed needs no such trust: lamppost sign"
        )


def prove(file: LampFile, allow_code: AllowCode = False, as_json: AsJson = False) -> None:
    """Command ``prove``."""
    lamp = read_lamp(file)
    require_trusted_package(lamp, str(file), allow_code)
    verdict = prove_lamp(lamp)
    if as_json:
        print_json({"name": lamp.manifest.name, "digest": lamp.digest, "passed": verdict.passed, **asdict(verdict)})
    elif verdict.passed:
        print_line(f"{paint('●', AMBER)} {lamp.manifest.name} passes its proof: {verdict.sentence()}")
    else:
        print_line(
            f"{paint('✗', BRICK)} {lamp.manifest.name} fails its proof: {verdict.wrong_rows} of {verdict.rows} rows differ from training"
        )
        print_table(
            ["row", "answer", "training gave", "this gives", "off by"],
            [[str(d.row), d.field, str(d.trained), str(d.given), "" if d.off is None else f"{d.off:.3g}"] for d in verdict.differences],
            right=frozenset({"row", "off by"}),
        )
        print_line(USUAL_CAUSES)
    if not verdict.passed:
        raise typer.Exit(1)


def diff(
    before: Annotated[str, typer.Argument(help="The earlier lamp file, or version such as outage-risk@1.", metavar="BEFORE")],
    after: Annotated[str, typer.Argument(help="The later lamp file, or version.", metavar="AFTER")],
    address: Address = None,
    as_json: AsJson = False,
) -> None:
    """Command ``diff``."""
    compared = _versions(before, after, address) if _is_version(before) and _is_version(after) else _files(before, after)
    if as_json:
        print_json(compared)
    elif compared["before"] == compared["after"]:
        print_line("the same package")
    else:
        changes = compared["changes"]
        count = sum(change["breaks"] for change in changes)
        print_line(
            f"{paint('✗', BRICK)} {count} of {len(changes)} changes would break callers"
            if count
            else f"{paint('●', AMBER)} nothing in it breaks callers"
        )
        print_table(
            ["", "part", "what changed"], [[paint("breaks", BRICK) if c["breaks"] else "", c["part"], c["summary"]] for c in changes]
        )
        for text in compared["learned"]:
            print_line(f"learned  {text}")
    if compared["breaks"]:
        raise typer.Exit(1)


def _is_version(text: str) -> bool:
    return "@" in text and not Path(text).exists()


def _versions(before: str, after: str, address: str | None) -> dict[str, Any]:
    for name in (before, after):
        parse_version(name)
    with Client(address) as client:
        answer = client.compare(before, after)
    return {
        "before": answer["before"]["digest"],
        "after": answer["after"]["digest"],
        "breaks": answer["breaks"],
        "changes": answer["changes"],
        "learned": answer["learned"],
    }


def _files(before: str, after: str) -> dict[str, Any]:
    if _is_version(before) or _is_version(after):
        raise BadRequest("give two lamp files, or two versions such as outage-risk@1 outage-risk@2, not one of each")
    old, new = read_lamp(Path(before)), read_lamp(Path(after))
    changes = compare_packages(old.manifest, new.manifest, (old.reference, new.reference), (old.proof, new.proof))
    breaks = any(change.breaks for change in changes)
    learned = compare_insights(old.insight, new.insight)
    return {
        "before": old.digest,
        "after": new.digest,
        "breaks": breaks,
        "changes": [asdict(change) for change in changes],
        "learned": learned,
    }
