"""Makes steps of networks: an ONNX graph, or a PyTorch exported program or TorchScript module, in its own format.

Inputs are read from the graph and the frame; outputs are found by running the network on a few rows.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath
from typing import TYPE_CHECKING, Any, Literal, get_args

import numpy as np

from lamppost.core.artifact.schema_inference import classifier_answers
from lamppost.core.artifact.steps import Dtype, NetworkFormat, NetworkInput, NetworkOutput, NetworkStep
from lamppost.core.errors import BadRequest, ModelFault
from lamppost.core.schema.columns import Column
from lamppost.core.schema.fields import Field, Kind, Schema
from lamppost.package.network_model import NetworkModel, output_array

if TYPE_CHECKING:
    import onnx

FORMATS: dict[str, NetworkFormat] = {".onnx": "onnx", ".pt2": "exported", ".pt": "torchscript", ".pth": "torchscript", ".ts": "torchscript"}
_WHOLE = frozenset(get_args(Dtype)) - {"float16", "float32", "float64", "bool", "string"}


@dataclass(frozen=True, slots=True)
class Network:
    """A trained network in a file: ``.onnx``, ``.pt2`` (torch.export) or ``.pt`` (TorchScript).

    path : the file; what an ONNX graph keeps in files beside it is carried too.
    inputs : input of the network to the column, or columns, that feed it; may be left out where the names say it, or where there is one
    input only. A PyTorch program is fed in this order.
    outputs : output (of a PyTorch program: its position, ``"0"``) to attributes of the field it becomes, ``field`` for its name.
    labels : names of the classes, where one of the outputs scores them. scores : what turns that output into scores.
    """

    path: str | Path
    inputs: Mapping[str, str | Sequence[str]] | None = None
    outputs: Mapping[str, Mapping[str, Any]] | None = None
    labels: Sequence[str] | None = None
    scores: Literal["as is", "softmax", "sigmoid"] = "as is"

    @property
    def format(self) -> NetworkFormat:
        """What the file is, by its ending."""
        file_format = FORMATS.get(Path(self.path).suffix.lower())
        if file_format is None:
            raise BadRequest(f"{self.path} is no network that can be packed; one of {', '.join(FORMATS)} is expected")
        return file_format


@dataclass(frozen=True, slots=True)
class NetworkPort:
    """One input or output as the graph declares it. shape : of one row, 0 for an open axis; rows : a fixed number of them, or 0."""

    name: str
    dtype: Dtype
    shape: tuple[int, ...]
    rows: int = 0


def describe_network(network: Network) -> tuple[list[NetworkPort], list[str], list[str]]:
    """The inputs of a network, the names of its outputs, and the files beside it. PyTorch programs do not tell their inputs."""
    if network.format != "onnx":
        return [], [], []
    model = _graph(Path(network.path))
    held = {constant.name for constant in model.graph.initializer}
    openings = [_opening(value) for value in model.graph.input if value.name not in held]
    return openings, [value.name for value in model.graph.output], _beside(model)


def read_notes(network: Network) -> tuple[str, dict[str, str]]:
    """Notes and tags that an ONNX graph carries: its description and its metadata."""
    if network.format != "onnx":
        return "", {}
    model = _graph(Path(network.path))
    return model.doc_string, {entry.key: entry.value for entry in model.metadata_props}


def match_columns_to_inputs(network: Network, columns: Sequence[str], also: Sequence[str] = ()) -> dict[str, tuple[str, ...]]:
    """The columns that feed each input; raise BadRequest where that is ambiguous. columns : those that a single input is made of by
    default. also : others, such as options, that inputs may name.
    """
    openings, _, _ = describe_network(network)
    names = [opening.name for opening in openings]
    if network.inputs is not None:
        given = {name: (of,) if isinstance(of, str) else tuple(of) for name, of in network.inputs.items()}
        if names and set(given) != set(names):
            raise BadRequest(f"the network's inputs are {', '.join(names)}; inputs names {', '.join(given)}")
        if lost := [column for of in given.values() for column in of if column not in columns and column not in also]:
            raise BadRequest(f"the network is to read {', '.join(lost)}, and there is no such column; there are {', '.join(columns)}")
        return given
    if names and all(name in columns or name in also for name in names):
        return {name: (name,) for name in names}
    if len(names) <= 1:
        return {(names or ["input"])[0]: tuple(columns)}
    raise BadRequest(
        f"the network has the inputs {', '.join(names)}, and the columns are {', '.join(columns)}; say which feed which: "
        f'Network(path, inputs={{"{names[0]}": "{columns[0] if columns else "column"}", …}})'
    )


def field_hints(network: Network, columns: Sequence[str], also: Sequence[str] = ()) -> dict[str, dict[str, Any]]:
    """Attributes of fields that follow from the network's inputs and not from the frame, such as that whole numbers need not be whole."""
    openings = {opening.name: opening for opening in describe_network(network)[0]}
    hints: dict[str, dict[str, Any]] = {}
    for name, of in match_columns_to_inputs(network, columns, also).items():
        dtype = openings[name].dtype if name in openings else "float32"
        for column in of:
            if dtype.startswith("float"):
                hints[column] = {"kind": "number", "elements": "number"}
            elif dtype == "string":
                hints[column] = {"kind": "text"}
    return hints


def network_step(
    network: Network, at: int, known: Mapping[str, Field], columns: Mapping[str, Column], unread: Sequence[str] | None = None
) -> tuple[NetworkStep, dict[str, bytes]]:
    """The step of a network and its members.

    columns : values of the known fields in a few rows, to see what the network makes of them. unread : the fields that feed it where
    nothing else is said [all].
    """
    path = Path(network.path)
    if not path.is_file():
        raise BadRequest(f"there is no network at {path}")
    openings, names, beside = describe_network(network)
    declared = {opening.name: opening for opening in openings}
    wired = match_columns_to_inputs(network, list(known) if unread is None else unread, list(known))
    feeds = tuple(_feed(name, of, known, declared.get(name)) for name, of in wired.items())
    rows = max([opening.rows for opening in openings], default=0)
    file = f"steps/{at}/{path.name}"
    members = {file: path.read_bytes()}
    for name in beside:
        members[f"steps/{at}/{name}"] = (path.parent / name).read_bytes()
    placeholder = Schema((Field("none", "number"),))
    step = NetworkStep(
        file, network.format, feeds, (NetworkOutput("none", "none"),), placeholder, tuple(sorted(members.keys() - {file})), rows
    )
    takes = Schema(tuple(known[name] for name in step.takes))
    frame = _sample_feeds(step, takes, path, [columns[name] for name in step.takes], names)
    outputs, gives = _answers(network, frame, any(0 in feed.shape for feed in feeds))
    return replace(step, outputs=outputs, gives=gives), members


def _sample_feeds(step: NetworkStep, takes: Schema, path: Path, columns: Sequence[Column], names: Sequence[str]) -> dict[str, list[Any]]:
    """The outputs of the network for some rows, by output name."""
    running = NetworkModel(step, takes, path)
    given: dict[str, list[Any]] = {}
    ask = running._ask

    def note(feeds: dict[str, Any]) -> dict[str, Any]:
        outputs = ask(feeds)
        for name, value in outputs.items():
            given.setdefault(name, []).extend(output_array(NetworkOutput(name, name), value, len(next(iter(feeds.values())))))
        return {**outputs, "none": np.zeros(len(next(iter(feeds.values()))))}

    running._ask = note
    try:
        running.run(columns)
    except ModelFault as error:
        raise BadRequest(f"the network cannot be asked for rows of the frame: {error.detail}") from error
    return {name: given[name] for name in (names or given)}


def _answers(network: Network, text: Mapping[str, list[Any]], open_axes: bool) -> tuple[tuple[NetworkOutput, ...], Schema]:
    attributes = {name: dict(given) for name, given in (network.outputs or {}).items()}
    if unknown := attributes.keys() - text.keys():
        raise BadRequest(f"the network has no output {', '.join(sorted(unknown))}; its outputs are {', '.join(text)}")
    outputs: list[NetworkOutput] = []
    fields: list[Field] = []
    left = list(text)
    if network.labels is not None:
        label, scores = _label_and_scores(text, len(network.labels))
        left = [name for name in text if name not in (label, scores)]
        answers = classifier_answers(tuple(map(str, network.labels)), scores is not None)
        fields += answers.fields
        if label is not None:
            outputs.append(NetworkOutput(label, "label"))
        else:
            assert scores is not None
            single = np.size(text[scores][0]) == 1
            half: Literal["above zero", "above half"] = "above zero" if network.scores == "sigmoid" else "above half"
            outputs.append(NetworkOutput(scores, "label", half if single else "highest"))
        if scores is not None:
            outputs.append(NetworkOutput(scores, "scores", network.scores))
    for name in left:
        given = attributes.get(name, {})
        field = _field(str(given.pop("field", f"output_{name}" if name.isdigit() else name)), text[name], given, open_axes)
        fields.append(field)
        outputs.append(NetworkOutput(name, field.name))
    return tuple(outputs), Schema(tuple(fields))


def _label_and_scores(text: Mapping[str, list[Any]], labels: int) -> tuple[str | None, str | None]:
    """Which output names the class and which scores the classes."""
    label = scores = None
    for name, values in text.items():
        first = np.asarray(values[0])
        whole = first.dtype.kind in "iuUSO"
        if whole and first.size == 1 and label is None:
            label = name
        elif not whole and scores is None and (first.size == labels or (first.size == 1 and labels == 2)):
            scores = name
    if label is None and scores is None:
        raise BadRequest(f"labels has {labels} names, and none of the outputs {', '.join(text)} scores that many classes")
    return label, scores


def _field(name: str, values: list[Any], given: Mapping[str, Any], open_axes: bool) -> Field:
    arrays = [np.asarray(value) for value in values]
    kind = arrays[0].dtype.kind
    attributes: dict[str, Any] = {key: tuple(value) if isinstance(value, list) else value for key, value in given.items()}
    if all(array.size == 1 for array in arrays) and not any(array.ndim > 1 for array in arrays) and not open_axes:
        plain: dict[str, Literal["yes/no", "integer", "text", "number"]] = {
            "b": "yes/no",
            "i": "integer",
            "u": "integer",
            "U": "text",
            "O": "text",
        }
        return Field(name, **{"kind": plain.get(kind, "number"), **attributes})
    if arrays[0].ndim == 0:
        return Field(name, **{"kind": _KINDS.get(kind, "number"), **attributes})
    shapes = {array.shape for array in arrays}
    shape = tuple(
        0 if open_axes or len({shape_seen[axis] for shape_seen in shapes}) > 1 else length for axis, length in enumerate(arrays[0].shape)
    )
    return Field(name, **{"kind": "tensor", "shape": shape, "elements": "integer" if kind in "iub" else "number", **attributes})


_KINDS: dict[str, Kind] = {"b": "yes/no", "i": "integer", "u": "integer", "U": "text", "S": "text", "O": "text"}


def _feed(name: str, of: tuple[str, ...], known: Mapping[str, Field], opening: NetworkPort | None) -> NetworkInput:
    dtype: Dtype = opening.dtype if opening else "float32"
    first = known[of[0]]
    if first.kind == "image":
        raise BadRequest(f"a network cannot read the picture {first.name!r} itself; put lamppost.Pixels({first.name!r}, …) before it")
    if len(of) > 1 and any(known[column].kind in ("tensor", "vector") for column in of):
        raise BadRequest(f"{', '.join(of)} cannot go side by side into {name}; feed one tensor, or numbers only")
    if (opening is None and len(of) == 1 and first.kind == "integer") or (
        first.kind == "tensor" and first.elements == "integer" and opening is None
    ):
        dtype = "int64"
    if dtype in _WHOLE and any(known[c].kind == "number" or (known[c].kind == "tensor" and known[c].elements == "number") for c in of):
        raise BadRequest(f"the network's {name} reads {dtype}, and {of[0]} holds numbers with fractions; make it whole numbers")
    own = first.shape if first.kind == "tensor" else (len(first.choices),) if first.kind == "vector" else (len(of),) if len(of) > 1 else ()
    if opening is None:
        return NetworkInput(name, of, dtype, own)
    size = int(np.prod(own)) if 0 not in own else 0
    fixed = opening.shape and 0 not in opening.shape
    if fixed and size and int(np.prod(opening.shape)) != size:
        raise BadRequest(f"the network's {name} wants {opening.shape} a row, and {', '.join(of)} give {own or 'one number'}")
    if not fixed and len(own) == len(opening.shape):
        return NetworkInput(name, of, dtype, tuple(mine or theirs for mine, theirs in zip(own, opening.shape, strict=True)))
    return NetworkInput(name, of, dtype, tuple(length or 1 for length in opening.shape) if not own and opening.shape else opening.shape)


# -- reading ONNX -----------------------------------------------------------------------------------------------------


def _graph(path: Path) -> onnx.ModelProto:
    import onnx

    try:
        model = onnx.load(path, load_external_data=False)
        if not model.graph.output:
            raise ValueError("it has no outputs")
    except Exception as error:  # protobuf and onnx have their own kinds
        raise BadRequest(f"{path} is no ONNX graph: {str(error)[:200]}") from error
    return model


def _opening(value: Any) -> NetworkPort:
    import onnx

    tensor = value.type.tensor_type
    if not value.type.HasField("tensor_type"):
        raise BadRequest(f"the network's input {value.name} is no tensor; only tensors can be fed")
    dtype = "string" if tensor.elem_type == onnx.TensorProto.STRING else str(onnx.helper.tensor_dtype_to_np_dtype(tensor.elem_type))
    if dtype not in get_args(Dtype):
        raise BadRequest(f"the network's input {value.name} is of {dtype}, which cannot be fed; {', '.join(get_args(Dtype))} can")
    dims = [axis.dim_value if axis.HasField("dim_value") else 0 for axis in tensor.shape.dim]
    if not dims:
        raise BadRequest(f"the network's input {value.name} has no axis for rows; export the network with a batch axis first")
    return NetworkPort(value.name, dtype, tuple(dims[1:]), dims[0])  # type: ignore[arg-type]


def _beside(model: onnx.ModelProto) -> list[str]:
    """Files in which the graph keeps its constants."""
    import onnx.external_data_helper as external

    members = set()
    for tensor in _tensors(model.graph):
        if external.uses_external_data(tensor):
            place = external.ExternalDataInfo(tensor).location
            if PurePosixPath(place).is_absolute() or ".." in PurePosixPath(place).parts or "\\" in place:
                raise BadRequest(f"the network keeps constants in {place!r}, which is not beside it; save it with its data in one folder")
            members.add(place)
    return sorted(members)


def _tensors(graph: Any) -> Iterable[Any]:
    yield from graph.initializer
    for node in graph.node:
        for attribute in node.attribute:
            if attribute.HasField("t"):
                yield attribute.t
            if attribute.HasField("g"):
                yield from _tensors(attribute.g)
