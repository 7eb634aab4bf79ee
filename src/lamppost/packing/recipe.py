"""Everything that a packer states beside the model and the frame, and the remarks that packing returns."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from lamppost.core.artifact.proof import Tolerance
from lamppost.core.artifact.steps import ArtifactFormat
from lamppost.packing.networks import Network
from lamppost.packing.pmml.reading import Pmml
from lamppost.packing.side_steps import Code, Encoder, Pixels, Table, Threshold

Part = Code | Table | Encoder | Pixels | Network | Pmml | Threshold
"""What can stand before and after the model."""


@dataclass(frozen=True, slots=True)
class Recipe:
    """Everything `build_package` needs beside model and frame; the same as the arguments of `lamppost.pack`, where they are described.

    drawn_rows : whether the frame is no training frame but was drawn from what the model's document holds.
    """

    name: str
    target: str | Sequence[str] | None = None
    labels: Mapping[Any, str | int] | Sequence[str | int] | None = None
    fields: Mapping[str, Mapping[str, Any]] | None = None
    format: ArtifactFormat | None = None
    proof_rows: int = 20
    tolerance: Tolerance = field(default_factory=Tolerance)
    notes: str = ""
    metrics: Mapping[str, float] | None = None
    tags: Mapping[str, str] | None = None
    unit: str | None = None
    compile: bool = True
    before: Sequence[Part] = ()
    after: Sequence[Part] = ()
    answers: Sequence[Any] | None = None
    options: Mapping[str, Mapping[str, Any]] | None = None
    quantize: bool = False
    by: str | None = None
    held_out: Sequence[bool] | None = None
    installed: Sequence[str] = ()
    all_rows: bool = False
    insight: bool = True
    drawn_rows: bool = False

    @property
    def targets(self) -> tuple[str, ...]:
        """Names of what is predicted."""
        if self.target is None:
            return ()
        return (str(self.target),) if isinstance(self.target, (str, int)) else tuple(map(str, self.target))


@dataclass(frozen=True, slots=True)
class Remarks:
    """What the packer should know. notes : compiled or not, columns left out, why pickle was needed. cautions : likely mistakes."""

    notes: list[str]
    cautions: list[str]
