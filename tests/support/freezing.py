"""Bodies that ask for much work: each was found to hold up every other call for up to a minute."""

from __future__ import annotations

import io

import orjson

from lamppost.core.payload.text_formats import ARROW, CSV, JSON, MULTIPART, NDJSON


def arrow_of(names: list[str], rows: int = 1, compression: str | None = None) -> bytes:
    """An Arrow stream of float columns of zeros."""
    import pyarrow as pa

    arrays = [pa.array([0.0] * rows)] * len(names)
    batch = pa.record_batch(arrays, names=names)
    sink = io.BytesIO()
    options = pa.ipc.IpcWriteOptions(compression=compression)
    with pa.ipc.new_stream(sink, batch.schema, options=options) as stream:
        stream.write_batch(batch)
    return sink.getvalue()


def form_of(parts: int) -> bytes:
    """A form with so many parts."""
    part = b'--x\r\ncontent-disposition: form-data; name="%d"\r\n\r\n1\r\n'
    return b"".join(part % number for number in range(parts)) + b"--x--\r\n"


def freezing_bodies() -> dict[str, tuple[str, bytes]]:
    """Content type and body, by what each is."""
    names = [f"n{number}" for number in range(700_000)]
    row = {"age_years": "old", "district": 7, "more": 1}
    return {
        "a CSV header of 40,000 names": (CSV, ",".join(names[:40_000]).encode() + b"\n" + b",".join([b"1"] * 40_000) + b"\n"),
        "a CSV header with a name twice": (CSV, ",".join(["age_years"] * 40_000).encode() + b"\n1\n"),
        "a CSV of quotes": (CSV, b'age_years\n"' + b"\n" * 2_000_000),
        "an Arrow schema of 8,000 columns": (ARROW, arrow_of(names[:8_000])),
        "an Arrow column twice": (ARROW, arrow_of(["age_years"] * 8_000)),
        "700,000 unknown names": (JSON, orjson.dumps(dict.fromkeys(names, 1))),
        "700,000 unknown names in rows": (JSON, orjson.dumps({"rows": [dict.fromkeys(names, 1)]})),
        "700,000 times a name": (JSON, b'{"age_years":1' + b',"age_years":1' * 700_000 + b"}"),
        "10,000 rows of faults": (JSON, orjson.dumps({"rows": [row] * 10_000})),
        "columns of a million faults": (JSON, orjson.dumps({"columns": {"age_years": ["old"] * 1_000_000}})),
        "options of 700,000 names": (JSON, orjson.dumps({"rows": [row], "options": dict.fromkeys(names, 1)})),
        "a million brackets": (JSON, b'{"age_years":' + b"[" * 1_000_000),
        "a line of 700,000 names": (NDJSON, orjson.dumps(dict.fromkeys(names, 1))),
        "200,000 lines": (NDJSON, b"{}\n" * 200_000),
        "a form of 900 parts": (MULTIPART + "; boundary=x", form_of(900)),
    }
