"""Packages in cipher: opened with their key alone, whole and unchanged."""

import base64
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from lamppost.core.errors import PackageRefused, SetupError
from lamppost.service.outpost import sealed_packages
from lamppost.service.outpost.sealed_packages import SealedPackages, memory_folder

KEY, OTHER = (base64.b64encode(os.urandom(32)).decode() for _ in range(2))
DIGEST = "ab" * 32


class Sealed(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        segment = mock.patch.object(sealed_packages, "_SEGMENT", 1_000)
        segment.start()
        self.addCleanup(segment.stop)
        self.content = os.urandom(3_500)
        self.plain = self.folder / "plain"
        self.kept = SealedPackages(self.folder / "sealed")
        self.kept.take_key(KEY)
        self.file = self.folder / "sealed" / f"{DIGEST}.sealed"

    def seal(self, content: bytes) -> bytes:
        self.plain.write_bytes(content)
        self.kept.seal(DIGEST, self.plain)
        return self.file.read_bytes()

    def opened(self, digest: str = DIGEST, key: str = KEY) -> bytes:
        kept = SealedPackages(self.folder / "sealed")
        kept.take_key(key)
        self.assertTrue(kept.open(digest, self.folder / "out"))
        return (self.folder / "out").read_bytes()

    def test_what_was_sealed_is_opened_whatever_its_size(self) -> None:
        for size in (0, 1, 999, 1_000, 1_001, 2_000, 3_500):
            with self.subTest(size):
                sealed = self.seal(self.content[:size])
                self.assertEqual(self.opened(), self.content[:size])
                self.assertNotIn(self.content[:20], sealed) if size >= 20 else None
        self.assertNotEqual(self.seal(self.content), self.seal(self.content), "no nonce is used twice")

    def test_another_key_and_every_change_are_found(self) -> None:
        whole = self.seal(self.content)
        head = 16
        segment = 1_016
        changed = {
            "a byte": whole[:100] + bytes([whole[100] ^ 1]) + whole[101:],
            "the nonce": whole[:9] + bytes([whole[9] ^ 1]) + whole[10:],
            "cut off": whole[:-1],
            "a segment less": whole[: head + 3 * segment],
            "segments in another order": whole[:head] + whole[head + segment : head + 2 * segment] + whole[head : head + segment]
            + whole[head + 2 * segment :],
            "more": whole + b"x",
        }  # fmt: skip
        for name, content in changed.items():
            self.file.write_bytes(content)
            with self.subTest(name), self.assertRaises(PackageRefused):
                self.opened()
        self.file.write_bytes(whole)
        with self.assertRaises(PackageRefused):
            self.opened(key=OTHER)
        other = "cd" * 32
        self.file.rename(self.file.with_name(f"{other}.sealed"))
        with self.assertRaises(PackageRefused):
            self.opened(other)
        self.assertEqual(list(self.folder.glob(".*part")), [], "nothing half open is left")

    def test_no_key_no_package_and_those_that_are_wanted_no_more(self) -> None:
        with self.assertRaises(SetupError):
            SealedPackages(self.folder / "sealed").seal(DIGEST, Path(__file__))
        for text in ("", "short", base64.b64encode(b"x" * 16).decode()):
            with self.assertRaises(SetupError):
                self.kept.take_key(text)
        self.assertFalse(self.kept.open("00" * 32, self.folder / "out"))
        self.seal(self.content)
        self.kept.forget_others({DIGEST})
        self.assertTrue(self.file.exists())
        self.kept.forget_others(set())
        self.assertFalse(self.file.exists())

    def test_a_folder_of_memory_is_empty_and_of_this_user(self) -> None:
        first = memory_folder(self.folder)
        self.addCleanup(first.rmdir)
        (first / "left").write_text("by a process that was killed")
        self.assertEqual(memory_folder(self.folder), first)
        self.assertEqual(list(first.iterdir()), [])
        with mock.patch.object(sealed_packages, "_TMPFS", "nothing"), self.assertRaises(SetupError):
            memory_folder(self.folder)
