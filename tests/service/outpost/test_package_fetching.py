"""Packages come in chunks: a transfer that breaks off goes on, what is here already is not fetched, and damage is noticed."""

import asyncio
import hashlib
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any, cast

from lamppost.core.artifact.chunks import chunk_bounds
from lamppost.core.errors import HubAway, PackageRefused
from lamppost.package.read import member_starts, read_lamp
from lamppost.service.outpost.package_fetching import PackageFetching
from lamppost.service.packages.package_cache import PackageCache
from tests.support.lamps import outage_lamp
from tests.support.versions import times_lamp


class Hub:
    """Has packages in chunks; breaks off after so many chunks, and damages those that are named."""

    def __init__(self, *lamps: Path) -> None:
        self.chunks: dict[str, list[tuple[str, bytes]]] = {}
        self.asked: list[str] = []
        self.breaks_after: int | None = None
        self.damaged = False
        for path in lamps:
            data = path.read_bytes()
            cut = chunk_bounds(len(data), member_starts(path), most=4_096, least=512)
            self.chunks[read_lamp(path).digest] = [(hashlib.sha256(data[start:end]).hexdigest(), data[start:end]) for start, end in cut]

    async def list_chunks(self, digest: str) -> list[tuple[str, int]]:
        return [(sha256, len(data)) for sha256, data in self.chunks[digest]]

    async def fetch_chunk(self, digest: str, sha256: str) -> bytes:
        if self.breaks_after is not None and len(self.asked) >= self.breaks_after:
            raise HubAway("the line is cut")
        self.asked.append(sha256)
        data = dict(self.chunks[digest])[sha256]
        return data[:-1] + b"?" if self.damaged else data


class PackageFetchingTest(unittest.IsolatedAsyncioTestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp())
        self.addCleanup(shutil.rmtree, self.folder)

    def fetching(self, hub: Hub) -> PackageFetching:
        return PackageFetching(cast("Any", hub), PackageCache(cast("Any", None), self.folder), self.folder)

    async def test_a_transfer_that_breaks_off_goes_on_where_it_was(self) -> None:
        hub = Hub(outage_lamp())
        ((digest, chunks),) = hub.chunks.items()
        self.assertGreater(len(chunks), 6)
        hub.breaks_after = 3
        with self.assertRaises(HubAway):
            await self.fetching(hub).fetch(digest)
        self.assertFalse((self.folder / f"{digest}.lamp").exists())
        hub.breaks_after = None
        await self.fetching(hub).fetch(digest)
        self.assertEqual(len(hub.asked), len(set(hub.asked)), "no chunk was asked for twice")
        self.assertEqual((self.folder / f"{digest}.lamp").read_bytes(), outage_lamp().read_bytes())
        self.assertEqual(list((self.folder / "arriving").iterdir()), [])
        asked = len(hub.asked)
        await self.fetching(hub).fetch(digest)
        self.assertEqual(len(hub.asked), asked)

    async def test_damage_is_noticed_and_nothing_of_it_is_kept(self) -> None:
        hub = Hub(times_lamp(2))
        (digest,) = hub.chunks
        hub.damaged = True
        with self.assertRaises(HubAway):
            await self.fetching(hub).fetch(digest)
        hub.damaged = False
        other = Hub(times_lamp(3))
        hub.chunks[digest] = next(iter(other.chunks.values()))
        with self.assertRaises(PackageRefused):
            await self.fetching(hub).fetch(digest)
        self.assertEqual([path.name for path in self.folder.rglob("*.lamp")], [])

    async def test_chunks_of_packages_that_are_here_are_not_fetched(self) -> None:
        first, second = outage_lamp(), self.folder / "same.lamp"
        hub = Hub(first)
        (digest,) = hub.chunks
        shutil.copy(first, second)
        await self.fetching(hub).fetch(digest)
        whole = [chunk_bounds(first.stat().st_size, member_starts(first))]
        shared = {hashlib.sha256(first.read_bytes()[start:end]).hexdigest() for start, end in whole[0]}
        self.assertFalse(set(hub.asked) & shared)

    async def test_what_is_served_no_more_is_deleted(self) -> None:
        hub = Hub(times_lamp(2), times_lamp(3))
        fetching = self.fetching(hub)
        await asyncio.gather(*(fetching.fetch(digest) for digest in hub.chunks))
        kept, gone = hub.chunks
        await fetching.forget_others({kept})
        self.assertEqual([path.name for path in self.folder.glob("*.lamp")], [f"{kept}.lamp"])
        self.assertNotEqual(kept, gone)
