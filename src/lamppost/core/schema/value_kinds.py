"""Schemas for reading a single value of each kind of field, with checks that pydantic-core cannot express."""

from __future__ import annotations

import base64
import math
import re
from collections.abc import Callable
from datetime import datetime
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import orjson
from pydantic_core import PydanticCustomError, SchemaValidator, ValidationError
from pydantic_core import core_schema as cs

from lamppost.core.errors import PackageRefused
from lamppost.core.instants import fits_calendar
from lamppost.core.schema.fields import INT_HIGH, INT_LOW, MAX_ELEMENTS, MAX_TEXT, Field, shape_holds
from lamppost.core.schema.images import BadImage, check_header

_SHOWN = 80
_INSTANT = re.compile(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d")


def choice_text(value: Any) -> str:
    """A choice, a yes/no or a number as text; true and false as JSON has them."""
    return str(value).lower() if isinstance(value, bool) else str(value)


def value_schema(field: Field) -> cs.CoreSchema:
    """The schema of one value; a time becomes a datetime, a picture its bytes, a tensor an array."""
    schema: cs.CoreSchema
    if field.kind == "number":
        schema = cs.float_schema(strict=True, allow_inf_nan=False, ge=field.low, le=field.high)
    elif field.kind == "integer":
        low = INT_LOW if field.low is None else max(INT_LOW, int(field.low))
        high = INT_HIGH if field.high is None else min(INT_HIGH, int(field.high))
        schema = cs.int_schema(strict=True, ge=low, le=high)
    elif field.kind == "yes/no":
        schema = cs.bool_schema(strict=True)
    elif field.kind == "choice" and field.unseen == "refuse":
        schema = cs.literal_schema(list(field.choices))
    elif field.kind in ("choice", "text"):
        schema = cs.str_schema(strict=True, max_length=MAX_TEXT)
    elif field.kind == "time":
        schema = cs.no_info_after_validator_function(_instant, cs.str_schema(strict=True, max_length=40))
    elif field.kind == "image":
        schema = cs.no_info_after_validator_function(partial(_picture, field), cs.str_schema(strict=True))
    elif field.kind == "tensor":
        schema = cs.no_info_wrap_validator_function(partial(_tensor, field), _tensor_schema(field))
    else:
        raise PackageRefused(f"field {field.name!r}: a {field.kind} cannot be an input")
    return cs.nullable_schema(schema) if field.missing else schema


def default_fits(field: Field) -> bool:
    """Whether the default of a field, if it has one, is a value that it takes."""
    if field.default is None:
        return True
    try:
        SchemaValidator(value_schema(field)).validate_json(orjson.dumps(field.default))
    except (ValidationError, PackageRefused, orjson.JSONEncodeError):
        return False
    return True


def _tensor_schema(field: Field) -> cs.CoreSchema:
    schema: cs.CoreSchema
    if field.elements == "integer":
        low = INT_LOW if field.low is None else int(field.low)
        schema = cs.int_schema(strict=True, ge=low, le=INT_HIGH if field.high is None else int(field.high))
    else:
        schema = cs.float_schema(strict=True, allow_inf_nan=False, ge=field.low, le=field.high)
    for length in reversed(field.shape):
        schema = cs.list_schema(schema, min_length=length or 1, max_length=length or MAX_ELEMENTS, fail_fast=True)
    return schema


def _instant(value: str) -> datetime:
    """An instant of RFC 3339; seconds may be left out, the offset may not, and below a microsecond is cut off."""
    try:
        at = datetime.fromisoformat(value if _INSTANT.match(value) else "")
    except ValueError as error:
        raise PydanticCustomError("time", "no time") from error
    if at.tzinfo is None:
        raise PydanticCustomError("no-offset", "no offset from UTC")
    if not fits_calendar(at):
        raise PydanticCustomError("time", "no time")
    return at


def _picture(field: Field, value: str) -> bytes:
    """The bytes of a picture whose header is that of one the field takes."""
    try:
        data = base64.b64decode(value, validate=True)
    except ValueError as error:
        raise PydanticCustomError("image", "{said}", {"said": "text that is not base64 (RFC 4648, without line breaks)"}) from error
    try:
        check_header(field, data)
    except BadImage as error:
        raise PydanticCustomError("image", "{said}", {"said": str(error)}) from error
    return data


def _tensor(field: Field, value: Any, check: Callable[[Any], Any]) -> npt.NDArray[Any]:
    """Nested lists, or ``{"base64": …, "dtype": "float32", "shape": […]}`` of little-endian elements."""
    if isinstance(value, dict):
        return _from_bytes(field, value)
    try:
        array = np.array(check(value), dtype=np.int64 if field.elements == "integer" else np.float64)
    except ValueError as error:  # lists of different lengths
        if isinstance(error, ValidationError):
            raise
        raise _no_tensor("lists of different lengths") from error
    if array.size > MAX_ELEMENTS:
        raise _no_tensor(f"{array.size:,} elements, over the limit of {MAX_ELEMENTS:,}")
    return array


def _no_tensor(text: str) -> PydanticCustomError:
    return PydanticCustomError("tensor", "{said}", {"said": text})


_DTYPES = ("float32", "float64", "int8", "uint8", "int16", "int32", "int64")


def _from_bytes(field: Field, value: dict[str, Any]) -> npt.NDArray[Any]:
    if not {"base64", "shape"} <= value.keys() <= {"base64", "dtype", "shape"}:
        raise _no_tensor("an object that is not base64, dtype and shape")
    dtype, shape, text = value.get("dtype", "int64" if field.elements == "integer" else "float64"), value["shape"], value["base64"]
    if dtype not in _DTYPES:
        raise _no_tensor(f"elements of {shortened_json(dtype)}, which is none of {', '.join(_DTYPES)}")
    if field.elements == "integer" and dtype.startswith("float"):
        raise _no_tensor(f"elements of {dtype}")
    if not isinstance(shape, list) or not all(type(length) is int and length > 0 for length in shape):
        raise _no_tensor("a shape that is no list of lengths")
    if not shape_holds(field.shape, shape):
        raise _no_tensor(f"a shape of {shape}")
    try:
        data = base64.b64decode(text, validate=True) if isinstance(text, str) else b""
    except ValueError as error:
        raise _no_tensor("text that is not base64 (RFC 4648, without line breaks)") from error
    size = math.prod(shape) * np.dtype(dtype).itemsize
    if len(data) != size or math.prod(shape) > MAX_ELEMENTS:
        raise _no_tensor(f"{len(data):,} bytes, where {shape} of {dtype} is {size:,}")
    array = (
        np.frombuffer(data, np.dtype(dtype).newbyteorder("<"))
        .reshape(shape)
        .astype(np.int64 if field.elements == "integer" else np.float64)
    )
    if not np.isfinite(array).all():
        raise _no_tensor("elements that are NaN or infinite")
    if (field.low is not None and array.min() < field.low) or (field.high is not None and array.max() > field.high):
        raise _no_tensor(f"elements from {array.min():g} to {array.max():g}")
    return array


def shortened_json(value: Any) -> str:
    """A value as JSON would write it, cut to 80 characters."""
    if isinstance(value, (dict, list)):
        shape = f"an object with {len(value)} keys" if isinstance(value, dict) else f"a list of {len(value)}"
        return shape if value else "an empty object" if isinstance(value, dict) else "an empty list"
    if isinstance(value, bytes):
        value = value.decode("utf-8", "replace")
    if isinstance(value, float) and value != value:
        return "NaN"
    if isinstance(value, float) and abs(value) == float("inf"):
        return "Infinity" if value > 0 else "-Infinity"
    if isinstance(value, str) or value is None or isinstance(value, bool):
        text = orjson.dumps(value).decode()
    elif isinstance(value, int) and value.bit_length() > 1024:
        text = f"a whole number of about {round(value.bit_length() * 0.30103)} digits"
    else:
        text = str(value)
    return text if len(text) <= _SHOWN else text[: _SHOWN - 1] + "…"
