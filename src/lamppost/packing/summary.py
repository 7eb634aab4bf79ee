"""What packing made, in lines for people: fields and how they were read, how it is served, what a service needs, warnings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.quantities import few_names, format_bytes
from lamppost.core.schema.fields import Field, describe_shape
from lamppost.package.read import Lamp
from lamppost.packing.recipe import Remarks

_NAMED_FIELDS = 12
_NAMED_CHOICES = 4


@dataclass(frozen=True, slots=True)
class PackSummary:
    """head : the file and its proof. facts : pairs of a word and what is to be said of it. cautions : likely mistakes."""

    head: str
    facts: list[tuple[str, str]]
    cautions: list[str] = field(default_factory=list)

    def lines(self) -> list[str]:
        """All of it as plain text."""
        width = max((len(word) for word, _ in self.facts), default=0)
        facts = [f"  {word:{width}}  {text}" for word, text in self.facts]
        return [self.head, *facts, *(f"  look again: {caution}" for caution in self.cautions)]


def pack_summary(lamp: Lamp, remarks: Remarks, proven: bool = True) -> PackSummary:
    """The summary of a lamp file that was just made. proven : whether its proof was replayed."""
    manifest = lamp.manifest
    proof = f"{len(lamp.proof.rows)} rows " + ("proven in a fresh process" if proven else "in its proof, which was not replayed")
    facts = [
        ("inputs", _fields(tuple(manifest.inputs))),
        *([("options", _fields(tuple(manifest.options)))] if manifest.options else []),
        ("answers", _fields(tuple(manifest.answers))),
        ("needs", _needs(manifest)),
        *(("", note) for note in remarks.notes),
    ]
    return PackSummary(f"{lamp.path}  {format_bytes(lamp.size_bytes)}, {proof}", facts, remarks.cautions)


def _needs(manifest: Manifest) -> str:
    """What a service needs to open it."""
    flags = {"pickle": "--allow-pickle", "torch": "--allow-pickle", "python": "--allow-code"}
    needed = sorted({flags[name] for name in manifest.formats if name in flags})
    if not needed:
        return (
            "a service as it is: the file holds data only"
            if manifest.serves_graphs
            else "a service as it is: nothing in the file runs code"
        )
    return f"a service that is started with {' and '.join(needed)}, because the file can run code when it is opened"


def _fields(fields: Sequence[Field]) -> str:
    return few_names([f"{field.name} ({field_kind(field)})" for field in fields], _NAMED_FIELDS)


def field_kind(field: Field) -> str:
    """How a field was read, in a few words: ``number 0.5 to 40 m``, ``choice of 3: gas, led, sodium``."""
    text: str = field.kind
    if field.kind == "integer":
        text = "whole number"
    if field.seen is not None:
        text += f" {field.seen[0]:g} to {field.seen[1]:g}" + (f" {field.unit}" if field.unit else "")
    if field.kind in ("choice", "vector"):
        shown = ", ".join(field.choices[:_NAMED_CHOICES]) + (", …" if len(field.choices) > _NAMED_CHOICES else "")
        text = f"{'choice' if field.kind == 'choice' else 'number for each'} of {len(field.choices)}: {shown}"
    if field.kind == "tensor":
        text = f"numbers, {describe_shape(field.shape)}"
    if field.missing:
        text += ", may be missing"
    return text
