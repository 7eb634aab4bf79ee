"""Reads a lamp.toml: the model, the training frame and the recipe that it describes. Paths in it are relative to it."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import orjson
from pydantic import BaseModel, ConfigDict, ValidationError

from lamppost.core.artifact.proof import Tolerance
from lamppost.core.artifact.steps import ArtifactFormat
from lamppost.core.errors import BadRequest
from lamppost.packing.networks import FORMATS, Network
from lamppost.packing.pmml.reading import Pmml
from lamppost.packing.recipe import Part
from lamppost.packing.side_steps import Code, Encoder, Pixels, Table, Threshold

if TYPE_CHECKING:
    import pandas as pd


_DATA_ONLY = frozenset({".skops", ".onnx", ".pmml", ".txt", ".json", ".ubj", ".csv", ".parquet"})


class _Shape(BaseModel):
    model_config = ConfigDict(extra="forbid")


class _Network(_Shape):
    """What may be said of a network's file."""

    inputs: dict[str, str | list[str]] | None = None
    outputs: dict[str, dict[str, Any]] | None = None
    scores: Literal["as is", "softmax", "sigmoid"] = "as is"


class _Model(_Network):
    file: str | list[str]
    format: ArtifactFormat | None = None
    labels: dict[str, str] | list[str] | None = None
    unit: str | None = None
    quantize: bool = False

    def made(self, folder: Path, allow_code: bool) -> Any:
        if isinstance(self.file, list):
            return [load_model(folder / file, allow_code) for file in self.file]
        path = folder / self.file
        if path.suffix.lower() == ".pmml":
            return Pmml(path)
        if path.suffix.lower() not in FORMATS:
            return load_model(path, allow_code)
        require_trust(path, allow_code)
        labels = list(self.labels.values()) if isinstance(self.labels, dict) else self.labels
        return Network(path, self.inputs, self.outputs, labels, self.scores)


class _Training(_Shape):
    frame: str
    target: str | list[str] | None = None


class _Proof(_Shape):
    rows: int = 20
    absolute: float = Tolerance().absolute
    relative: float = Tolerance().relative


class _Part(_Network):
    """A step before or after the model, with what belongs to it.

    It is one of ``code``, ``table``, ``encoder``, ``network``, ``pixels`` and ``threshold``.
    """

    code: str | None = None
    call: str = ""
    takes: list[str] = []
    gives: dict[str, dict[str, Any]] = {}
    table: str | None = None
    key: str = ""
    unknown: Literal["refuse", "missing"] = "refuse"
    fields: dict[str, dict[str, Any]] = {}
    encoder: str | None = None
    column: str = ""
    network: str | None = None
    labels: list[str] | None = None
    pixels: Pixels | None = None
    threshold: Threshold | None = None

    def made(self, folder: Path, allow_code: bool) -> Part:
        if sum(given is not None for given in (self.code, self.table, self.encoder, self.network, self.pixels, self.threshold)) != 1:
            raise BadRequest("a step before or after the model names one of code, table, encoder, network, pixels and threshold")
        if self.code is not None:
            require_trust(folder / self.code, allow_code)
            return Code(folder / self.code, self.call, self.takes, self.gives)
        if self.encoder is not None:
            return Encoder(self.column, load_model(folder / self.encoder, allow_code))
        if self.network is not None:
            require_trust(folder / self.network, allow_code)
            return Network(folder / self.network, self.inputs, self.outputs, self.labels, self.scores)
        if self.pixels is not None:
            return self.pixels
        if self.threshold is not None:
            return self.threshold
        return Table(read_frame(folder / str(self.table), allow_code), self.key, self.unknown, self.fields)


class _Provenance(_Shape):
    notes: str = ""
    metrics: dict[str, float] = {}
    tags: dict[str, str] = {}
    by: str | None = None


class Description(_Shape):
    """A whole lamp.toml."""

    name: str
    model: _Model
    training: _Training
    fields: dict[str, dict[str, Any]] = {}
    options: dict[str, dict[str, Any]] = {}
    proof: _Proof = _Proof()
    before: list[_Part] = []
    after: list[_Part] = []
    provenance: _Provenance = _Provenance()


def read_description(path: Path) -> Description:
    """Read a lamp.toml; raise BadRequest with every fault."""
    try:
        return Description.model_validate(tomllib.loads(path.read_text(encoding="utf-8")))
    except OSError as error:
        raise BadRequest(f"{path} cannot be read: {error.strerror}") from error
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise BadRequest(f"{path} is not TOML: {error}") from error
    except ValidationError as error:
        faults = "; ".join(f"{'.'.join(map(str, fault['loc']))}: {fault['msg'].lower()}" for fault in error.errors()[:5])
        raise BadRequest(f"{path}: {faults}") from error


def require_trust(path: Path, allow_code: bool) -> None:
    """Raise BadRequest for a file that can run code when it is loaded, unless that is allowed."""
    if not allow_code and path.suffix.lower() not in _DATA_ONLY:
        raise BadRequest(
            f"{path} can run code when it is loaded; if it is yours, or you trust whoever made it, add --allow-code. "
            "Models saved with skops or as ONNX need no such trust"
        )


def read_frame(path: Path, allow_code: bool = False) -> pd.DataFrame:
    """A training frame. A column ``NAME_file`` of a CSV or JSON file stands for the pictures ``NAME``, by their paths beside it."""
    import pandas as pd

    readers: dict[str, Any] = {
        ".csv": pd.read_csv,
        ".json": _read_rows,
        ".parquet": pd.read_parquet,
        ".pkl": pd.read_pickle,
        ".pickle": pd.read_pickle,
    }
    if path.suffix not in readers:
        raise BadRequest(f"{path}: a training frame is one of {', '.join(readers)}")
    require_trust(path, allow_code)
    try:
        frame: pd.DataFrame = readers[path.suffix](path)
        for name in [str(name) for name in frame.columns if str(name).endswith("_file")]:
            pictures = [(path.parent / file).read_bytes() if isinstance(file, str) else None for file in frame[name]]
            frame[name.removesuffix("_file")] = pd.Series(pictures, index=frame.index, dtype=object)
            frame = frame.drop(columns=name)
    except Exception as error:
        raise BadRequest(f"the training frame {path} cannot be read: {error}") from error
    return frame


def _read_rows(path: Path) -> pd.DataFrame:
    """Rows of JSON: a list of objects, or ``{"rows": [...]}``; lists in them stay lists."""
    import pandas as pd

    answer = orjson.loads(path.read_bytes())
    rows = answer["rows"] if isinstance(answer, dict) and "rows" in answer else [answer] if isinstance(answer, dict) else answer
    return pd.DataFrame(rows)


def load_model(path: Path, allow_code: bool) -> Any:
    """A fitted object; boosted trees from their libraries' own formats too. allow_code : whether it may run code when it is loaded."""
    require_trust(path, allow_code)
    try:
        if path.suffix == ".txt":
            import lightgbm

            return lightgbm.Booster(model_file=str(path))
        if path.suffix in (".json", ".ubj"):
            import xgboost

            booster = xgboost.Booster()
            booster.load_model(path)
            return booster
        if path.suffix == ".skops":
            from lamppost.package.sklearn_model import TRUSTED
            from lamppost.package.skops_import import import_skops

            skops_io = import_skops()
            untrusted = set(skops_io.get_untrusted_types(file=path)) - TRUSTED
            if untrusted and not allow_code:
                raise BadRequest(
                    f"it holds types that are not known to be data only: {', '.join(sorted(untrusted)[:10])}; add --allow-code"
                )
            return skops_io.load(path, trusted=sorted(TRUSTED | untrusted))
        import joblib

        return joblib.load(path)
    except BadRequest:
        raise
    except Exception as error:
        raise BadRequest(
            f"the model {path} cannot be loaded ({type(error).__name__}: {error}); save it with joblib.dump or skops"
        ) from error
