"""How many reasons each row of a bulk run gets, what they may cost, and how their columns are called."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from lamppost.core.errors import BadRequest

USUAL_ROWS = 64
MOST_ROWS = 2_000
MOST_REASONS = 20


@dataclass(frozen=True, slots=True)
class ReasonTerms:
    """fields : how many reasons each row gets. rows : most rows that the model is asked about for each row, beside the row itself."""

    fields: int = 3
    rows: int = USUAL_ROWS

    __pydantic_config__: ClassVar = {"extra": "forbid"}

    def __post_init__(self) -> None:
        if not 1 <= self.fields <= MOST_REASONS:
            raise BadRequest(f"a row gets 1 to {MOST_REASONS} reasons, and not {self.fields}")
        if not 1 <= self.rows <= MOST_ROWS:
            raise BadRequest(f"the reasons of a row may cost 1 to {MOST_ROWS:,} asked rows, and not {self.rows}")


def reason_columns(terms: ReasonTerms, prefix: str) -> list[str]:
    """The columns of the output that hold reasons: for each its field, and what it added to the answer's figure."""
    return [f"{prefix}reason_{at}{what}" for at in range(1, terms.fields + 1) for what in ("", "_amount")]
