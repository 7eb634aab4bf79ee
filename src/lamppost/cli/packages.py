"""Commands on lamp files that need no service: pack, inspect, prove."""

from __future__ import annotations

import tomllib
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import typer
from pydantic import BaseModel, ConfigDict, ValidationError

from lamppost.cli.out import AMBER, BRICK, DIM, paint, say, say_json, size, table
from lamppost.core.difference import difference
from lamppost.core.errors import BadRequest
from lamppost.core.proof import USUAL_CAUSES, Tolerance
from lamppost.core.steps import ArtifactFormat, about
from lamppost.package.read import Lamp, read_lamp
from lamppost.packing.pack import pack_with_remarks
from lamppost.packing.parts import Code, Table
from lamppost.packing.recipe import Recipe
from lamppost.runtime.proving import prove as prove_lamp

if TYPE_CHECKING:
    import pandas as pd


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid")
    file: str | list[str]
    format: ArtifactFormat | None = None
    labels: dict[str, str] | list[str] | None = None
    unit: str | None = None


class _Training(BaseModel):
    model_config = ConfigDict(extra="forbid")
    frame: str
    target: str | None = None


class _Proof(BaseModel):
    model_config = ConfigDict(extra="forbid")
    rows: int = 20
    absolute: float = Tolerance().absolute
    relative: float = Tolerance().relative


class _Part(BaseModel):
    """A step before or after the model: ``code`` with ``call``, ``takes`` and ``gives``, or ``table`` with ``key``."""

    model_config = ConfigDict(extra="forbid")
    code: str | None = None
    call: str = ""
    takes: list[str] = []
    gives: dict[str, dict[str, Any]] = {}
    table: str | None = None
    key: str = ""
    unknown: Literal["refuse", "missing"] = "refuse"
    fields: dict[str, dict[str, Any]] = {}

    def made(self, here: Path) -> Code | Table:
        if (self.code is None) == (self.table is None):
            raise BadRequest("a step before or after the model names either code or a table")
        if self.code is not None:
            return Code(here / self.code, self.call, self.takes, self.gives)
        return Table(_read_frame(here / str(self.table)), self.key, self.unknown, self.fields)


class _Story(BaseModel):
    model_config = ConfigDict(extra="forbid")
    notes: str = ""
    metrics: dict[str, float] = {}
    tags: dict[str, str] = {}


class _Description(BaseModel):
    """What a lamp.toml may say. Paths are relative to it."""

    model_config = ConfigDict(extra="forbid")
    name: str
    model: _Model
    training: _Training
    fields: dict[str, dict[str, Any]] = {}
    proof: _Proof = _Proof()
    before: list[_Part] = []
    after: list[_Part] = []
    story: _Story = _Story()


def _read_description(path: Path) -> _Description:
    try:
        return _Description.model_validate(tomllib.loads(path.read_text(encoding="utf-8")))
    except OSError as error:
        raise BadRequest(f"{path} cannot be read: {error.strerror}") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise BadRequest(f"{path} is not TOML: {error}") from error
    except ValidationError as error:
        faults = "; ".join(f"{'.'.join(map(str, fault['loc']))}: {fault['msg'].lower()}" for fault in error.errors()[:5])
        raise BadRequest(f"{path}: {faults}") from error


def _read_frame(path: Path) -> pd.DataFrame:
    import pandas as pd

    readers: dict[str, Any] = {".csv": pd.read_csv, ".parquet": pd.read_parquet, ".pkl": pd.read_pickle, ".pickle": pd.read_pickle}
    if path.suffix not in readers:
        raise BadRequest(f"{path}: a training frame is one of {', '.join(readers)}")
    try:
        frame: pd.DataFrame = readers[path.suffix](path)
    except Exception as error:
        raise BadRequest(f"the training frame {path} cannot be read: {error}") from error
    return frame


def _load_model(path: Path) -> Any:
    """The fitted object, from the packer's own machine and trust."""
    import joblib
    import skops.io

    try:
        if path.suffix == ".skops":
            return skops.io.load(path, trusted=skops.io.get_untrusted_types(file=path))
        return joblib.load(path)
    except Exception as error:
        raise BadRequest(
            f"the model {path} cannot be loaded ({type(error).__name__}: {error}); save it with joblib.dump or skops"
        ) from error


def pack(description: Path, to: Path | None, as_json: bool) -> None:
    """``lamppost pack``."""
    said = _read_description(description)
    here = description.parent
    model: Any
    if isinstance(said.model.file, list):
        model = [_load_model(here / file) for file in said.model.file]
    else:
        model = _load_model(here / said.model.file)
    frame = _read_frame(here / said.training.frame)
    recipe = Recipe(
        said.name,
        said.training.target,
        said.model.labels,
        said.fields,
        said.model.format,
        said.proof.rows,
        Tolerance(said.proof.absolute, said.proof.relative),
        said.story.notes,
        said.story.metrics,
        said.story.tags,
        said.model.unit,
        before=[part.made(here) for part in said.before],
        after=[part.made(here) for part in said.after],
    )
    lamp, remarks = pack_with_remarks(model, frame, to or here / f"{said.name}.lamp", recipe)
    if as_json:
        say_json({"file": str(lamp.path), "digest": lamp.digest, "size_bytes": lamp.size_bytes, **asdict(remarks)})
        return
    proven = f"{len(lamp.manifest.inputs)} inputs, {len(lamp.proof.rows)} rows proven in a fresh process"
    say(f"{paint('●', AMBER)} {lamp.path}  {size(lamp.size_bytes)}  {proven}")
    say(f"  digest {lamp.digest}")
    for note in remarks.notes:
        say(f"  {note}")
    for caution in remarks.cautions:
        say(f"  {paint('look again', BRICK)} {caution}")
    say(paint(f"  next: lamppost push {lamp.path}", DIM))


def inspect(file: Path, as_json: bool) -> None:
    """``lamppost inspect``."""
    lamp = read_lamp(file)
    manifest = lamp.manifest
    if as_json:
        say_json({"digest": lamp.digest, "size_bytes": lamp.size_bytes, "proof_rows": len(lamp.proof.rows), **asdict(manifest)})
        return
    says = ", ".join(
        field.name if not field.choices or field.kind == "vector" else "/".join(field.choices[:6]) for field in manifest.answers
    )
    say(f"{paint(manifest.name, AMBER)}  tells {says}; {len(manifest.inputs)} inputs, {size(lamp.size_bytes)}")
    say(f"digest {lamp.digest}")
    say()
    table(
        ["input", "is", "seen in training", "example"],
        [[f.name, f.wanted(), "" if f.seen is None else f"{f.seen[0]:g} to {f.seen[1]:g}", _example(f.example)] for f in manifest.inputs],
    )
    say()
    table(["answer", "is"], [[f.name, f.wanted()] for f in manifest.answers])
    say()
    for at, step in enumerate(manifest.steps):
        say(f"step {at}    {about(step)}")
    _show_story(lamp)


def _example(value: Any) -> str:
    return "–" if value is None else str(value).lower() if isinstance(value, bool) else str(value)


def _show_story(lamp: Lamp) -> None:
    story = lamp.manifest.story
    tolerance = lamp.proof.tolerance
    say(f"proof     {len(lamp.proof.rows)} rows; numbers agree within {tolerance.absolute:g} + {tolerance.relative:g} of the value")
    if story.trained_rows is not None:
        say(f"trained   on {story.trained_rows:,} rows, Python {story.python}, {', '.join(f'{k} {v}' for k, v in story.libraries.items())}")
    if story.metrics:
        say(f"metrics   {', '.join(f'{name} {value:g}' for name, value in story.metrics.items())}")
    if story.tags:
        say(f"tags      {', '.join(f'{name} {value}' for name, value in story.tags.items())}")
    if story.notes:
        say(f"notes     {story.notes.strip()}")
    say(f"files     {', '.join(f'{path} {size(member.size_bytes)}' for path, member in lamp.manifest.members.items())}")


def prove(file: Path, as_json: bool) -> None:
    """``lamppost prove``."""
    lamp = read_lamp(file)
    verdict = prove_lamp(lamp)
    if as_json:
        say_json({"name": lamp.manifest.name, "digest": lamp.digest, "passed": verdict.passed, **asdict(verdict)})
    elif verdict.passed:
        say(f"{paint('●', AMBER)} {lamp.manifest.name} passes its proof: {verdict.sentence()}")
    else:
        say(f"{paint('✗', BRICK)} {lamp.manifest.name} fails its proof: {verdict.wrong_rows} of {verdict.rows} rows differ from training")
        table(
            ["row", "answer", "training gave", "this gives", "off by"],
            [[str(d.row), d.field, str(d.trained), str(d.given), "" if d.off is None else f"{d.off:.3g}"] for d in verdict.differences],
            right=frozenset({"row", "off by"}),
        )
        say(USUAL_CAUSES)
    if not verdict.passed:
        raise typer.Exit(1)


def diff(before: Path, after: Path, as_json: bool) -> None:
    """``lamppost diff``."""
    old, new = read_lamp(before), read_lamp(after)
    changes = difference(old.manifest, new.manifest, (old.reference, new.reference))
    breaking = [change for change in changes if change.breaks]
    if as_json:
        say_json({"before": old.digest, "after": new.digest, "breaks": bool(breaking), "changes": [asdict(change) for change in changes]})
    elif old.digest == new.digest:
        say("the same package")
    else:
        count = len(breaking)
        say(
            f"{paint('✗', BRICK)} {count} of {len(changes)} changes would break callers"
            if count
            else f"{paint('●', AMBER)} nothing in it breaks callers"
        )
        table(["", "part", "what changed"], [[paint("breaks", BRICK) if c.breaks else "", c.part, c.says] for c in changes])
    if breaking:
        raise typer.Exit(1)
