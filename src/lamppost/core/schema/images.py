"""Checks pictures by their headers before anything is decoded, and decodes them to arrays.

Pixels are taken as they stand in the file: orientation notes of cameras are not followed, colour profiles not applied, because
training did neither unless its own code did.
"""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

from lamppost.core.limits import MAX_PIXELS
from lamppost.core.schema.fields import Field

if TYPE_CHECKING:
    from PIL.Image import Image

_MODES: dict[int, dict[str, str]] = {
    # what a file may be, by what the model reads: nothing that loses or invents a colour
    1: {"1": "L", "L": "L"},
    3: {"1": "RGB", "L": "RGB", "RGB": "RGB", "P": "RGB"},
    4: {"RGBA": "RGBA", "P": "RGBA", "LA": "RGBA"},
}
_CALLED = {"L": "grey", "1": "black and white", "RGB": "colour", "RGBA": "colour with opacity", "LA": "grey with opacity", "P": "a palette"}


class BadImage(Exception):
    """A picture that is refused; the text says why."""


def check_header(field: Field, data: bytes) -> None:
    """Raise BadImage unless the header is of a picture that this field takes; no pixel is decoded."""
    with _opened(data) as image:
        _check(field, image)


def decode_image(field: Field, data: bytes) -> npt.NDArray[np.uint8]:
    """Pixels of shape (height, width, channels), uint8, 0 to 255; raise BadImage."""
    with _opened(data) as image:
        mode = _check(field, image)
        try:
            return np.asarray(image.convert(mode), dtype=np.uint8).reshape(image.height, image.width, field.channels)
        except Exception as error:  # decoders raise many kinds on damaged files
            raise BadImage(f"a picture that cannot be decoded ({type(error).__name__}: {error})"[:200]) from error


def encode_png(value: Any) -> bytes:
    """PNG bytes of a picture that training held as an array (height, width[, channels]) of uint8, or as bytes already."""
    from PIL import Image

    if isinstance(value, (bytes, bytearray)):
        return bytes(value)
    array = np.asarray(value)
    if array.dtype != np.uint8 or array.ndim not in (2, 3):
        raise BadImage(f"an array of {array.dtype} and shape {array.shape}, where uint8 of height × width × channels is expected")
    buffer = io.BytesIO()
    Image.fromarray(array[..., 0] if array.ndim == 3 and array.shape[2] == 1 else array).save(buffer, "PNG")
    return buffer.getvalue()


def image_size(data: bytes) -> tuple[int, int, int]:
    """Width, height and channels of a picture, from its header."""
    with _opened(data) as image:
        return image.width, image.height, {"L": 1, "1": 1, "RGBA": 4, "LA": 4}.get(image.mode, 3)


def count_pixels(pictures: Iterable[bytes | None]) -> int:
    """Pixels of all pictures, from their headers."""
    total = 0
    for data in pictures:
        if data is not None:
            with _opened(data) as image:
                total += image.width * image.height
    return total


def _opened(data: bytes) -> Image:
    from PIL import Image

    if not data.startswith((b"\x89PNG\r\n\x1a\n", b"\xff\xd8\xff")):
        raise BadImage("bytes that are neither PNG nor JPEG")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error", Image.DecompressionBombWarning)
            return Image.open(io.BytesIO(data), formats=("PNG", "JPEG"))
    except (Image.DecompressionBombError, Image.DecompressionBombWarning) as error:
        raise BadImage(f"a picture of far more than {MAX_PIXELS:,} pixels") from error
    except Exception as error:
        raise BadImage("the start of a PNG or JPEG, but no whole header") from error


def _check(field: Field, image: Image) -> str:
    """The mode to convert to."""
    if image.width * image.height > MAX_PIXELS:
        raise BadImage(f"{image.width}×{image.height} pixels, over the limit of {MAX_PIXELS:,} in all")
    if field.size is not None and (image.width, image.height) != field.size:
        raise BadImage(f"{image.width}×{image.height} pixels")
    modes = _MODES[field.channels]
    clear = "transparency" in image.info
    if image.mode not in modes or (image.mode == "P" and clear != (field.channels == 4)):
        raise BadImage(f"a picture in {_CALLED.get(image.mode, image.mode)}{' with opacity' if image.mode == 'P' and clear else ''}")
    return modes[image.mode]
