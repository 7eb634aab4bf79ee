"""Bounds on requests and lamp files, in one place."""

from __future__ import annotations

MAX_BODY_BYTES = 10 * 2**20
"""Most bytes of one prediction request's body."""

MAX_PACKAGE_BYTES = 2 * 2**30
"""Most bytes of a lamp file, and of all it holds when unpacked."""

MAX_MEMBERS = 1_000
"""Most files in a lamp file."""

MAX_MANIFEST_BYTES = 4 * 2**20
"""Most bytes of the manifest when unpacked."""

MAX_MEMBER_BYTES = 16 * 2**20
"""Most bytes of the proof, and of the reference, when unpacked."""

MAX_DEPTH = 32
"""Most levels of lists and objects within each other, in the JSON of a lamp file."""

MAX_FIELDS = 2_000
"""Most fields of a schema."""

MAX_CHOICES = 10_000
"""Most choices of a field, and most names of a vector's elements."""

MAX_AXES = 8
"""Most axes of a tensor."""

MAX_PIXELS = 4_096 * 4_096
"""Most pixels of one picture."""

MAX_BATCH_PIXELS = 4 * MAX_PIXELS
"""Most pixels that are decoded at once, in a worker; a batch with more is run in parts."""

MAX_REQUEST_PIXELS = 8 * MAX_PIXELS
"""Most pixels of all pictures of one request: a picture of a few kilobytes can have as many as a large one."""

MAX_STEPS = 64
"""Most steps of a package."""

MAX_HEADERS = 128
"""Most headers of one request."""

MAX_HEADER_BYTES = 64 * 2**10
"""Most bytes of them in all."""

HEAD_S = 20.0
"""Longest time for a request's headers to come."""

BODY_PAUSE_S = 30.0
"""Longest time without a byte of a body that is not whole."""

MAX_UNSIGNED_BODY_BYTES = 64 * 2**10
"""Most bytes of a body that are read before its sender is known."""

MAX_CONNECTIONS = 4_096
"""Most connections of a node, where the process may open so many files."""

SPARE_CONNECTIONS = 16
"""Connections beyond that for questions about health."""

KEPT_DESCRIPTORS = 256
"""Open files that are kept from connections: for the database, workers, packages and records."""
