"""Serving code that is right and slow: it asks an imagined weather service before it answers.

A package of the demo carries it. Its proof passes, because proofs say nothing about time.
"""

from __future__ import annotations

import time
from typing import Any

ROUND_TRIP_S = 0.06


class Weather:
    """The wind, which nobody needed so far, and which is always calm."""

    def run(self, columns: dict[str, Any]) -> dict[str, Any]:
        """One round trip."""
        time.sleep(ROUND_TRIP_S)
        return {"wind_ms": [0.0] * len(next(iter(columns.values())))}
