"""The process that thinks up what is asked: beside the service and behind its answers, because it computes for a tenth of a second on end.

It takes an order, says which rows are to be asked, as bodies of requests, is told the answers, and says the explanation in the end. It
keeps the last few references, because explanations of the same endpoint follow one another.
"""

from __future__ import annotations

import logging
import sys
import time
import traceback
from collections.abc import Sequence
from functools import cache
from typing import Any

import orjson
from cachetools import LRUCache
from pydantic import TypeAdapter

from lamppost.core.errors import LampPostError
from lamppost.core.explanation.asking import Asking, Budget, Row
from lamppost.core.explanation.curves import field_curve
from lamppost.core.explanation.explanation import ExplainedReference, ExplanationTerms, cases_of_row, explain_answer
from lamppost.core.explanation.told import Told, tell_curve, tell_explanation
from lamppost.core.explanation.traits import FieldTraits
from lamppost.core.schema.fields import Field, Schema, find_field
from lamppost.service.processes.child_process import read_message, run_beside_service, write_message

log = logging.getLogger("lamppost.explanations")
_REFERENCES = 8
_BODY_ROWS = 64
"""Rows of one body: the service reads each between other work."""


class _Known:
    """What explanations of one endpoint have in common. asks_typical : whether the reference's rows can be asked as they are."""

    def __init__(self, given: dict[str, Any]) -> None:
        adapter = _fields()
        self.inputs = Schema(adapter.validate_json(orjson.dumps(given["inputs"])))
        self.answers = Schema(adapter.validate_json(orjson.dumps(given["answers"])))
        pairs = {(first, second): correlation for first, second, correlation in given["pairs"]}
        self.reference = ExplainedReference(self.inputs, given["rows"], pairs)
        self.asks_typical = self.reference.whole and not given["options"]


@cache
def _fields() -> TypeAdapter[tuple[Field, ...]]:
    return TypeAdapter(tuple[Field, ...])


def describe_fields(schema: Schema) -> Any:
    """A schema for this process."""
    return _fields().dump_python(tuple(schema), mode="json")


def _explained(known: _Known, order: dict[str, Any]) -> Asking[Told]:
    """What an order asks for."""
    reference, row = known.reference, order["row"]
    if known.asks_typical and not reference.answers:
        answers = yield reference.rows
        reference.answers = list(answers)  # once for all explanations, beyond their budgets
    budget = Budget(order["rows"], time.monotonic() + order["seconds"], time.monotonic)
    if "field" not in order:
        found = yield from explain_answer(row, known.inputs, known.answers, reference, ExplanationTerms(**order["terms"]), budget)
        return tell_explanation(found, known.inputs, order["cases"])
    field = find_field(known.inputs, order["field"])
    assert field is not None
    answer, cases = yield from cases_of_row(row, known.answers, budget)
    traits = reference.traits.get(field.name) or FieldTraits(field, reference.rows)
    curve = yield from field_curve(row, traits, cases)
    return tell_curve(curve, cases.outputs, answer)


def _bodies(rows: Sequence[Row], options: Row) -> list[bytes]:
    more = {"options": options} if options else {}
    return [orjson.dumps({"rows": rows[at : at + _BODY_ROWS], **more}) for at in range(0, len(rows), _BODY_ROWS)]


def _converse(known: LRUCache[str, _Known], order: dict[str, Any]) -> bytes:
    """One explanation from its order to what is said in the end: ``told``, or the problem document of what is wrong with the order."""
    pipe_in, pipe_out = sys.stdin.buffer, sys.stdout.buffer
    if order["key"] not in known:
        write_message(pipe_out, b'{"need":"reference"}')
        given = read_message(pipe_in)
        assert given is not None
        known[order["key"]] = _Known(orjson.loads(given))
    asking = _explained(known[order["key"]], order)
    try:
        rows = next(asking)
        while True:
            bodies = _bodies(rows, order["options"])
            write_message(pipe_out, orjson.dumps({"ask": [body.decode() for body in bodies]}))
            answers = read_message(pipe_in)
            assert answers is not None
            rows = asking.send(orjson.loads(answers))
    except StopIteration as end:
        return orjson.dumps({"told": end.value})
    except LampPostError as error:
        return orjson.dumps({"problem": error.to_problem()}, default=str)
    except Exception as error:
        # without its text, which may hold a value of a private field
        log.error("an explanation failed (%s):\n%s", type(error).__name__, "".join(traceback.format_tb(error.__traceback__)))
        return orjson.dumps({"failed": type(error).__name__})


def main() -> int:
    """Explain one answer after the other until the pipe ends."""
    run_beside_service()
    known: LRUCache[str, _Known] = LRUCache(_REFERENCES)
    while (order := read_message(sys.stdin.buffer)) is not None:
        write_message(sys.stdout.buffer, _converse(known, orjson.loads(order)))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
