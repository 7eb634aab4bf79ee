"""Measures the phases of one request, each from the end of the one before."""

from __future__ import annotations

from time import perf_counter

_USUAL = ("token", "read", "validate", "queue", "worker", "answer")
_USUAL_TIMING = b", ".join(b"%s;dur=%%.3f" % name.encode() for name in (*_USUAL, "total"))


class PhaseTimer:
    """phases : seconds by phase, in their order. started, last : when the request began and when the last phase ended, by
    `perf_counter`.
    """

    __slots__ = ("last", "phases", "started")

    def __init__(self) -> None:
        self.started = self.last = perf_counter()
        self.phases: dict[str, float] = {}

    @property
    def total_s(self) -> float:
        """Seconds from the start to the end of the last phase."""
        return self.last - self.started

    def mark(self, phase: str) -> None:
        """End a phase."""
        now = perf_counter()
        self.phases[phase] = now - self.last
        self.last = now

    def note_lane(self, queue_s: float, worker_s: float) -> None:
        """Take over what the lane measured of its two phases; the next phase begins now."""
        self.phases["queue"], self.phases["worker"] = queue_s, worker_s
        self.last = perf_counter()

    def server_timing(self) -> bytes:
        """The Server-Timing header (W3C), durations in milliseconds."""
        phases, total_ms = self.phases, (self.last - self.started) * 1e3
        if len(phases) == len(_USUAL) and "queue" in phases:  # what nearly every call has, without a loop over its phases
            token, read, validate, queue, worker, answer = phases.values()
            times = (token * 1e3, read * 1e3, validate * 1e3, queue * 1e3, worker * 1e3, answer * 1e3, total_ms)
            return _USUAL_TIMING % times
        parts = [f"{name};dur={seconds * 1e3:.3f}" for name, seconds in phases.items()]
        return ", ".join([*parts, f"total;dur={total_ms:.3f}"]).encode()

    def as_microseconds(self) -> dict[str, int]:
        """Whole microseconds by phase, as records hold them."""
        return {name: int(seconds * 1e6) for name, seconds in self.phases.items()}
