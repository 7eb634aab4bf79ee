"""Images for containers: layouts read and written as the specification says, and run without an engine from what they add."""

import gzip
import hashlib
import io
import json
import tarfile
import tempfile
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

from lamppost.core.errors import BadRequest
from lamppost.package.read import read_lamp
from lamppost.packing.build import FORMATS
from lamppost.packing.export.checking import CheckedForm
from lamppost.packing.image import writing
from lamppost.packing.image.contents import LIBRARY, interpreter_name, library_files
from lamppost.packing.image.layout import CONFIG, INDEX, LAYER, MANIFEST, ImageLayout, write_layer
from lamppost.packing.image.writing import write_package_image
from tests.support.lamps import outage_lamp

PYTHON = f"usr/local/bin/{interpreter_name()}"
Blobs = dict[str, bytes]


def digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def described(content: bytes, kind: str, **more: Any) -> dict[str, Any]:
    return {"mediaType": kind, "digest": f"sha256:{digest(content)}", "size": len(content), **more}


def tar_of(files: dict[str, bytes]) -> bytes:
    raw = io.BytesIO()
    with tarfile.open(fileobj=raw, mode="w") as tar:
        for name, content in files.items():
            info = tarfile.TarInfo(name)
            info.size = len(content)
            tar.addfile(info, io.BytesIO(content))
    return raw.getvalue()


def base_files(
    machine: str = "amd64", paths: tuple[str, ...] = (PYTHON,), packed: bool = True, nested: bool = False, **config: Any
) -> Blobs:
    """The files of an image layout, by name."""
    layer = tar_of(dict.fromkeys(paths, b"#!"))
    blob = gzip.compress(layer) if packed else layer
    configured = json.dumps(
        {
            "architecture": machine,
            "os": "linux",
            "config": {"Env": ["PATH=/usr/local/bin"], "Labels": {"town": "Tallowby"}},
            "rootfs": {"type": "layers", "diff_ids": [f"sha256:{digest(layer)}"]},
            "history": [{"created_by": "somebody"}],
        }
    ).encode()
    layers = [described(blob, LAYER + ("+gzip" if packed else ""))]
    manifest = json.dumps({"schemaVersion": 2, "mediaType": MANIFEST, "config": described(configured, CONFIG), "layers": layers}).encode()
    there = {"architecture": machine, "os": "linux"}
    manifests = [described(manifest, MANIFEST, platform=there)]
    blobs = {f"blobs/sha256/{digest(one)}": one for one in (blob, configured, manifest)}
    if nested:
        other = {"mediaType": MANIFEST, "digest": "sha256:" + "0" * 64, "size": 1, "platform": {"architecture": "s390x", "os": "linux"}}
        index = json.dumps({"schemaVersion": 2, "mediaType": INDEX, "manifests": [other, *manifests]}).encode()
        blobs[f"blobs/sha256/{digest(index)}"] = index
        manifests = [described(index, INDEX)]
    top = {
        "oci-layout": b'{"imageLayoutVersion": "1.0.0"}',
        "index.json": json.dumps({"schemaVersion": 2, "manifests": manifests}).encode(),
    }
    return top | blobs


class Images(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        machine = mock.patch("platform.machine", return_value="x86_64")
        machine.start()
        self.addCleanup(machine.stop)

    def base(self, files: Blobs) -> Path:
        path = self.folder / "base.tar"
        path.write_bytes(tar_of(files))
        return path

    def written(self, files: Blobs) -> tuple[dict[str, Any], dict[str, Any], Blobs]:
        """Manifest, configuration and files of an image of the outage model, of which a few libraries are left."""
        out = self.folder / "out.tar"
        few = {name: path for name, path in library_files(("service",)).items() if name.startswith(f"{LIBRARY}/tomli_w/")}
        with (
            mock.patch.object(writing, "library_files", return_value=few),
            mock.patch.object(writing, "_checked", return_value=CheckedForm(2_000, 0.0)),
        ):
            made = write_package_image(read_lamp(outage_lamp()), self.base(files), "outage-risk:1", frozenset(FORMATS), out)
        with tarfile.open(out) as tar:
            found = {member.name: tar.extractfile(member).read() for member in tar}  # type: ignore[union-attr]
        (entry,) = json.loads(found["index.json"])["manifests"]
        self.assertEqual((entry["digest"], entry["annotations"]), (made.digest, {"org.opencontainers.image.ref.name": "outage-risk:1"}))
        manifest = json.loads(found[f"blobs/sha256/{entry['digest'][7:]}"])
        return manifest, json.loads(found[f"blobs/sha256/{manifest['config']['digest'][7:]}"]), found

    def test_an_image_is_what_the_specification_says(self) -> None:
        for files in (base_files(), base_files(packed=False), base_files(nested=True)):
            manifest, config, found = self.written(files)
            for name, content in found.items():
                if name.startswith("blobs/"):
                    self.assertEqual(digest(content), name.rpartition("/")[2])
            named = [manifest["config"], *manifest["layers"]]
            self.assertEqual([one["size"] for one in named], [len(found[f"blobs/sha256/{one['digest'][7:]}"]) for one in named])
            self.assertEqual(len(found), 3 + len(named), "nothing else lies in it")
            self.assertEqual(len(manifest["layers"]), 3)
            tars = [found[f"blobs/sha256/{one['digest'][7:]}"] for one in manifest["layers"]]
            plain = [gzip.decompress(one) if one[:2] == b"\x1f\x8b" else one for one in tars]
            self.assertEqual(config["rootfs"]["diff_ids"], [f"sha256:{digest(one)}" for one in plain])
            with tarfile.open(fileobj=io.BytesIO(plain[2])) as tar:
                lamp = tar.extractfile("opt/lamppost/packages/outage-risk.lamp")
                assert lamp is not None
                self.assertEqual(lamp.read(), outage_lamp().read_bytes())
            started = config["config"]
            self.assertEqual(started["Entrypoint"][:4], [f"/{PYTHON}", "-m", "lamppost", "serve"])
            self.assertIn(f"PYTHONPATH={LIBRARY}", started["Env"])
            self.assertEqual((started["User"], started["Labels"]["town"], len(config["history"])), ("65532:65532", "Tallowby", 3))
            again = ImageLayout(self.folder / "out.tar")
            self.addCleanup(again.close)
            self.assertEqual(len(again.layers), 3, "an image can stand on this one")

    def test_layers_are_the_same_for_the_same_files(self) -> None:
        files = {"/opt/a/one.py": Path(__file__), "/opt/b.txt": Path(__file__)}
        first, second = (write_layer(files, self.folder / name) for name in ("first", "second"))
        self.assertEqual((first.descriptor, first.diff_id), (second.descriptor, second.diff_id))
        with tarfile.open(first.file) as tar:
            self.assertEqual(tar.getnames(), ["opt", "opt/a", "opt/a/one.py", "opt/b.txt"])

    def test_bases_that_are_none_are_refused_with_the_reason(self) -> None:
        whole = base_files()
        blob = next(name for name, content in whole.items() if content[:2] == b"\x1f\x8b")
        outside = {"digest": "sha256:../../etc/passwd", "mediaType": MANIFEST}
        manifest = next(name for name, content in whole.items() if b'"layers": [{' in content)
        for files, sentence in (
            ({"a": b"b"}, "it has no oci-layout"),
            (whole | {"oci-layout": b"{}"}, "1.0.0 is expected"),
            (whole | {"index.json": b"[]"}, "is no JSON object"),
            (whole | {"index.json": json.dumps({"manifests": [outside]}).encode()}, "a digest"),
            ({name: content for name, content in whole.items() if name != blob}, "it has no blobs/sha256/"),
            (whole | {blob: gzip.compress(tar_of({PYTHON: b"other"}))}, "is damaged"),
            (whole | {manifest: whole[manifest].replace(b"tar+gzip", b"tar+zstd")}, "is damaged"),
            (base_files("arm64"), "no image for linux/amd64"),
            (base_files(paths=("usr/bin/python2.7",)), f"has no {interpreter_name()}"),
        ):
            with self.subTest(sentence), self.assertRaises(BadRequest) as caught:
                self.written(files)
            self.assertIn(sentence, caught.exception.detail)
            self.assertFalse((self.folder / "out.tar").exists())
        path = self.folder / "text.tar"
        path.write_text("no tar")
        with self.assertRaises(BadRequest):
            ImageLayout(path)

    def test_what_an_image_adds_is_run_and_answers_as_the_package_does(self) -> None:
        out = self.folder / "out.tar"
        made = write_package_image(read_lamp(outage_lamp()), self.base(base_files()), "outage-risk:1", frozenset(FORMATS), out)
        self.assertGreaterEqual(made.checked.rows, 2_000)
        self.assertEqual(made.checked.largest, 0.0)
        self.assertGreater(made.size_bytes, made.added_bytes)
