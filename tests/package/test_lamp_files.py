"""Lamp files: what is written is what is read, and nothing broken or hostile gets through or leaves anything behind."""

import hashlib
import io
import struct
import tempfile
import unittest
import zipfile
from pathlib import Path

import orjson

from lamppost.core.artifact.manifest import MANIFEST
from lamppost.core.errors import PackageRefused
from lamppost.package.read import read_lamp, read_unpacked, unpack_lamp
from tests.support.lamps import outage_lamp


def rewritten(source: Path, target: Path, change: dict[str, bytes | None], names: dict[str, str] | None = None) -> Path:
    """A copy of a lamp file with members replaced, added (new names), left out (None) or renamed."""
    with zipfile.ZipFile(source) as old, zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as new:
        members = {name: old.read(name) for name in old.namelist()} | change
        for name, data in members.items():
            if data is not None:
                new.writestr((names or {}).get(name, name), data)
    return target


class Reading(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.good = outage_lamp()

    def refused(self, path: Path) -> str:
        with self.assertRaises(PackageRefused) as caught:
            lamp = read_lamp(path)
            lamp.unpack(self.folder / "unpacked")
        self.assertFalse((self.folder / "unpacked").exists() and any((self.folder / "unpacked").iterdir()))
        self.assertNotIn("\n", caught.exception.detail)
        return caught.exception.detail

    def test_a_good_file_is_read_and_unpacked_whole(self) -> None:
        lamp = read_lamp(self.good)
        self.assertEqual((lamp.manifest.name, len(lamp.proof.rows), lamp.manifest.steps[0].format), ("outage-risk", 20, "skops"))
        folder = lamp.unpack(self.folder)
        for name, member in lamp.manifest.members.items():
            self.assertEqual(hashlib.sha256((folder / name).read_bytes()).hexdigest(), member.sha256)
        self.assertEqual(hashlib.sha256((folder / MANIFEST).read_bytes()).hexdigest(), lamp.digest)
        self.assertEqual(lamp.unpack(self.folder), folder)
        self.assertEqual([path.name for path in self.folder.iterdir()], [lamp.digest])

    def test_what_is_unpacked_is_checked_as_it_is_written_and_when_it_is_read_again(self) -> None:
        lamp = read_lamp(self.good)
        with self.assertRaises(FileNotFoundError):
            read_unpacked(self.folder / lamp.digest, lamp.digest)
        folder = unpack_lamp(self.good, lamp.digest, self.folder)
        self.assertEqual(read_unpacked(folder, lamp.digest), (lamp.manifest, lamp.proof))
        for name in (lamp.manifest.proof, MANIFEST):
            (folder / name).write_bytes((folder / name).read_bytes() + b" ")
            with self.subTest(name), self.assertRaisesRegex(PackageRefused, "was changed since it was unpacked"):
                read_unpacked(folder, lamp.digest)
        (folder / MANIFEST).unlink()
        with self.assertRaisesRegex(PackageRefused, "cannot be read"):
            read_unpacked(folder, lamp.digest)
        for summary, path, digest in (
            ("another package", self.good, "0" * 64),
            (
                "digest",
                rewritten(
                    self.good,
                    self.folder / "torn.lamp",
                    {lamp.manifest.proof: b"{".ljust(lamp.manifest.members[lamp.manifest.proof].size_bytes)},
                ),
                lamp.digest,
            ),
        ):
            with self.subTest(summary), self.assertRaisesRegex(PackageRefused, summary):
                unpack_lamp(path, digest, self.folder / "other")
            self.assertEqual(list((self.folder / "other").iterdir()), [], "nothing is left half-done")

    def test_files_that_are_no_lamp_files(self) -> None:
        text = self.folder / "a.lamp"
        text.write_text("hello")
        self.assertIn("is no lamp file", self.refused(text))
        text.write_bytes(b"")
        self.assertIn("is no lamp file", self.refused(text))
        self.assertIn("there is no file", self.refused(self.folder / "none.lamp"))
        self.assertIn("is a folder", self.refused(self.folder))
        with zipfile.ZipFile(text, "w") as archive:
            archive.writestr("a.txt", "hello")
        self.assertIn(f"has no {MANIFEST}", self.refused(text))

    def test_truncated_anywhere(self) -> None:
        data = self.good.read_bytes()
        for share in (0.001, 0.3, 0.9, 0.9999):
            cut = self.folder / "cut.lamp"
            cut.write_bytes(data[: int(len(data) * share)])
            self.assertIn("is damaged or cut short", self.refused(cut))

    def test_changed_bytes_are_noticed(self) -> None:
        changed = rewritten(self.good, self.folder / "c.lamp", {"steps/0/model.skops": b"x"})
        self.assertIn("the file was changed after packing", self.refused(changed))
        data = read_lamp(self.good).path.read_bytes()
        proof = zipfile.ZipFile(self.good).read("proof.json")
        changed = rewritten(self.good, self.folder / "d.lamp", {"proof.json": proof.replace(b"fails", b"holds")})
        self.assertIn("has another digest than the manifest says", self.refused(changed))
        flipped = bytearray(data)
        flipped[len(data) // 2] ^= 0xFF
        (self.folder / "e.lamp").write_bytes(flipped)
        self.assertIn("damaged", self.refused(self.folder / "e.lamp"))

    def test_paths_that_lead_elsewhere(self) -> None:
        for name in ("/etc/passwd", "../up", "a/../../b", "a\\b", "C:evil", "steps/"):
            path = rewritten(self.good, self.folder / "p.lamp", {"extra": b"x"}, {"extra": name})
            self.assertIn("a path that is not allowed", self.refused(path), name)
        with zipfile.ZipFile(self.folder / "l.lamp", "w") as archive:
            link = zipfile.ZipInfo("link")
            link.external_attr = 0o120777 << 16
            archive.writestr(link, "/etc/passwd")
        self.assertIn("holds a link", self.refused(self.folder / "l.lamp"))

    def test_members_and_manifest_must_agree(self) -> None:
        self.assertIn("does not list: extra", self.refused(rewritten(self.good, self.folder / "x.lamp", {"extra": b"x"})))
        self.assertIn("does not hold: proof.json", self.refused(rewritten(self.good, self.folder / "y.lamp", {"proof.json": None})))
        buffer = io.BytesIO(self.good.read_bytes())
        with self.assertWarns(UserWarning), zipfile.ZipFile(buffer, "a") as archive:
            archive.writestr("proof.json", b"{}")
        (self.folder / "z.lamp").write_bytes(buffer.getvalue())
        self.assertIn("stands twice", self.refused(self.folder / "z.lamp"))

    def test_a_compressed_bomb_is_refused_before_it_is_unpacked(self) -> None:
        bomb = rewritten(self.good, self.folder / "b.lamp", {"steps/0/model.skops": bytes(200 * 2**20)})
        self.assertLess(bomb.stat().st_size, 2**20 * 2)
        self.assertIn("unpacks to 209,715,200 bytes, the manifest says", self.refused(bomb))
        # the directory lies about the size, so only reading shows it
        manifest = orjson.loads(zipfile.ZipFile(self.good).read(MANIFEST))
        size = manifest["members"]["steps/0/model.skops"]["size_bytes"]
        data = bytearray(bomb.read_bytes())
        while (at := data.find(struct.pack("<I", 200 * 2**20))) >= 0:
            data[at : at + 4] = struct.pack("<I", size)
        bomb.write_bytes(data)
        self.refused(bomb)

    def test_a_manifest_bomb_and_a_huge_claim(self) -> None:
        self.assertIn("unpacks to over", self.refused(rewritten(self.good, self.folder / "m.lamp", {MANIFEST: b" " * (17 * 2**20)})))
        manifest = zipfile.ZipFile(self.good).read(MANIFEST)
        claim = orjson.loads(manifest)
        claim["members"]["proof.json"]["size_bytes"] = 2**40
        self.assertIn("are allowed", self.refused(rewritten(self.good, self.folder / "h.lamp", {MANIFEST: orjson.dumps(claim)})))

    def test_a_newer_format(self) -> None:
        manifest = zipfile.ZipFile(self.good).read(MANIFEST).replace(b'"format": 4', b'"format": 9')
        self.assertIn("is of format 9", self.refused(rewritten(self.good, self.folder / "n.lamp", {MANIFEST: manifest})))
