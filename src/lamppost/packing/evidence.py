"""What a package holds as evidence of its model, and what is said of it: the proof, the reference, quality and likely mistakes."""

from __future__ import annotations

import logging
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from lamppost.core.artifact.proof import Proof
from lamppost.core.artifact.reference import Reference, make_reference, with_fitted_sizes
from lamppost.core.artifact.schema_inference import choose_proof_rows, frame_rows
from lamppost.core.errors import BadRequest
from lamppost.core.insight.insight import ModelInsight
from lamppost.core.schema.columns import Column, answer_rows_from_columns
from lamppost.core.schema.fields import Schema
from lamppost.packing.insight import measure_insight
from lamppost.packing.pack_warnings import input_warnings, unused_input_warnings
from lamppost.packing.quality import AnswerQuality, answer_quality, label_text
from lamppost.packing.recipe import Recipe
from lamppost.packing.unseen_rows import partly_redrawn_rows, unseen_rows

if TYPE_CHECKING:
    import pandas as pd

log = logging.getLogger("lamppost.packing")

_REFERENCE_ROWS = 50_000
_HELD_OUT_ROWS = 50
_HEAVY_ROWS = 2_000
_COMPARED_ROWS = 1_000
_UNSEEN_OF_TEN = 3
_LEAST_UNSEEN_ROWS = 50
_REDRAWN_ROWS = 5_000


@dataclass(frozen=True, slots=True)
class Evidence:
    """A training frame and the answers to it.

    inputs, answers : schemas. frame_given, request_frame_given : all rows, with targets and as requests have them; frame, request_frame :
    those that were asked for. columns : the answers to these by name. label_of : what the model calls a class, by the class as text.
    ask : the answers of the fitted object to other rows. ask_quickly : of its graph, where it has an exact one.
    ask_comparable : the same, or what decides them, as an array with a row for each.
    """

    recipe: Recipe
    inputs: Schema
    answers: Schema
    frame_given: pd.DataFrame
    request_frame_given: pd.DataFrame
    frame: pd.DataFrame
    request_frame: pd.DataFrame
    columns: Mapping[str, Column]
    label_of: Mapping[str, str]
    ask: Callable[[pd.DataFrame], list[Column]]
    ask_quickly: Callable[[pd.DataFrame], list[Column]]
    ask_comparable: Callable[[pd.DataFrame], Any]

    def cautions(self) -> list[str]:
        """Inputs that are probably mistakes."""
        name = next((name for name in self.recipe.targets if name in self.frame_given.columns), None)
        warnings = input_warnings(self.inputs, self.request_frame_given, None if name is None else self.frame_given[name])
        return warnings + unused_input_warnings(self.inputs, self.request_frame, self.ask_comparable)

    def qualities(self) -> list[AnswerQuality]:
        """How the answers agree with the targets that are columns of the frame."""
        there = [name for name in self.recipe.targets if name in self.frame.columns]
        if not there or any(field.kind in ("image", "tensor") for field in self.inputs):
            return []
        held_out = None if self.recipe.held_out is None else np.asarray(self.recipe.held_out, dtype=bool)
        qualities = []
        for target in there:
            field = next((field for field in self.answers if field.name == target), self.answers.fields[0])
            qualities.append(answer_quality(field, self.columns[field.name], self.frame[target], self.label_of, held_out))
        return [quality for quality in qualities if quality is not None]

    def insight(self) -> ModelInsight | None:
        """What the model has learned, by the first target that is a column; None without one, or where that cannot be measured."""
        name = next((name for name in self.recipe.targets if name in self.frame.columns), None)
        if name is None or self.recipe.answers is not None or any(field.kind in ("image", "tensor") for field in self.inputs):
            return None
        field = next((field for field in self.answers if field.name == name), self.answers.fields[0])
        held_out = self._held_out()
        places = np.arange(len(self.frame)) if held_out is None else held_out
        target = self.frame[name].iloc[places]
        if field.kind == "number" and target.dtype.kind not in "iufb":
            return None
        truth = target.tolist() if field.kind == "number" else [label_text(value, self.label_of) for value in target.tolist()]
        there = target.notna().tolist()
        truth = [value if known else None for value, known in zip(truth, there, strict=True)]

        def ask(rows: pd.DataFrame) -> list[dict[str, Any]]:
            return answer_rows_from_columns(self.answers, self.ask_quickly(rows), len(rows))

        try:
            return measure_insight(self.request_frame.iloc[places], truth, ask, self.inputs, field, held_out is not None)
        except Exception:  # code around a model need not take every combination of values
            log.debug("what the model has learned was not measured", exc_info=True)
            return None

    def proof(self) -> Proof:
        """Rows, and the answers of the fitted object itself on the training frame itself: nothing of the serving path takes part.

        With ``answers`` in the recipe these are the proof's; with other steps behind the model, what these make of the model's.
        """
        labels = None
        if self.answers.fields[0].kind == "choice" or self.answers.names[0] == "label":
            labels = np.asarray(self.columns[self.answers.names[0]].values)
        unseen, answers_to_unseen = self._unseen(labels)
        positions = choose_proof_rows(self.inputs, self.request_frame, self.recipe.proof_rows - len(unseen), labels)
        rows = frame_rows(self.inputs, self.request_frame.iloc[positions])
        return Proof(rows + unseen, self._answer_rows(positions) + answers_to_unseen, self.recipe.tolerance)

    def _unseen(self, labels: np.ndarray[Any, Any] | None) -> tuple[list[dict[str, Any]], list[dict[str, Any]]]:
        """Rows that the model was not fitted on, and the answers to them; none where answers are known of the frame's rows only."""
        count = self.recipe.proof_rows * _UNSEEN_OF_TEN // 10
        heavy = any(field.kind in ("image", "tensor", "text") for field in self.inputs)
        if not count or heavy or self.recipe.answers is not None or len(self.frame) < _LEAST_UNSEEN_ROWS:
            return [], []
        frame = self.request_frame.iloc[np.linspace(0, len(self.frame) - 1, num=min(len(self.frame), _COMPARED_ROWS)).astype(int)]

        def ask(rows: pd.DataFrame) -> np.ndarray[Any, Any]:
            return np.asarray(self.ask(rows)[0].values)

        try:
            rows = unseen_rows(frame, ask if labels is not None else None, count)
            return frame_rows(self.inputs, rows), answer_rows_from_columns(self.answers, self.ask(rows), len(rows))
        except Exception:  # code around a model need not take every combination of values
            log.debug("no proof rows beside those of the frame", exc_info=True)
            return [], []

    def _answer_rows(self, positions: list[int]) -> list[dict[str, Any]]:
        """The answers to some rows of the frame."""
        if self.recipe.answers is not None:
            known = _known_answers(self.recipe.answers, self.answers)
            return [known[position] for position in positions]
        columns = [self.columns[name] for name in self.answers.names]
        return answer_rows_from_columns(self.answers, [rows_of(column, positions) for column in columns], len(positions))

    def reference(self) -> Reference:
        """What inputs and answers look like over the frame, or over 50,000 rows spread evenly over it (2,000 of pictures or tensors)."""
        heavy = any(field.kind in ("image", "tensor") for field in self.inputs)
        count = min(len(self.frame), _HEAVY_ROWS if heavy else _REFERENCE_ROWS)
        positions = np.linspace(0, len(self.frame) - 1, num=count).astype(int).tolist()
        rows = frame_rows(self.inputs, self.request_frame.iloc[positions])
        held_out = self._held_out()
        if held_out is None:
            return with_fitted_sizes(
                make_reference(self.inputs, rows, self.answers, self._answer_rows(positions)), self.answers, self._redrawn()
            )
        unseen = held_out[np.linspace(0, len(held_out) - 1, num=min(len(held_out), count)).astype(int)].tolist()
        return make_reference(self.inputs, rows, self.answers, self._answer_rows(unseen), unseen=True)

    def _redrawn(self) -> list[dict[str, Any]]:
        """Answers to rows that the model was not fitted on, for how far such answers lie from those of the frame; none where they cannot be
        asked for.
        """
        heavy = any(field.kind in ("image", "tensor", "text") for field in self.inputs)
        if heavy or self.recipe.answers is not None or len(self.frame) < _LEAST_UNSEEN_ROWS:
            return []
        frame = self.request_frame.iloc[np.linspace(0, len(self.frame) - 1, num=min(len(self.frame), _REDRAWN_ROWS)).astype(int)]
        try:
            rows = partly_redrawn_rows(frame)
            return answer_rows_from_columns(self.answers, self.ask(rows), len(rows))
        except Exception:  # code around a model need not take every combination of values
            log.debug("no answers to rows beside those of the frame", exc_info=True)
            return []

    def _held_out(self) -> np.ndarray[Any, np.dtype[np.int64]] | None:
        """Places of the rows that the model was not fitted on, if that was said."""
        given = self.recipe.held_out
        if given is None:
            return None
        places = np.flatnonzero(np.asarray(given, dtype=bool))
        if len(places) < _HELD_OUT_ROWS:
            raise BadRequest(f"held_out says so of {len(places)} rows; at least {_HELD_OUT_ROWS} are needed, or leave it out")
        return places


def rows_of(column: Column, positions: list[int]) -> Column:
    """Some rows of a column, by their places."""
    values = [column.values[at] for at in positions] if isinstance(column.values, list) else column.values[positions]
    return replace(column, values=values, missing=None if column.missing is None else column.missing[positions])


def _known_answers(given: Sequence[Any], answers: Schema) -> list[dict[str, Any]]:
    """Answers that training is known to have given, one a row: dicts, or plain values of the first answer field."""
    known = [dict(answer) if isinstance(answer, Mapping) else {answers.names[0]: answer} for answer in given]
    for row, answer in enumerate(known):
        if lost := [name for name in answers.names if name not in answer]:
            raise BadRequest(f"answers, row {row}: there is no {', '.join(lost)}; give a dict with {', '.join(answers.names)}")
    return known
