"""Bodies that are wrong on purpose, each in its own way: a 4xx with place and remedy, soon, without taking memory; and it still serves."""

import base64
import io
import struct
import time
import unittest
import zlib
from pathlib import Path
from typing import Any

import orjson
import pyarrow as pa
from PIL import Image

from demo.poles import make_photos
from tests.end_to_end.test_service import ROW
from tests.support import http
from tests.support.lamps import outage_lamp
from tests.support.other_lamps import photo_lamp, several_lamp
from tests.support.service import Service

NDJSON, CSV, ARROW = "application/x-ndjson", "text/csv", "application/vnd.apache.arrow.stream"
GOOD = orjson.dumps(ROW)


def picture(mode: str = "RGB", size: tuple[int, int] = (48, 48), kind: str = "PNG") -> bytes:
    buffer = io.BytesIO()
    Image.new(mode, size).save(buffer, kind)
    return buffer.getvalue()


def claiming(width: int, height: int, data: bytes = b"") -> bytes:
    """A PNG whose header says so, with hardly anything in it."""

    def chunk(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))

    head = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(data)) + chunk(b"IEND", b"")


def arrow(**columns: Any) -> bytes:
    table = pa.table(columns)
    sink = io.BytesIO()
    with pa.ipc.new_stream(sink, table.schema) as writer:
        writer.write_table(table)
    return sink.getvalue()


def b64(data: bytes) -> str:
    return base64.b64encode(data).decode()


class BadInput(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service().start()
        cls.addClassCleanup(cls.service.remove)
        cls.service.serve(outage_lamp())
        cls.service.serve(photo_lamp(), "pole-photo")
        cls.service.serve(several_lamp(), "several")
        cls.photo = make_photos(1, seed=3)["photo"].iloc[0]

    def memory(self) -> int:
        assert self.service.process is not None
        return int(Path(f"/proc/{self.service.process.pid}/statm").read_text().split()[1]) * 4096

    def refused(self, said: str, body: bytes, status: int, kind: str = "application/json", endpoint: str = "outage-risk") -> None:
        with self.subTest(said=said, kind=kind):
            start = time.monotonic()
            response = self.service.post(f"/predict/{endpoint}", body, content_type=kind)
            self.assertLess(time.monotonic() - start, 3, "in bounded time")
            self.assertEqual(response.status_code, status, response.text[:500])
            self.assertIn(said, response.json()["detail"])

    def test_every_way_of_being_wrong(self) -> None:
        self.service.post("/predict/outage-risk", GOOD * 1)
        before = self.memory()
        header, cells = ",".join(ROW), ",".join("" if value is None else str(value).lower() for value in ROW.values())
        names = list(ROW)
        short = f"{header}\n{cells}\n{','.join(cells.split(',')[:-1])}\n".encode()
        self.refused("line 3 has", short, 400, CSV)
        self.refused("separate cells with commas", short.replace(b",", b";"), 400, CSV)
        self.refused("more than once", f"{header},{names[0]}\n{cells},1\n".encode(), 400, CSV)
        self.refused("is not UTF-8", header.encode("utf-16"), 400, CSV)
        self.refused("line 7001 is not JSON", b"\n".join([GOOD] * 7_000 + [b'{"age_years": }'] + [GOOD] * 2_999), 400, NDJSON)
        self.refused(
            "row 7000, age_years", b"\n".join([GOOD] * 7_000 + [orjson.dumps({**ROW, "age_years": "x"})] + [GOOD] * 2_999), 422, NDJSON
        )
        self.refused("district: given a column of int64, expected one of", arrow(**{k: [1] for k in names}), 422, ARROW)
        whole = arrow(**{name: pa.array([value], pa.float64()) if value is None else [value] for name, value in ROW.items()})
        self.refused("cut short", whole[: len(whole) // 2], 400, ARROW)
        self.refused("no Arrow stream", b"\xff\xff\xff\xff" + struct.pack("<i", 2**31 - 1) + whole, 400, ARROW)
        self.refused("no Arrow stream", GOOD, 400, ARROW)
        for body, said, status in (
            (GOOD[:-1] + b',"age_years":3}', "stands twice", 400),
            (b'{"age_years": ' + b"[" * 100_000 + b"]" * 100_000 + b"}", "recursion limit", 400),
            (b"[" * 5_000_000, "is not JSON", 400),
            (GOOD.replace(str(ROW["age_years"]).encode(), b"1e400"), "given Infinity", 422),
            (GOOD.replace(str(ROW["age_years"]).encode(), b"9" * 5_000), "number out of range", 400),
            (GOOD.replace(f'"{ROW["district"]}"'.encode(), b'"\\ud800"'), "hex escape at line 1", 400),
            (b"\xff\xfe" + GOOD, "is not JSON", 400),
            (b"", "is not JSON", 400),
            (b"null", "expected one row", 400),
        ):
            self.refused(said, body, status)
        self.assertLess(self.memory() - before, 150e6, "in bounded memory")

    def test_a_byte_order_mark_is_no_fault(self) -> None:
        cells = ",".join("" if value is None else str(value).lower() for value in ROW.values())
        body = b"\xef\xbb\xbf" + f"{','.join(ROW)}\r\n{cells}\r\n".encode()
        self.assertEqual(self.service.post("/predict/outage-risk", body, content_type=CSV).status_code, 200)

    def test_pictures(self) -> None:
        before = self.memory()
        for data, said in (
            (b"no picture at all", "neither PNG nor JPEG"),
            (claiming(48, 48, b"\x00" * 10), ""),
            (claiming(20_000, 20_000), "far more than 16,777,216 pixels"),
            (claiming(65_000, 65_000, b"\x00" * 1_000_000), "far more than 16,777,216 pixels"),
            (picture(size=(1, 1)), "1×1"),
            (picture("CMYK", kind="JPEG"), "CMYK"),
            (picture(kind="GIF"), "neither PNG nor JPEG"),
            (self.photo[:-30], ""),
        ):
            self.refused(said or "row 0, photo: given", orjson.dumps({"photo": b64(data)}), 422, endpoint="pole-photo")
        text = b64(self.photo)
        for spoilt in (f"{text[:40]}\n{text[40:]}", f" {text}", text[:-3]):
            self.refused("not base64", orjson.dumps({"photo": spoilt}), 422, endpoint="pole-photo")
        self.assertLess(self.memory() - before, 150e6)
        self.assertEqual(self.service.post("/predict/pole-photo", orjson.dumps({"photo": text})).status_code, 200)

    def test_tensors_as_bytes(self) -> None:
        good = {"base64": b64(struct.pack("<2d", 1, 2)), "dtype": "float64", "shape": [2]}
        for change, said in (
            ({"shape": [2**40]}, "bytes, where"),
            ({"shape": [-1]}, "no list of lengths"),
            ({"dtype": "object"}, "none of float32"),
            ({"base64": good["base64"] + " "}, "not base64"),
            ({"base64": b64(struct.pack("<2d", 1, float("nan")))}, "NaN or infinite"),
        ):
            self.refused(said, orjson.dumps({"seq": good | change, "note": "n"}), 422, endpoint="several")

    def test_tokens(self) -> None:
        for token, status in (("lamp_", 401), ("x" * 10_000, 401), ("lamp_nobody", 401), ("\xe9", 401)):
            sent = {"authorization": f"Bearer {token}".encode("latin-1"), "content-type": "application/json"}
            response = http.post(f"{self.service.address}/predict/outage-risk", content=GOOD, headers=sent)
            self.assertEqual((response.status_code, response.headers["www-authenticate"]), (status, "Bearer"))
        basic = {"authorization": "Basic YTpi"}
        said = http.post(f"{self.service.address}/predict/outage-risk", content=GOOD, headers=basic).json()
        self.assertIn("not of the form: Bearer", said["detail"])
