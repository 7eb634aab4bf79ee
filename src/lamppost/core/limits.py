"""Bounds on requests and lamp files, in one place."""

from __future__ import annotations

MAX_BODY_BYTES = 10 * 2**20
"""Most bytes of one prediction request's body."""

MAX_PACKAGE_BYTES = 2 * 2**30
"""Most bytes of a lamp file, and of all it holds when unpacked."""

MAX_MEMBERS = 1_000
"""Most files in a lamp file."""

MAX_MANIFEST_BYTES = 16 * 2**20
"""Most bytes of the manifest, and of the proof, when unpacked."""

MAX_HEADERS = 128
"""Most headers of one request."""

MAX_HEADER_BYTES = 64 * 2**10
"""Most bytes of them in all."""

HEAD_S = 20.0
"""Longest time for a request's headers to come."""

BODY_PAUSE_S = 30.0
"""Longest time without a byte of a body that is not whole."""
