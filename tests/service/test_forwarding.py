"""What headers of proxies change, and answers that are compressed."""

import asyncio
import gzip
import unittest
from collections.abc import MutableMapping
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.errors import SetupError
from lamppost.service.forwarding import Forwarding, read_network
from lamppost.service.http.answer_compression import CompressedSend, takes_gzip


def origin(forwarding: Forwarding, peer: str, *headers: tuple[bytes, bytes]) -> tuple[str, str]:
    """The sender's address and the outer scheme of a request."""
    scope: dict[str, Any] = {"client": (peer, 1), "scheme": "http", "headers": list(headers)}
    forwarding.note_origin(scope)
    return scope["client"][0], scope["scheme"]


class Origins(unittest.TestCase):
    trusting = Forwarding(["https://town.example"], [read_network("10.0.0.0/8"), read_network("::1")])

    def test_the_last_address_that_no_trusted_proxy_has_is_the_senders(self) -> None:
        for peer, sent, address in (
            ("10.0.0.1", b"203.0.113.9", "203.0.113.9"),
            ("10.0.0.1", b"203.0.113.9, 10.0.0.7", "203.0.113.9"),
            ("10.0.0.1", b"6.6.6.6, 203.0.113.9", "203.0.113.9"),
            ("::1", b"2001:db8::7", "2001:db8::7"),
            ("10.0.0.1", b"unknown", "10.0.0.1"),
            ("10.0.0.1", b"", "10.0.0.1"),
            ("203.0.113.1", b"6.6.6.6", "203.0.113.1"),
        ):
            with self.subTest(peer=peer, sent=sent):
                self.assertEqual(origin(self.trusting, peer, (b"x-forwarded-for", sent))[0], address)

    def test_https_is_believed_of_trusted_proxies_and_known_of_public_names(self) -> None:
        said = (b"x-forwarded-proto", b"https")
        self.assertEqual(origin(self.trusting, "10.0.0.1", said)[1], "https")
        self.assertEqual(origin(self.trusting, "203.0.113.1", said)[1], "http")
        self.assertEqual(origin(self.trusting, "203.0.113.1", (b"host", b"Town.example"))[1], "https")
        self.assertEqual(origin(self.trusting, "10.0.0.1", (b"x-forwarded-proto", b"gopher"))[1], "http")

    def test_a_network_that_is_none_is_named(self) -> None:
        with self.assertRaisesRegex(SetupError, "--trust-proxy 10.0.0.0/99 is no address"):
            read_network("10.0.0.0/99")

    @given(st.binary(max_size=40))
    def test_stripping_changes_only_what_begins_with_the_path(self, rest: bytes) -> None:
        forwarding = Forwarding(["https://town.example/lamps/"])
        self.assertEqual(forwarding.strip_base(b"/lamps/" + rest), b"/" + rest)
        self.assertEqual(Forwarding().strip_base(rest), rest)


class Compression(unittest.TestCase):
    def sent(self, *pieces: bytes, kind: bytes = b"application/json") -> tuple[dict[bytes, bytes], bytes]:
        """Headers and body of an answer in pieces, as they are sent on."""
        messages: list[MutableMapping[str, Any]] = []

        async def keep(message: MutableMapping[str, Any]) -> None:
            messages.append(message)

        async def answer() -> None:
            send = CompressedSend(keep)
            length = [(b"content-length", b"%d" % len(pieces[0]))] if len(pieces) == 1 else []
            await send({"type": "http.response.start", "status": 200, "headers": [(b"content-type", kind), *length]})
            for at, piece in enumerate(pieces, 1):
                await send({"type": "http.response.body", "body": piece, "more_body": at < len(pieces)})

        asyncio.run(answer())
        return dict(messages[0]["headers"]), b"".join(message["body"] for message in messages[1:])

    def test_whole_answers_and_streams_come_out_as_they_went_in(self) -> None:
        for pieces in ((b"a" * 2_000,), (b"b" * 200_000,), (b"c" * 10, b"d" * 100_000, b""), (b"", b"")):
            with self.subTest(len(pieces)):
                headers, body = self.sent(*pieces)
                self.assertEqual(headers[b"content-encoding"], b"gzip")
                self.assertEqual(gzip.decompress(body), b"".join(pieces))
                self.assertEqual(int(headers.get(b"content-length", b"%d" % len(body))), len(body))

    def test_small_answers_and_pictures_are_left_as_they_are(self) -> None:
        self.assertEqual(self.sent(b"{}")[1], b"{}")
        self.assertEqual(self.sent(b"x" * 5_000, kind=b"image/png")[1], b"x" * 5_000)

    def test_who_takes_gzip(self) -> None:
        for value, takes in (
            (b"gzip", True),
            (b"GZIP, br", True),
            (b"*", True),
            (b"gzip;q=0", False),
            (b"gzip; q=0.0", False),
            (b"br", False),
        ):
            self.assertIs(takes_gzip([(b"accept-encoding", value)]), takes, value)
        self.assertFalse(takes_gzip([]))
