"""Asks an endpoint about one row for a desk: validated, batched and recorded as every call is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import orjson

from lamppost.core.desk.answer_words import main_answer, score_lines, words_of_answer
from lamppost.core.desk.settings import DeskSettings
from lamppost.core.desk.settings_check import hidden_values
from lamppost.core.endpoint.endpoint_schema import EndpointSchema
from lamppost.core.errors import LampPostError
from lamppost.core.explanation.explanation import ExplanationTerms
from lamppost.core.payload.text_formats import JSON
from lamppost.runtime.lane_options import LIVE_REQUEST
from lamppost.service.deployment.call_admission import CallAdmission
from lamppost.service.explanation.explainer import Explainer
from lamppost.service.prediction import bodies
from lamppost.service.prediction.call import PredictionCall
from lamppost.service.prediction.predictors import PredictionInput
from lamppost.service.records.recorder import Recorder

_REASON_ROWS = 2_000
_REASON_S = 5.0
_MOST_REASONS = 5
_LEAST_PART = 0.05
"""Part of the largest reason below which another one is not told."""


@dataclass(frozen=True, slots=True)
class SaidAnswer:
    """An answer in the words of a desk. scores : how sure the model is of each label, 0 to 1, the largest first."""

    text: str
    state: str | None
    scores: list[tuple[str, float]]


@dataclass(frozen=True, slots=True)
class Reason:
    """What a field did to an answer. amount : to the main figure; below 0 it spoke against the answer."""

    label: str
    value: Any
    amount: float


def complete_question(
    settings: DeskSettings, schema: EndpointSchema, row: Mapping[str, Any], options: Mapping[str, Any]
) -> tuple[dict[str, Any], dict[str, Any]]:
    """The whole row and options of a question: what the desk asks for, and what its owner has set."""
    set_fields, set_options = hidden_values(settings, schema)
    shown = {name: value for name, value in row.items() if settings.words_of(name).shown}
    chosen = {name: value for name, value in options.items() if settings.words_of(name).shown}
    return {**shown, **set_fields}, {**chosen, **set_options}


async def ask_one(
    admission: CallAdmission,
    recorder: Recorder,
    endpoint: str,
    settings: DeskSettings,
    question: tuple[dict[str, Any], dict[str, Any]],
    token: str,
) -> SaidAnswer:
    """The answer to a question, recorded under the token's name. Raise what a prediction raises."""
    row, options = question
    call = PredictionCall(endpoint)
    call.token = token
    call.body = body = orjson.dumps({**row, **({"options": options} if options else {})})
    try:
        predictor = await admission.bind(call)

        def read() -> PredictionInput:
            return bodies.read_body(predictor.plan, predictor.columns, JSON, body, [], b"", call.coercions)

        output = await admission.predict(call, predictor, read, len(body), LIVE_REQUEST)
        assert call.input is not None
        said = bodies.write_answer(predictor.answers, call.input, output.answer, JSON, call.envelope())
        given = orjson.loads(said)["answer"]
        answer = main_answer(settings.answer, predictor.answers)
        text, state = words_of_answer(settings, answer, given.get(answer.name))
        scores = score_lines(settings, predictor.answers, answer, given)
    except LampPostError as error:
        problem = call.refuse(error)
        call.timer.mark("answer")
        call.record(recorder, error.status, problem)
        raise
    call.timer.mark("answer")
    call.record(recorder, 200, said)
    return SaidAnswer(text, state, scores)


async def reasons_of_one(
    explainer: Explainer, endpoint: str, settings: DeskSettings, question: tuple[dict[str, Any], dict[str, Any]]
) -> list[Reason]:
    """Why the answer is what it is: the fields that moved it most, in the words of the desk. Those that are not shown are left out."""
    row, options = question
    terms = ExplanationTerms(changes=False, rule=False)
    async with explainer.of_endpoint(endpoint) as explained:
        told = await explainer.explain(explained, row, options, terms, _REASON_ROWS, _REASON_S, 0)
    found = []
    for part in told["contributions"]:
        names = [name for name in part["fields"] if settings.words_of(name).shown]
        if names and part["amount"]:
            value = part["values"].get(names[0])
            found.append(Reason(", ".join(map(settings.label_of, names)), value, float(part["amount"])))
    found.sort(key=lambda reason: -abs(reason.amount))
    return [reason for reason in found[:_MOST_REASONS] if abs(reason.amount) >= _LEAST_PART * abs(found[0].amount)]
