"""What is kept of the verdict on a window, and of its explanation: values that are stored, sent and printed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

from lamppost.core.drift.attribution import ChangeSlice
from lamppost.core.drift.field_tests import DriftFinding
from lamppost.core.drift.verdicts import DriftState, PairVerdict
from lamppost.core.drift.watched_features import ANSWERS, NEW_WORDS

WindowState = Literal["steady", "shifting", "drifted", "too few"]


@dataclass(frozen=True, slots=True)
class DescribedField:
    """A watched feature of a window. summary : what changed, in a few words. findings : the leading one first, at most three."""

    name: str
    state: DriftState
    summary: str
    rows: int
    findings: tuple[DriftFinding, ...]


@dataclass(frozen=True, slots=True)
class WindowVerdict:
    """The verdict on a window. summary : one sentence. windows : how many were pooled. fields : those that matter most first."""

    state: WindowState
    summary: str
    windows: int
    rows: int
    fields: tuple[DescribedField, ...] = ()
    pairs: tuple[PairVerdict, ...] = ()

    @property
    def changed_fields(self) -> tuple[DescribedField, ...]:
        """The fields that are not steady."""
        return tuple(field for field in self.fields if field.state != "steady")


@dataclass(frozen=True, slots=True)
class FieldReason:
    """Where the change of one feature sits. new : new words of a text, each with its part of the rows.

    explains : the part of the change in the answers that this feature accounts for; None where that cannot be computed. follows : the field
    whose mix this one follows, without having changed by itself.
    """

    name: str
    state: DriftState
    summary: str
    slices: tuple[ChangeSlice, ...]
    new: tuple[str, ...]
    explains: float | None = None
    follows: str | None = None


@dataclass(frozen=True, slots=True)
class AnswerMove:
    """How far an answer moved: a number (value is None) by so much, a label by so many parts of the rows."""

    value: str | None
    by: float


@dataclass(frozen=True, slots=True)
class AnswerMoves:
    """The main answer, and its largest moves."""

    answer: str
    moved: tuple[AnswerMove, ...]


@dataclass(frozen=True, slots=True)
class NearbyChange:
    """A change of the endpoint within an hour of the drift."""

    at: datetime
    summary: str


@dataclass(frozen=True, slots=True)
class CallerChange:
    """A caller whose part of the calls changed with the drift. before, after : parts of all calls."""

    token: str
    before: float
    after: float
    summary: str


@dataclass(frozen=True, slots=True)
class DriftExplanation:
    """Why a window is not steady. since : when it began. rows : recorded rows that were looked at."""

    since: datetime
    summary: str
    rows: int
    fields: tuple[FieldReason, ...]
    answers: AnswerMoves | None
    changes: tuple[NearbyChange, ...]
    callers: tuple[CallerChange, ...]


def feature_sentence(name: str, summary: str) -> str:
    """What a feature is, as a part of a sentence. summary : of `describe_field`.

    >>> feature_sentence("note.new words", "new words in 27 % of texts, 2 % in training")
    'note has new words in 27 % of texts, 2 % in training'
    """
    if name.endswith(NEW_WORDS) and "new word" in summary:
        return f"{name.removesuffix(NEW_WORDS)} has {summary}"
    return f"{name} is {summary}"


def explanation_sentence(fields: Sequence[FieldReason], changes: Sequence[NearbyChange], callers: Sequence[CallerChange]) -> str:
    """The probable reason in one sentence: the leading input, the change of the endpoint, else the caller."""
    parts = []
    inputs = [reason for reason in fields if not reason.name.startswith(ANSWERS)]
    for reason in inputs[:1]:
        text = feature_sentence(reason.name, reason.summary)
        if reason.slices:
            first = reason.slices[0]
            text = f"{reason.name} where {first.by} is {first.value} ({100 * first.part:.0f} % of the change)"
        if reason.follows is not None:
            text += f", as {reason.follows} has other shares"
        if reason.new:
            text += f"; new: {', '.join(reason.new[:3])}"
        if reason.explains is not None and reason.explains >= 0.2:
            text += f"; it explains {100 * reason.explains:.0f} % of what changed in the answers"
        parts.append(text)
    parts += [f"{change.summary} at that time" for change in changes[:1]]
    if not any(reason.slices for reason in inputs):
        parts += [f"{caller.token} sends {caller.summary}" for caller in callers[:1]]
    return "; ".join(parts) if parts else "no single field, version or caller stands out"
