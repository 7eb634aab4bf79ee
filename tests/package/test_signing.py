"""Signed packages: the digest stays, a signature is of one package only, and risky packages need a known key."""

import base64
import shutil
import tempfile
import unittest
import zipfile
from pathlib import Path

from lamppost.core.errors import BadRequest, PackageRefused
from lamppost.package.read import read_lamp
from lamppost.package.signing import SIGNATURES, Signature, check, demand, make_key, read_public, sign, write_signatures
from lamppost.package.write import add_signature
from tests.support.lamps import outage_lamp


class Signing(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)
        self.private, self.public = make_key(self.folder / "keys", "release")
        self.lamp = self.folder / "a.lamp"
        shutil.copy(outage_lamp(), self.lamp)
        self.digest = read_lamp(self.lamp).digest

    def test_a_signed_package_is_the_same_package(self) -> None:
        for _ in range(2):  # signing again changes nothing
            add_signature(self.lamp, sign(self.private, self.digest))
        other, other_public = make_key(self.folder / "keys", "second")
        add_signature(self.lamp, sign(other, self.digest))
        lamp = read_lamp(self.lamp)
        self.assertEqual(lamp.digest, self.digest)
        self.assertEqual({signature.key for signature in lamp.signatures}, {read_public(self.public), read_public(other_public)})
        self.assertEqual(self.private.stat().st_mode & 0o777, 0o600)

    def test_a_signature_of_something_else_is_refused(self) -> None:
        foreign = sign(self.private, "0" * 64)
        with self.assertRaisesRegex(PackageRefused, "not of this package"):
            add_signature(self.lamp, foreign)
        for bad in (write_signatures([foreign]), b"[]]", b'[{"key": "a"}]', b'[{"key": "!", "signature": "?"}]', b"x" * 70_000):
            path = self.folder / "bad.lamp"
            shutil.copy(outage_lamp(), path)
            with zipfile.ZipFile(path, "a") as archive:
                archive.writestr(SIGNATURES, bad)
            self.assertRaises(PackageRefused, read_lamp, path)

    def test_only_packages_that_can_run_code_need_a_known_key(self) -> None:
        known, mine = frozenset({read_public(self.public)}), sign(self.private, self.digest)
        stranger = Signature(base64.b64encode(b"k" * 32).decode(), mine.signature)
        demand(known, [], frozenset({"skops"}))
        demand(frozenset(), [], frozenset({"pickle"}))
        demand(known, [stranger, mine], frozenset({"pickle", "python"}))
        with self.assertRaisesRegex(PackageRefused, "it is not signed; sign it with lamppost sign"):
            demand(known, [], frozenset({"python"}))
        with self.assertRaisesRegex(PackageRefused, f"it is signed by {stranger.key[:10]}"):
            demand(known, [stranger], frozenset({"torch"}))
        check([mine], self.digest)

    def test_files_that_are_no_keys_are_named(self) -> None:
        self.assertRaisesRegex(BadRequest, "make one with: lamppost key new none", sign, self.folder / "none.pem", self.digest)
        self.assertRaisesRegex(BadRequest, "holds no private key", sign, self.public, self.digest)
        self.assertRaisesRegex(BadRequest, "holds no public key", read_public, self.private)
        self.assertRaisesRegex(BadRequest, "already", make_key, self.folder / "keys", "release")
        self.assertRaises(BadRequest, make_key, self.folder / "keys", "../out")
