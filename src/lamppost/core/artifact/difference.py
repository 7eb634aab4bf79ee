"""Compares two packages, and says whether the second would refuse requests that the first takes."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.artifact.proof import Proof
from lamppost.core.artifact.reference import FeatureProfile, Reference
from lamppost.core.artifact.steps import step_summary
from lamppost.core.schema.fields import Field, Schema, format_value

PackagePart = Literal["inputs", "options", "answers", "steps", "proof", "provenance", "reference", "files", "speed"]


@dataclass(frozen=True, slots=True)
class SchemaChange:
    """One difference between two packages. breaks : whether a request that was accepted before may be refused now. summary : one
    sentence.
    """

    part: PackagePart
    summary: str
    breaks: bool = False


def compare_packages(
    before: Manifest,
    after: Manifest,
    references: tuple[Reference | None, Reference | None] = (None, None),
    proofs: tuple[Proof, Proof] | None = None,
    measured: tuple[Mapping[str, float] | None, Mapping[str, float] | None] = (None, None),
) -> list[SchemaChange]:
    """All changes from one package to another, those that break callers first. measured : by the names of `OpeningMeasurement`'s fields."""
    changes = [
        *_inputs(before.inputs, after.inputs),
        *_inputs(before.options or (), after.options or (), "options"),
        *_answers(before.answers, after.answers),
        *_steps(before, after),
        *(_proofs(*proofs) if proofs else ()),
        *_speed(*measured),
        *_story(before, after),
        *_references(*references),
        *_files(before, after),
    ]
    return sorted(changes, key=lambda change: not change.breaks)


def _inputs(before: Iterable[Field], after: Iterable[Field], part: Literal["inputs", "options"] = "inputs") -> list[SchemaChange]:
    old, new = {f.name: f for f in before}, {f.name: f for f in after}
    changes = [
        SchemaChange(part, f"{name} is no {part[:-1]} any more, and requests that send it are refused", breaks=True)
        for name in old
        if name not in new
    ]
    for name, field in new.items():
        if name not in old:
            may = "must be sent" if field.required else "may be left out"
            changes.append(SchemaChange(part, f"{name} is new ({field.expected_text()}) and {may}", breaks=field.required))
        else:
            changes += _field(old[name], field, part)
    return changes


def _field(old: Field, new: Field, part: Literal["inputs", "options"]) -> list[SchemaChange]:
    """Changes of one input; narrower breaks callers, wider does not."""
    changes: list[SchemaChange] = []

    def say(text: str, breaks: bool) -> None:
        changes.append(SchemaChange(part, f"{new.name} {text}", breaks))

    if old.kind != new.kind:
        say(
            f"was {old.expected_text()} and is {new.expected_text()}",
            breaks=(old.kind, new.kind) not in {("integer", "number"), ("choice", "text")},
        )
        return changes
    if (old.shape, old.elements, old.size, old.channels) != (new.shape, new.elements, new.size, new.channels):
        say(f"was {old.expected_text()} and is {new.expected_text()}", breaks=True)
    if old.default != new.default:
        say(
            f"is {_default_text(new.default)} where it is left out; it was {_default_text(old.default)}",
            breaks=new.required and not old.required,
        )
    if old.private != new.private:
        say("is private now and not recorded" if new.private else "is private no more and recorded", breaks=False)
    if old.missing != new.missing:
        say("may be missing now" if new.missing else "may not be missing any more", breaks=old.missing)
    if old.unit != new.unit:
        say(f"was in {old.unit or 'no unit'} and is in {new.unit or 'no unit'}", breaks=True)
    for limit, a, b in (("low", old.low, new.low), ("high", old.high, new.high)):
        if a != b:
            narrower = b is not None and (a is None or (b > a if limit == "low" else b < a))
            say(f"has the {limit} limit {_limit(b)} instead of {_limit(a)}", breaks=narrower)
    if gone := [choice for choice in old.choices if choice not in new.choices]:
        say(f"has lost the choices {', '.join(gone[:8])}", breaks=new.unseen == "refuse")
    if more := [choice for choice in new.choices if choice not in old.choices]:
        say(f"has the new choices {', '.join(more[:8])}", breaks=False)
    if old.unseen != new.unseen:
        verb = "refuses" if new.unseen == "refuse" else "accepts"
        say(f"{verb} choices never seen in training", breaks=new.unseen == "refuse")
    return changes


def _default_text(default: Any) -> str:
    return "refused" if default is None else format_value(default)


def _limit(value: float | None) -> str:
    return "none" if value is None else f"{value:g}"


def _answers(before: Schema, after: Schema) -> list[SchemaChange]:
    old, new = {f.name: f for f in before}, {f.name: f for f in after}
    changes = [SchemaChange("answers", f"{name} is not answered any more", breaks=True) for name in old if name not in new]
    changes += [
        SchemaChange("answers", f"{name} is answered too ({field.expected_text()})") for name, field in new.items() if name not in old
    ]
    for name in old.keys() & new.keys():
        a, b = old[name], new[name]
        if a.kind != b.kind or a.unit != b.unit or a.missing < b.missing or a.shape != b.shape:
            changes.append(SchemaChange("answers", f"{name} was {a.expected_text()} and is {b.expected_text()}", breaks=True))
        elif set(a.choices) != set(b.choices):
            changes.append(SchemaChange("answers", f"{name} tells {', '.join(b.choices)} instead of {', '.join(a.choices)}", breaks=True))
    return changes


def _steps(before: Manifest, after: Manifest) -> list[SchemaChange]:
    old, new = [step_summary(step) for step in before.steps], [step_summary(step) for step in after.steps]
    if old == new:
        return []
    return [
        SchemaChange("steps", f"step {at} is {b or 'gone'}; it was {a or 'not there'}")
        for at, (a, b) in enumerate(_pairs(old, new))
        if a != b
    ]


def _pairs(old: list[str], new: list[str]) -> list[tuple[str | None, str | None]]:
    return [(old[at] if at < len(old) else None, new[at] if at < len(new) else None) for at in range(max(len(old), len(new)))]


def _proofs(before: Proof, after: Proof) -> list[SchemaChange]:
    changes = []
    if len(before.rows) != len(after.rows):
        changes.append(SchemaChange("proof", f"the proof has {len(after.rows)} rows instead of {len(before.rows)}"))
    if before.tolerance != after.tolerance:
        a, b = before.tolerance, after.tolerance
        changes.append(
            SchemaChange(
                "proof", f"numbers may be off by {b.absolute:g} + {b.relative:g}·|x| instead of {a.absolute:g} + {a.relative:g}·|x|"
            )
        )
    return changes


def _speed(before: Mapping[str, float] | None, after: Mapping[str, float] | None) -> list[SchemaChange]:
    """Changes of more than a quarter; smaller ones are within the noise of a machine."""
    if before is None or after is None:
        return []
    changes = []
    for key, what in (("row_ms", "one row takes {:.2f} ms"), ("batch_ms", "64 rows take {:.2f} ms"), ("open_s", "opening takes {:.2f} s")):
        if abs(after[key] - before[key]) > 0.25 * before[key]:
            changes.append(SchemaChange("speed", f"{what.format(after[key])}; before it was {before[key]:.2f}"))
    if abs(after["memory_bytes"] - before["memory_bytes"]) > 0.25 * before["memory_bytes"]:
        changes.append(
            SchemaChange("speed", f"a worker holds {after['memory_bytes'] / 1e6:,.0f} MB; it was {before['memory_bytes'] / 1e6:,.0f} MB")
        )
    return changes


def _story(before: Manifest, after: Manifest) -> list[SchemaChange]:
    a, b = before.provenance, after.provenance
    changes = [*_mapping("metric", a.metrics, b.metrics), *_mapping("tag", a.tags, b.tags), *_mapping("library", a.libraries, b.libraries)]
    if a.python != b.python:
        changes.append(SchemaChange("provenance", f"Python {b.python} instead of {a.python}"))
    if a.commit != b.commit:
        changes.append(
            SchemaChange("provenance", f"packed at commit {(b.commit or 'unknown')[:12]}; it was {(a.commit or 'unknown')[:12]}")
        )
    if a.by != b.by:
        changes.append(SchemaChange("provenance", f"packed by {b.by or 'somebody unknown'}; it was {a.by or 'somebody unknown'}"))
    if a.quantized != b.quantized:
        changes.append(SchemaChange("provenance", b.quantized or "quantized no more"))
    if a.trained_rows != b.trained_rows:
        changes.append(
            SchemaChange("provenance", f"trained on {b.trained_rows or 'unknown'} rows instead of {a.trained_rows or 'unknown'}")
        )
    return changes


def _mapping(what: str, before: Mapping[str, Any], after: Mapping[str, Any]) -> list[SchemaChange]:
    changes = []
    for name in [*before, *(key for key in after if key not in before)]:
        a, b = before.get(name), after.get(name)
        if a != b:
            changes.append(
                SchemaChange("provenance", f"{what} {name} is {'gone' if b is None else b}; it was {'not there' if a is None else a}")
            )
    return changes


def _references(before: Reference | None, after: Reference | None) -> list[SchemaChange]:
    """Changes of the training data: a mean that moved by more than a quarter of its standard deviation, a share by more than 5 %."""
    if before is None or after is None:
        return []
    changes = []
    for olds, news in ((before.inputs, after.inputs), (before.answers, after.answers)):
        known = {profile.name: profile for profile in olds}
        changes += [change for new in news if new.name in known for change in _profile(known[new.name], new)]
    return changes


def _profile(old: FeatureProfile, new: FeatureProfile) -> list[SchemaChange]:
    changes = []
    if old.mean is not None and new.mean is not None and abs(new.mean - old.mean) > 0.25 * max(old.sd or 0.0, 1e-12):
        changes.append(SchemaChange("reference", f"{new.name} has the mean {new.mean:.4g} in training; it was {old.mean:.4g}"))
    there = max(1, old.count - old.missing), max(1, new.count - new.missing)
    for choice in dict.fromkeys([*old.choices, *new.choices]):
        a, b = old.choices.get(choice, 0) / there[0], new.choices.get(choice, 0) / there[1]
        if abs(a - b) > 0.05:
            changes.append(SchemaChange("reference", f"{new.name} is {choice} in {b:.0%} of training; it was in {a:.0%}"))
    a, b = old.missing / max(1, old.count), new.missing / max(1, new.count)
    if abs(a - b) > 0.05:
        changes.append(SchemaChange("reference", f"{new.name} is missing in {b:.0%} of training; it was in {a:.0%}"))
    return changes


def _files(before: Manifest, after: Manifest) -> list[SchemaChange]:
    a, b = (sum(member.size_bytes for member in manifest.members.values()) for manifest in (before, after))
    return [SchemaChange("files", f"unpacked, {b / 1e6:.1f} MB instead of {a / 1e6:.1f} MB")] if abs(a - b) > 0.1 * max(a, b) else []
