"""Serving code with the classic mistake: it fits the encoders again, on whatever rows are in the request.

A package of the demo carries it. On a single row every encoder knows one value, and every choice becomes 0.
"""

from __future__ import annotations

from typing import Any

from sklearn.preprocessing import OrdinalEncoder

CHOICES = ("district", "lamp_type", "maker")


class Encode:
    """Choices to codes, the wrong way."""

    def run(self, columns: dict[str, Any]) -> dict[str, Any]:
        """Codes of the choices; missing ones are a choice of their own."""
        rows = [[str(value) for value in row] for row in zip(*(columns[name] for name in CHOICES), strict=True)]
        codes = OrdinalEncoder().fit_transform(rows)
        return {f"{name}_code": codes[:, at] for at, name in enumerate(CHOICES)}
