"""A small object store that speaks as much of the S3 protocol as Arrow's file system needs: a stand-in, in this process."""

from __future__ import annotations

import re
import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any
from urllib.parse import parse_qs, unquote, urlsplit
from uuid import uuid4
from xml.sax.saxutils import escape

_DAY = "2026-11-01T00:00:00.000Z"
_HTTP_DAY = "Sun, 01 Nov 2026 00:00:00 GMT"


_CHUNK = re.compile(rb"([0-9a-fA-F]+)[^\r\n]*\r\n")


def _without_chunks(data: bytes) -> bytes:
    """What the protocol's own chunks hold."""
    whole, at = b"", 0
    while (match := _CHUNK.match(data, at)) is not None and (size := int(match[1], 16)):
        whole += data[match.end() : match.end() + size]
        at = match.end() + size + 2
    return whole


class ObjectStore:
    """`start`, then buckets are reached at `url`; `stop` ends it. objects : by ``bucket/key``."""

    def __init__(self) -> None:
        self.objects: dict[str, bytes] = {}
        self._uploads: dict[str, dict[int, bytes]] = {}
        self._server = ThreadingHTTPServer(("127.0.0.1", 0), self._handler())
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)

    def start(self) -> ObjectStore:
        self._thread.start()
        return self

    def stop(self) -> None:
        self._server.shutdown()
        self._server.server_close()

    def url(self, path: str) -> str:
        """The URL by which Arrow opens ``bucket/path``."""
        return f"s3://key:secret@{path}?scheme=http&endpoint_override=127.0.0.1:{self._server.server_port}&region=here"

    def _handler(self) -> type[BaseHTTPRequestHandler]:
        store = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def log_message(self, *_: Any) -> None:
                pass

            def reply(self, status: int, body: bytes = b"", **headers: str) -> None:
                self.send_response(status)
                sent = {"Content-Length": str(len(body)), "Last-Modified": _HTTP_DAY, "Content-Type": "application/xml", **headers}
                for name, value in sent.items():
                    self.send_header(name.replace("_", "-"), value)
                self.end_headers()
                if self.command != "HEAD":
                    self.wfile.write(body)

            @property
            def asked(self) -> tuple[str, dict[str, str]]:
                parts = urlsplit(self.path)
                query = {name: values[0] for name, values in parse_qs(parts.query, keep_blank_values=True).items()}
                return unquote(parts.path).strip("/"), query

            def body(self) -> bytes:
                if "chunked" in self.headers.get("Transfer-Encoding", ""):
                    data = b""
                    while size := int(self.rfile.readline().split(b";")[0], 16):
                        data += self.rfile.read(size)
                        self.rfile.readline()
                    self.rfile.readline()
                else:
                    data = self.rfile.read(int(self.headers.get("Content-Length", 0)))
                return _without_chunks(data) if "aws-chunked" in self.headers.get("Content-Encoding", "") else data

            def do_HEAD(self) -> None:
                path, _ = self.asked
                if "/" not in path:
                    self.reply(200 if any(key.startswith(f"{path}/") for key in store.objects) else 404)
                elif path in store.objects:
                    self.reply(200, store.objects[path], ETag='"e"', Content_Type="application/octet-stream")
                else:
                    self.reply(404)

            def do_GET(self) -> None:
                path, query = self.asked
                if "list-type" in query:
                    self.list(path, query)
                elif path not in store.objects:
                    self.reply(404, b"<Error><Code>NoSuchKey</Code></Error>")
                else:
                    data = store.objects[path]
                    match = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", ""))
                    if match is None:
                        self.reply(200, data, ETag='"e"', Content_Type="application/octet-stream")
                        return
                    start, stop = int(match[1]), min(len(data) - 1, int(match[2] or len(data) - 1))
                    shown = f"bytes {start}-{stop}/{len(data)}"
                    self.reply(206, data[start : stop + 1], ETag='"e"', Content_Range=shown, Content_Type="application/octet-stream")

            def list(self, bucket: str, query: dict[str, str]) -> None:
                prefix, mark = query.get("prefix", ""), query.get("delimiter", "")
                keys = sorted(key[len(bucket) + 1 :] for key in store.objects if key.startswith(f"{bucket}/{prefix}"))
                folders = sorted({key[: key.index(mark, len(prefix)) + 1] for key in keys if mark and mark in key[len(prefix) :]})
                plain = [key for key in keys if not (mark and mark in key[len(prefix) :])]
                listed = "".join(
                    f"<Contents><Key>{escape(key)}</Key><LastModified>{_DAY}</LastModified><ETag>e</ETag>"
                    f"<Size>{len(store.objects[f'{bucket}/{key}'])}</Size></Contents>"
                    for key in plain
                ) + "".join(f"<CommonPrefixes><Prefix>{escape(folder)}</Prefix></CommonPrefixes>" for folder in folders)
                count = len(plain) + len(folders)
                head = f"<Name>{bucket}</Name><Prefix>{escape(prefix)}</Prefix><KeyCount>{count}</KeyCount><MaxKeys>1000</MaxKeys>"
                text = f"<ListBucketResult>{head}<IsTruncated>false</IsTruncated>{listed}</ListBucketResult>"
                self.reply(200, f'<?xml version="1.0" encoding="UTF-8"?>{text}'.encode())

            def do_PUT(self) -> None:
                path, query = self.asked
                data = self.body()
                if "partNumber" in query:
                    store._uploads[query["uploadId"]][int(query["partNumber"])] = data
                    self.reply(200, ETag='"p"')
                elif (copied := self.headers.get("x-amz-copy-source")) is not None:
                    store.objects[path] = store.objects[unquote(copied).strip("/")]
                    self.reply(200, f"<CopyObjectResult><LastModified>{_DAY}</LastModified><ETag>e</ETag></CopyObjectResult>".encode())
                else:
                    if not urlsplit(self.path).path.endswith("/"):  # folders are not kept
                        store.objects[path] = data
                    self.reply(200, ETag='"e"')

            def do_POST(self) -> None:
                path, query = self.asked
                bucket, _, key = path.partition("/")
                data = self.body()
                if "uploads" in query:
                    upload = uuid4().hex
                    store._uploads[upload] = {}
                    text = f"<Bucket>{bucket}</Bucket><Key>{escape(key)}</Key><UploadId>{upload}</UploadId>"
                    self.reply(200, f"<InitiateMultipartUploadResult>{text}</InitiateMultipartUploadResult>".encode())
                elif "uploadId" in query:
                    parts = store._uploads.pop(query["uploadId"])
                    store.objects[path] = b"".join(parts[number] for number in sorted(parts))
                    text = f"<Bucket>{bucket}</Bucket><Key>{escape(key)}</Key><ETag>e</ETag>"
                    self.reply(200, f"<CompleteMultipartUploadResult>{text}</CompleteMultipartUploadResult>".encode())
                else:  # delete of several
                    for found in re.findall(rb"<Key>(.*?)</Key>", data):
                        store.objects.pop(f"{bucket}/{found.decode()}", None)
                    self.reply(200, b"<DeleteResult></DeleteResult>")

            def do_DELETE(self) -> None:
                path, query = self.asked
                store._uploads.pop(query.get("uploadId", ""), None)
                store.objects.pop(path, None)
                self.reply(204)

        return Handler
