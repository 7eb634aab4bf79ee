"""Removes the values of private fields from bodies before they are recorded.

A body has one of three forms: one row, a list of rows, or a list of values for each field; options may stand beside.
"""

from __future__ import annotations

from typing import Any

import orjson

from lamppost.core.schema.fields import Schema


class RedactionPolicy:
    """Removes private values from calls whose inputs, options and answers have these schemas. keeps_everything : whether no field is
    private.

    >>> from lamppost.core.schema.fields import Field
    >>> inputs = Schema((Field("account", "text", private=True, example="a"), Field("x", "number")))
    >>> RedactionPolicy(inputs, None, inputs).redact_request(b'{"account": "a", "x": 1}')
    b'{"x":1}'
    """

    def __init__(self, inputs: Schema, options: Schema | None, answers: Schema) -> None:
        self._private_inputs = frozenset(field.name for field in (*inputs, *(options or ())) if field.private)
        self._private_answers = frozenset(field.name for field in answers if field.private)
        self.keeps_everything = not self._private_inputs and not self._private_answers

    def redact_request(self, body: bytes) -> bytes:
        """A request that was answered, as JSON, without private values."""
        return _without(body, self._private_inputs, "rows", None)

    def redact_refused(self, body: bytes) -> bytes | None:
        """A refused request, as it may be recorded: None where a field is private, because a private value may stand anywhere in such a
        body.
        """
        return None if self._private_inputs else body

    def redact_answer(self, body: bytes) -> bytes:
        """An answer that was given, as JSON, without private values."""
        return _without(body, self._private_answers, "answers", "answer")


def _without(body: bytes, private: frozenset[str], rows_key: str, row_key: str | None) -> bytes:
    """A body without these fields. row_key : where a single row stands, None where the body is the row itself."""
    if not private:
        return body
    whole: dict[str, Any] = orjson.loads(body)
    parts = [whole.get("options"), whole.get("columns"), *whole.get(rows_key, [whole if row_key is None else whole.get(row_key)])]
    for part in parts:
        if isinstance(part, dict):
            for name in private & part.keys():
                del part[name]
    return orjson.dumps(whole)
