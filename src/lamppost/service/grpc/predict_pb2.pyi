from google.protobuf.internal import containers as _containers
from google.protobuf import descriptor as _descriptor
from google.protobuf import message as _message
from collections.abc import Iterable as _Iterable, Mapping as _Mapping
from typing import ClassVar as _ClassVar, Optional as _Optional, Union as _Union

DESCRIPTOR: _descriptor.FileDescriptor

class DescribeRequest(_message.Message):
    __slots__ = ("endpoint", "wake")
    ENDPOINT_FIELD_NUMBER: _ClassVar[int]
    WAKE_FIELD_NUMBER: _ClassVar[int]
    endpoint: str
    wake: bool
    def __init__(self, endpoint: _Optional[str] = ..., wake: _Optional[bool] = ...) -> None: ...

class DescribeReply(_message.Message):
    __slots__ = ("version", "revision", "description")
    VERSION_FIELD_NUMBER: _ClassVar[int]
    REVISION_FIELD_NUMBER: _ClassVar[int]
    DESCRIPTION_FIELD_NUMBER: _ClassVar[int]
    version: str
    revision: int
    description: bytes
    def __init__(self, version: _Optional[str] = ..., revision: _Optional[int] = ..., description: _Optional[bytes] = ...) -> None: ...

class PredictRequest(_message.Message):
    __slots__ = ("endpoint", "rows", "columns", "options")
    class OptionsEntry(_message.Message):
        __slots__ = ("key", "value")
        KEY_FIELD_NUMBER: _ClassVar[int]
        VALUE_FIELD_NUMBER: _ClassVar[int]
        key: str
        value: Value
        def __init__(self, key: _Optional[str] = ..., value: _Optional[_Union[Value, _Mapping]] = ...) -> None: ...
    ENDPOINT_FIELD_NUMBER: _ClassVar[int]
    ROWS_FIELD_NUMBER: _ClassVar[int]
    COLUMNS_FIELD_NUMBER: _ClassVar[int]
    OPTIONS_FIELD_NUMBER: _ClassVar[int]
    endpoint: str
    rows: Rows
    columns: Columns
    options: _containers.MessageMap[str, Value]
    def __init__(self, endpoint: _Optional[str] = ..., rows: _Optional[_Union[Rows, _Mapping]] = ..., columns: _Optional[_Union[Columns, _Mapping]] = ..., options: _Optional[_Mapping[str, Value]] = ...) -> None: ...

class PredictReply(_message.Message):
    __slots__ = ("version", "request_id", "rows", "columns", "timing_ms", "changed")
    class TimingMsEntry(_message.Message):
        __slots__ = ("key", "value")
        KEY_FIELD_NUMBER: _ClassVar[int]
        VALUE_FIELD_NUMBER: _ClassVar[int]
        key: str
        value: float
        def __init__(self, key: _Optional[str] = ..., value: _Optional[float] = ...) -> None: ...
    VERSION_FIELD_NUMBER: _ClassVar[int]
    REQUEST_ID_FIELD_NUMBER: _ClassVar[int]
    ROWS_FIELD_NUMBER: _ClassVar[int]
    COLUMNS_FIELD_NUMBER: _ClassVar[int]
    TIMING_MS_FIELD_NUMBER: _ClassVar[int]
    CHANGED_FIELD_NUMBER: _ClassVar[int]
    version: str
    request_id: str
    rows: Rows
    columns: Columns
    timing_ms: _containers.ScalarMap[str, float]
    changed: _containers.RepeatedCompositeFieldContainer[Change]
    def __init__(self, version: _Optional[str] = ..., request_id: _Optional[str] = ..., rows: _Optional[_Union[Rows, _Mapping]] = ..., columns: _Optional[_Union[Columns, _Mapping]] = ..., timing_ms: _Optional[_Mapping[str, float]] = ..., changed: _Optional[_Iterable[_Union[Change, _Mapping]]] = ...) -> None: ...

class Rows(_message.Message):
    __slots__ = ("rows",)
    ROWS_FIELD_NUMBER: _ClassVar[int]
    rows: _containers.RepeatedCompositeFieldContainer[Row]
    def __init__(self, rows: _Optional[_Iterable[_Union[Row, _Mapping]]] = ...) -> None: ...

class Row(_message.Message):
    __slots__ = ("values",)
    class ValuesEntry(_message.Message):
        __slots__ = ("key", "value")
        KEY_FIELD_NUMBER: _ClassVar[int]
        VALUE_FIELD_NUMBER: _ClassVar[int]
        key: str
        value: Value
        def __init__(self, key: _Optional[str] = ..., value: _Optional[_Union[Value, _Mapping]] = ...) -> None: ...
    VALUES_FIELD_NUMBER: _ClassVar[int]
    values: _containers.MessageMap[str, Value]
    def __init__(self, values: _Optional[_Mapping[str, Value]] = ...) -> None: ...

class Value(_message.Message):
    __slots__ = ("number", "integer", "yes_no", "text", "image", "tensor", "vector")
    NUMBER_FIELD_NUMBER: _ClassVar[int]
    INTEGER_FIELD_NUMBER: _ClassVar[int]
    YES_NO_FIELD_NUMBER: _ClassVar[int]
    TEXT_FIELD_NUMBER: _ClassVar[int]
    IMAGE_FIELD_NUMBER: _ClassVar[int]
    TENSOR_FIELD_NUMBER: _ClassVar[int]
    VECTOR_FIELD_NUMBER: _ClassVar[int]
    number: float
    integer: int
    yes_no: bool
    text: str
    image: bytes
    tensor: Tensor
    vector: Vector
    def __init__(self, number: _Optional[float] = ..., integer: _Optional[int] = ..., yes_no: _Optional[bool] = ..., text: _Optional[str] = ..., image: _Optional[bytes] = ..., tensor: _Optional[_Union[Tensor, _Mapping]] = ..., vector: _Optional[_Union[Vector, _Mapping]] = ...) -> None: ...

class Tensor(_message.Message):
    __slots__ = ("shape", "dtype", "elements")
    SHAPE_FIELD_NUMBER: _ClassVar[int]
    DTYPE_FIELD_NUMBER: _ClassVar[int]
    ELEMENTS_FIELD_NUMBER: _ClassVar[int]
    shape: _containers.RepeatedScalarFieldContainer[int]
    dtype: str
    elements: bytes
    def __init__(self, shape: _Optional[_Iterable[int]] = ..., dtype: _Optional[str] = ..., elements: _Optional[bytes] = ...) -> None: ...

class Vector(_message.Message):
    __slots__ = ("names", "values")
    NAMES_FIELD_NUMBER: _ClassVar[int]
    VALUES_FIELD_NUMBER: _ClassVar[int]
    names: _containers.RepeatedScalarFieldContainer[str]
    values: _containers.RepeatedScalarFieldContainer[float]
    def __init__(self, names: _Optional[_Iterable[str]] = ..., values: _Optional[_Iterable[float]] = ...) -> None: ...

class Columns(_message.Message):
    __slots__ = ("columns",)
    COLUMNS_FIELD_NUMBER: _ClassVar[int]
    columns: _containers.RepeatedCompositeFieldContainer[Column]
    def __init__(self, columns: _Optional[_Iterable[_Union[Column, _Mapping]]] = ...) -> None: ...

class Column(_message.Message):
    __slots__ = ("name", "numbers", "integers", "yes_nos", "texts", "times", "images", "tensors", "vectors", "missing")
    NAME_FIELD_NUMBER: _ClassVar[int]
    NUMBERS_FIELD_NUMBER: _ClassVar[int]
    INTEGERS_FIELD_NUMBER: _ClassVar[int]
    YES_NOS_FIELD_NUMBER: _ClassVar[int]
    TEXTS_FIELD_NUMBER: _ClassVar[int]
    TIMES_FIELD_NUMBER: _ClassVar[int]
    IMAGES_FIELD_NUMBER: _ClassVar[int]
    TENSORS_FIELD_NUMBER: _ClassVar[int]
    VECTORS_FIELD_NUMBER: _ClassVar[int]
    MISSING_FIELD_NUMBER: _ClassVar[int]
    name: str
    numbers: Numbers
    integers: Integers
    yes_nos: YesNos
    texts: Texts
    times: Times
    images: Images
    tensors: Tensors
    vectors: Vectors
    missing: _containers.RepeatedScalarFieldContainer[bool]
    def __init__(self, name: _Optional[str] = ..., numbers: _Optional[_Union[Numbers, _Mapping]] = ..., integers: _Optional[_Union[Integers, _Mapping]] = ..., yes_nos: _Optional[_Union[YesNos, _Mapping]] = ..., texts: _Optional[_Union[Texts, _Mapping]] = ..., times: _Optional[_Union[Times, _Mapping]] = ..., images: _Optional[_Union[Images, _Mapping]] = ..., tensors: _Optional[_Union[Tensors, _Mapping]] = ..., vectors: _Optional[_Union[Vectors, _Mapping]] = ..., missing: _Optional[_Iterable[bool]] = ...) -> None: ...

class Numbers(_message.Message):
    __slots__ = ("values",)
    VALUES_FIELD_NUMBER: _ClassVar[int]
    values: _containers.RepeatedScalarFieldContainer[float]
    def __init__(self, values: _Optional[_Iterable[float]] = ...) -> None: ...

class Integers(_message.Message):
    __slots__ = ("values",)
    VALUES_FIELD_NUMBER: _ClassVar[int]
    values: _containers.RepeatedScalarFieldContainer[int]
    def __init__(self, values: _Optional[_Iterable[int]] = ...) -> None: ...

class YesNos(_message.Message):
    __slots__ = ("values",)
    VALUES_FIELD_NUMBER: _ClassVar[int]
    values: _containers.RepeatedScalarFieldContainer[bool]
    def __init__(self, values: _Optional[_Iterable[bool]] = ...) -> None: ...

class Texts(_message.Message):
    __slots__ = ("values",)
    VALUES_FIELD_NUMBER: _ClassVar[int]
    values: _containers.RepeatedScalarFieldContainer[str]
    def __init__(self, values: _Optional[_Iterable[str]] = ...) -> None: ...

class Times(_message.Message):
    __slots__ = ("microseconds",)
    MICROSECONDS_FIELD_NUMBER: _ClassVar[int]
    microseconds: _containers.RepeatedScalarFieldContainer[int]
    def __init__(self, microseconds: _Optional[_Iterable[int]] = ...) -> None: ...

class Images(_message.Message):
    __slots__ = ("files",)
    FILES_FIELD_NUMBER: _ClassVar[int]
    files: _containers.RepeatedScalarFieldContainer[bytes]
    def __init__(self, files: _Optional[_Iterable[bytes]] = ...) -> None: ...

class Tensors(_message.Message):
    __slots__ = ("values",)
    VALUES_FIELD_NUMBER: _ClassVar[int]
    values: _containers.RepeatedCompositeFieldContainer[Tensor]
    def __init__(self, values: _Optional[_Iterable[_Union[Tensor, _Mapping]]] = ...) -> None: ...

class Vectors(_message.Message):
    __slots__ = ("names", "values")
    NAMES_FIELD_NUMBER: _ClassVar[int]
    VALUES_FIELD_NUMBER: _ClassVar[int]
    names: _containers.RepeatedScalarFieldContainer[str]
    values: _containers.RepeatedScalarFieldContainer[float]
    def __init__(self, names: _Optional[_Iterable[str]] = ..., values: _Optional[_Iterable[float]] = ...) -> None: ...

class Change(_message.Message):
    __slots__ = ("row", "field", "given", "taken")
    ROW_FIELD_NUMBER: _ClassVar[int]
    FIELD_FIELD_NUMBER: _ClassVar[int]
    GIVEN_FIELD_NUMBER: _ClassVar[int]
    TAKEN_FIELD_NUMBER: _ClassVar[int]
    row: int
    field: str
    given: str
    taken: str
    def __init__(self, row: _Optional[int] = ..., field: _Optional[str] = ..., given: _Optional[str] = ..., taken: _Optional[str] = ...) -> None: ...
