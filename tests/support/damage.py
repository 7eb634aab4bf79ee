"""Damaged lamp files, from a seed."""

from __future__ import annotations

import random
import zipfile
from pathlib import Path


def damage(rng: random.Random, path: Path, data: bytes, members: dict[str, bytes]) -> str:
    """Write a damaged copy of the file ``data``, which holds ``members``; returns the kind of damage."""
    kind = rng.choice(("flip", "flips", "cut", "insert", "zero", "swap", "member", "json"))
    changed = bytearray(data)
    if kind == "flip":
        changed[rng.randrange(len(data))] ^= 1 << rng.randrange(8)
    elif kind == "flips":
        for _ in range(rng.randrange(2, 40)):
            changed[rng.randrange(len(data))] = rng.randrange(256)
    elif kind == "cut":
        del changed[rng.randrange(len(data)) :]
    elif kind == "insert":
        at = rng.randrange(len(data))
        changed[at:at] = rng.randbytes(rng.randrange(1, 50))
    elif kind == "zero":
        at = rng.randrange(len(data))
        changed[at : at + 64] = bytes(64)
    else:
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            names = list(members)
            contents = dict(members)
            if kind == "swap":
                one, two = rng.sample(names, 2)
                contents[one], contents[two] = contents[two], contents[one]
            elif kind == "member":
                del contents[rng.choice(names)]
                contents[rng.choice(["x", "../y", "/z", "steps/0/other", "a\\b"])] = rng.randbytes(20)
            else:
                raw = bytearray(contents["manifest.json"])
                for _ in range(rng.randrange(1, 6)):
                    raw[rng.randrange(len(raw))] = rng.choice(b'{}[]",:0129aenull')
                contents["manifest.json"] = bytes(raw)
            for name, content in contents.items():
                archive.writestr(name, content)
        return kind
    path.write_bytes(changed)
    return kind
