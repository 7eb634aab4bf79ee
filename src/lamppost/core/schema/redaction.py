"""What of a call may be recorded: bodies without the values of private fields."""

from __future__ import annotations

import orjson

from lamppost.core.schema.fields import Schema


class RedactionPolicy:
    """What is kept of the calls to one version.

    >>> Kept(Schema((Field("account", "text", private=True), Field("x", "number"))), None, answers).request(b'{"account": "a", "x": 1}')
    b'{"x":1}'
    """

    def __init__(self, inputs: Schema, options: Schema | None, answers: Schema) -> None:
        self._asked = frozenset(field.name for field in (*inputs, *(options or ())) if field.private)
        self._said = frozenset(field.name for field in answers if field.private)

    @property
    def keeps_everything(self) -> bool:
        """Whether no field is private."""
        return not self._asked and not self._said

    def redact_request(self, body: bytes) -> bytes:
        """A request that was taken."""
        if not self._asked:
            return body
        said = orjson.loads(body)
        for one in [*said.get("rows", [said]), said.get("options", {})]:
            for name in self._asked & one.keys():
                del one[name]
        return orjson.dumps(said)

    def redact_refused(self, body: bytes) -> bytes | None:
        """A request that was refused: nothing where it may hold private values, because what is wrong with it may be anything."""
        return None if self._asked else body

    def redact_answer(self, body: bytes) -> bytes:
        """An answer that was given."""
        if not self._said:
            return body
        said = orjson.loads(body)
        for one in said.get("answers", [said.get("answer", {})]):
            for name in self._said & one.keys():
                del one[name]
        return orjson.dumps(said)
