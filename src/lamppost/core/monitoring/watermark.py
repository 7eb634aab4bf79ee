"""Tracks the row number below which no new rows can appear, so that scans can skip older rows.

Rows are numbered when they are written and seen when their transaction ends, and transactions may end in another order. So a number is
settled only once a later one was seen some time ago. Time comes in as a value, in seconds.
"""

from __future__ import annotations

from collections import deque


class Watermark:
    """The highest numbers of a table, and when each was seen. keep_s : for how long back it can be asked.

    >>> seen = Watermark(keep_s=600)
    >>> seen.note_row(0.0, 7), seen.note_row(50.0, 9), seen.note_row(90.0, 12)
    (None, None, None)
    >>> seen.highest_by(60.0), seen.highest_by(30.0)
    (9, 7)
    """

    def __init__(self, keep_s: float) -> None:
        self._keep_s = keep_s
        self._noted: deque[tuple[float, int]] = deque()

    def note_row(self, now: float, number: int) -> None:
        """A number was seen; one that is lower than the last changes nothing."""
        self._noted.append((now, max(number, self._noted[-1][1] if self._noted else 0)))
        while len(self._noted) > 1 and now - self._noted[1][0] > self._keep_s:
            self._noted.popleft()

    def highest_by(self, then: float) -> int:
        """The highest number that was seen by a time, 0 for none."""
        return max((number for at, number in self._noted if at <= then), default=0)
