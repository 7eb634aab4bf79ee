"""Command ``pack``: makes a lamp file from a lamp.toml, a model file, or a folder or ZIP with either."""

from __future__ import annotations

import tempfile
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Annotated, Any

import typer

from lamppost.cli.lamp_files.description import Description, load_model, read_description, read_frame, require_trust
from lamppost.cli.lamp_files.keys import sign_file
from lamppost.cli.out import AMBER, BRICK, DIM, paint, print_json, print_line
from lamppost.cli.parameters import AllowCode, AsJson
from lamppost.core.artifact.proof import Tolerance
from lamppost.core.errors import BadRequest
from lamppost.core.limits import MAX_MEMBERS, MAX_PACKAGE_BYTES
from lamppost.core.names import plain_name
from lamppost.packing.networks import FORMATS, Network
from lamppost.packing.pack import pack_with_remarks
from lamppost.packing.recipe import Recipe
from lamppost.packing.summary import pack_summary

_OBJECTS = frozenset({".skops", ".joblib", ".pkl", ".pickle", ".ubj", ".pmml"})
_FRAMES = (".parquet", ".csv", ".json")


@dataclass(frozen=True, slots=True)
class PackOptions:
    """What was said on the command line."""

    to: Path | None
    rows: Path | None
    name: str | None
    quantize: bool
    sign: str | None
    allow_code: bool
    target: str | None
    all_rows: bool
    insight: bool


def pack(
    source: Annotated[Path, typer.Argument(help="A lamp.toml, a model file such as .onnx or .pmml, or a folder or ZIP with either.")],
    to: Annotated[Path | None, typer.Option(help="File to write [NAME.lamp beside the source].")] = None,
    rows: Annotated[
        Path | None, typer.Option(help="Rows for the proof (.json, .csv, .parquet), if there is no lamp.toml; .pmml needs none.")
    ] = None,
    name: Annotated[str | None, typer.Option(help="Name of the model, if there is no lamp.toml [name of the file].")] = None,
    quantize: Annotated[
        bool, typer.Option("--quantize", help="Store the weights of an ONNX network as 8-bit integers, and print what that changed.")
    ] = False,
    sign: Annotated[str | None, typer.Option(help="Sign the lamp file with this key; see lamppost key.", metavar="KEY")] = None,
    allow_code: AllowCode = False,
    target: Annotated[
        str | None, typer.Option(help="Column of the rows that was predicted, if there is no lamp.toml; several with commas.")
    ] = None,
    all_rows: Annotated[bool, typer.Option("--all", help="Take the model's answers for every row, not for 20,000 at most.")] = False,
    no_insight: Annotated[
        bool, typer.Option("--no-insight", help="Leave out what the model has learned, which takes a few seconds to measure.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Command ``pack``."""
    options = PackOptions(to, rows, name, quantize, sign, allow_code, target, all_rows, not no_insight)
    with _unpacked_source(source) as found:
        if found.suffix == ".toml":
            description = read_description(found)
            model, frame, recipe = _described(description, found.parent, options)
        else:
            model, frame, recipe = _bare(found, source, options)
        beside = source.parent if source.is_file() else source
        lamp, remarks = pack_with_remarks(model, frame, options.to or beside / f"{recipe.name}.lamp", recipe)
    signed = sign_file(lamp.path, options.sign) if options.sign else None
    if as_json:
        print_json({"file": str(lamp.path), "digest": lamp.digest, "size_bytes": lamp.size_bytes, "signed": signed, **asdict(remarks)})
        return
    summary = pack_summary(lamp, remarks)
    print_line(f"{paint('●', AMBER)} {summary.head}")
    for word, text in [*summary.facts, ("digest", lamp.digest), *([("signed", f"by {signed['key']}")] if signed else [])]:
        print_line(f"  {paint(f'{word:8}', DIM)} {text}")
    for caution in summary.cautions:
        print_line(f"  {paint('look again', BRICK)} {caution}")
    print_line(paint(f"  next: lamppost push {lamp.path}", DIM))


def _described(answer: Description, folder: Path, options: PackOptions) -> tuple[Any, Any, Recipe]:
    frame = read_frame(folder / answer.training.frame, options.allow_code)
    recipe = Recipe(
        options.name or answer.name,
        answer.training.target,
        answer.model.labels,
        answer.fields,
        answer.model.format,
        answer.proof.rows,
        Tolerance(answer.proof.absolute, answer.proof.relative),
        answer.provenance.notes,
        answer.provenance.metrics,
        answer.provenance.tags,
        answer.model.unit,
        before=[part.made(folder, options.allow_code) for part in answer.before],
        after=[part.made(folder, options.allow_code) for part in answer.after],
        options=answer.options,
        quantize=answer.model.quantize or options.quantize,
        by=answer.provenance.by,
        all_rows=options.all_rows,
        insight=options.insight,
    )
    return answer.model.made(folder, options.allow_code), frame, recipe


def _bare(model: Path, source: Path, options: PackOptions) -> tuple[Any, Any, Recipe]:
    """A model file by itself: the schema comes from the graph and the rows, the proof from the rows."""
    rows = options.rows or _rows_beside(model)
    pmml = model.suffix.lower() == ".pmml"
    if rows is None and not pmml:
        raise BadRequest(
            f"{source} comes without rows, and a package proves itself on rows; give some with --rows FILE, or write a lamp.toml beside it"
        )
    name = options.name or plain_name(source.stem) or "model"
    require_trust(model, options.allow_code)
    loaded = model if pmml else Network(model) if model.suffix.lower() in FORMATS else load_model(model, options.allow_code)
    targets = None if options.target is None else [part.strip() for part in options.target.split(",")]
    recipe = Recipe(name, targets, quantize=options.quantize, all_rows=options.all_rows, insight=options.insight)
    return loaded, None if rows is None else read_frame(rows, options.allow_code), recipe


def _rows_beside(model: Path) -> Path | None:
    """``rows.json``, ``train.csv`` and the like in the model's folder."""
    places = [model.parent / f"{stem}{ending}" for stem in ("rows", "train", "training") for ending in _FRAMES]
    return next((path for path in places if path.is_file() and path != model), None)


@contextmanager
def _unpacked_source(source: Path) -> Iterator[Path]:
    """The lamp.toml or the model file that is meant; a ZIP is unpacked for that time."""
    if not source.exists():
        raise BadRequest(f"there is no {source}; give a lamp.toml, a model file, or a folder or ZIP with either")
    if source.is_file() and source.suffix == ".zip":
        with tempfile.TemporaryDirectory(prefix="lamppost-import-") as folder:
            _unzip(source, Path(folder))
            yield _in_folder(Path(folder), source)
    else:
        yield _in_folder(source, source) if source.is_dir() else source


def _unzip(source: Path, folder: Path) -> None:
    try:
        with zipfile.ZipFile(source) as archive:
            infos = archive.infolist()
            if len(infos) > MAX_MEMBERS or sum(info.file_size for info in infos) > MAX_PACKAGE_BYTES:
                raise BadRequest(f"{source} holds more than {MAX_MEMBERS} files or unpacks to over {MAX_PACKAGE_BYTES:,} bytes")
            if outside := [info.filename for info in infos if info.filename.startswith("/") or ".." in Path(info.filename).parts]:
                raise BadRequest(f"{source} holds a path that is not allowed: {outside[0]!r}")
            archive.extractall(folder)
    except zipfile.BadZipFile as error:
        raise BadRequest(f"{source} is no ZIP: {error}") from error


def _in_folder(folder: Path, source: Path) -> Path:
    """The lamp.toml in a folder, else its one model."""
    inside = list(folder.iterdir())
    if len(inside) == 1 and inside[0].is_dir():
        return _in_folder(inside[0], source)
    if (folder / "lamp.toml").is_file():
        return folder / "lamp.toml"
    models = sorted(path for path in inside if path.suffix.lower() in FORMATS or path.suffix.lower() in _OBJECTS)
    if len(models) != 1:
        answer = f"several models ({', '.join(path.name for path in models)})" if models else "no model that is known by its ending"
        raise BadRequest(f"{source} holds no lamp.toml and {answer}; write a lamp.toml that says what is what")
    return models[0]
