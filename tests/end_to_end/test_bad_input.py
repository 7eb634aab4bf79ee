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


STATUS = {"bad-body": 400, "bad-json": 400, "invalid-rows": 422}


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

    def refused(
        self,
        what: str,
        body: bytes,
        code: str,
        kind: str = "application/json",
        endpoint: str = "outage-risk",
        place: tuple[int, str] | None = None,
    ) -> None:
        """The body is refused in bounded time with a problem of this code; place : the row and the field of its first fault."""
        with self.subTest(what, kind=kind):
            start = time.monotonic()
            response = self.service.post(f"/predict/{endpoint}", body, content_type=kind)
            self.assertLess(time.monotonic() - start, 60, "in bounded time")
            problem = response.json()
            self.assertEqual((response.status_code, problem["type"]), (STATUS[code], f"urn:lamppost:{code}"), response.text[:500])
            self.assertTrue(problem["detail"])
            if place is not None:
                self.assertEqual((problem["faults"][0]["row"], problem["faults"][0]["field"]), place)

    def test_every_way_of_being_wrong(self) -> None:
        self.service.post("/predict/outage-risk", GOOD * 1)
        before = self.memory()
        header, cells = ",".join(ROW), ",".join("" if value is None else str(value).lower() for value in ROW.values())
        names = list(ROW)
        short = f"{header}\n{cells}\n{','.join(cells.split(',')[:-1])}\n".encode()
        self.refused("a short line", short, "bad-body", CSV)
        self.refused("semicolons", short.replace(b",", b";"), "bad-body", CSV)
        self.refused("a column twice", f"{header},{names[0]}\n{cells},1\n".encode(), "bad-body", CSV)
        self.refused("not UTF-8", header.encode("utf-16"), "bad-body", CSV)
        late = [GOOD] * 7_000
        self.refused("a bad line", b"\n".join([*late, b'{"age_years": }', *[GOOD] * 2_999]), "bad-body", NDJSON)
        text = orjson.dumps({**ROW, "age_years": "x"})
        self.refused("a bad row", b"\n".join([*late, text, *[GOOD] * 2_999]), "invalid-rows", NDJSON, place=(7_000, "age_years"))
        self.refused("numbers for choices", arrow(**{k: [1] for k in names}), "invalid-rows", ARROW)
        whole = arrow(**{name: pa.array([value], pa.float64()) if value is None else [value] for name, value in ROW.items()})
        self.refused("cut short", whole[: len(whole) // 2], "bad-body", ARROW)
        self.refused("a length of two gigabytes", b"\xff\xff\xff\xff" + struct.pack("<i", 2**31 - 1) + whole, "bad-body", ARROW)
        self.refused("JSON", GOOD, "bad-body", ARROW)
        age = str(ROW["age_years"]).encode()
        for what, body, code in (
            ("a field twice", GOOD[:-1] + b',"age_years":3}', "bad-json"),
            ("deep", b'{"age_years": ' + b"[" * 100_000 + b"]" * 100_000 + b"}", "bad-json"),
            ("long and deep", b"[" * 5_000_000, "bad-json"),
            ("infinite", GOOD.replace(age, b"1e400"), "invalid-rows"),
            ("5,000 digits", GOOD.replace(age, b"9" * 5_000), "bad-json"),
            ("half a surrogate", GOOD.replace(f'"{ROW["district"]}"'.encode(), b'"\\ud800"'), "bad-json"),
            ("not UTF-8", b"\xff\xfe" + GOOD, "bad-json"),
            ("nothing", b"", "bad-json"),
            ("null", b"null", "bad-json"),
        ):
            self.refused(what, body, code)
        self.assertLess(self.memory() - before, 150e6, "in bounded memory")

    def test_a_byte_order_mark_is_no_fault(self) -> None:
        cells = ",".join("" if value is None else str(value).lower() for value in ROW.values())
        body = b"\xef\xbb\xbf" + f"{','.join(ROW)}\r\n{cells}\r\n".encode()
        self.assertEqual(self.service.post("/predict/outage-risk", body, content_type=CSV).status_code, 200)

    def test_pictures(self) -> None:
        before = self.memory()
        for what, data in (
            ("no picture", b"no picture at all"),
            ("too few bytes", claiming(48, 48, b"\x00" * 10)),
            ("400 megapixels", claiming(20_000, 20_000)),
            ("four gigapixels", claiming(65_000, 65_000, b"\x00" * 1_000_000)),
            ("one pixel", picture(size=(1, 1))),
            ("four colours", picture("CMYK", kind="JPEG")),
            ("GIF", picture(kind="GIF")),
            ("cut short", self.photo[:-30]),
        ):
            self.refused(what, orjson.dumps({"photo": b64(data)}), "invalid-rows", endpoint="pole-photo", place=(0, "photo"))
        text = b64(self.photo)
        for spoilt in (f"{text[:40]}\n{text[40:]}", f" {text}", text[:-3]):
            self.refused("spoilt", orjson.dumps({"photo": spoilt}), "invalid-rows", endpoint="pole-photo", place=(0, "photo"))
        self.assertLess(self.memory() - before, 150e6)
        self.assertEqual(self.service.post("/predict/pole-photo", orjson.dumps({"photo": text})).status_code, 200)

    def test_tensors_as_bytes(self) -> None:
        good = {"base64": b64(struct.pack("<2d", 1, 2)), "dtype": "float64", "shape": [2]}
        for change in (
            {"shape": [2**40]},
            {"shape": [-1]},
            {"dtype": "object"},
            {"base64": good["base64"] + " "},
            {"base64": b64(struct.pack("<2d", 1, float("nan")))},
        ):
            self.refused(
                str(change), orjson.dumps({"seq": good | change, "note": "n"}), "invalid-rows", endpoint="several", place=(0, "seq")
            )

    def test_tokens(self) -> None:
        for token, status in (("lamp_", 401), ("x" * 10_000, 401), ("lamp_nobody", 401), ("\xe9", 401)):
            sent = {"authorization": f"Bearer {token}".encode("latin-1"), "content-type": "application/json"}
            response = http.post(f"{self.service.address}/predict/outage-risk", content=GOOD, headers=sent)
            self.assertEqual((response.status_code, response.headers["www-authenticate"]), (status, "Bearer"))
        basic = {"authorization": "Basic YTpi"}
        said = http.post(f"{self.service.address}/predict/outage-risk", content=GOOD, headers=basic).json()
        self.assertEqual(said["type"], "urn:lamppost:not-signed-in")
