"""Removes the values of private fields from bodies and problem documents, before they are recorded or told.

A body has one of three forms: one row, a list of rows, or a list of values for each field; options may stand beside.
"""

from __future__ import annotations

from typing import Any

import orjson

from lamppost.core.errors import Fault, LampPostError
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
        sent = (*inputs, *(options or ()))
        self._public_inputs = frozenset(field.name for field in sent if not field.private)
        self._public_answers = frozenset(field.name for field in answers if not field.private)
        self._private_names = frozenset(field.name for field in (*sent, *answers) if field.private)
        self._keeps_inputs = all(not field.private for field in sent)
        self._keeps_answers = all(not field.private for field in answers)
        self.keeps_everything = self._keeps_inputs and self._keeps_answers

    def redact_request(self, body: bytes) -> bytes:
        """A request that was answered, as JSON, with the values of public fields only. Keys that are no fields are left out, because a
        misspelt name may carry a private value.
        """
        return body if self._keeps_inputs else _keep(body, self._public_inputs, "rows", None)

    def redact_refused(self, body: bytes) -> bytes | None:
        """A refused request, as it may be recorded: None where a field is private, because a private value may stand anywhere in such a
        body.
        """
        return body if self._keeps_inputs else None

    def redact_answer(self, body: bytes) -> bytes:
        """An answer that was given, as JSON, with the values of public fields only, also among what lenient reading changed."""
        if self.keeps_everything:
            return body
        whole = orjson.loads(body)
        if not self._keeps_answers:
            _keep_fields(whole, self._public_answers, "answers", "answer")
        if isinstance(whole, dict) and "changed" in whole:
            whole["changed"] = [change for change in whole["changed"] if change.get("field") in self._public_inputs]
        return orjson.dumps(whole)

    def redact_problem(self, error: LampPostError) -> dict[str, Any]:
        """The problem document of an error, without anything of what was sent where a field is private: no values of private fields, and
        neither names nor values of what is no field.
        """
        document = error.to_problem()
        if self.keeps_everything or not error.repeats_input:
            return document
        faults = [self._public_fault(fault) for fault in document.get("faults") or ()]
        if faults:
            document["faults"] = [fault.to_dict() for fault in faults]
            more = int(document.get("fault_count", len(faults))) - 1
            document["detail"] = faults[0].sentence() + (f"; and {more} more fault{'s' if more > 1 else ''}" if more > 0 else "")
        else:
            document["detail"] = f"{error.title.lower()}; {_WITHHELD}"
        return document

    def redact_error(self, error: LampPostError) -> LampPostError:
        """An error of the same kind, whose problem document is the redacted one."""
        document = self.redact_problem(error)
        extra = {name: value for name, value in document.items() if name not in ("type", "title", "status", "detail")}
        return type(error)(document["detail"], **extra)

    def _public_fault(self, fault: dict[str, Any]) -> Fault:
        name, row = fault.get("field"), fault.get("row")
        if name is not None and name not in self._public_inputs | self._private_names:
            return Fault(row, None, "a key that is no field", "the fields of the schema only", "its name is not repeated")
        private = name is None or name in self._private_names
        given = "a private value" if private and fault.get("given") != "nothing" else str(fault.get("given"))
        return Fault(row, name, given, str(fault.get("expected")), None if private else fault.get("hint"))


_WITHHELD = "what was sent is not repeated, because fields of this endpoint are private"


def _keep(body: bytes, public: frozenset[str], rows_key: str, row_key: str | None) -> bytes:
    whole = orjson.loads(body)
    return orjson.dumps(_keep_fields(whole, public, rows_key, row_key))


def _keep_fields(whole: Any, public: frozenset[str], rows_key: str, row_key: str | None) -> Any:
    """Delete all but public fields from the rows of a parsed body, in place. row_key : where a single row stands, None where the body is
    the row itself. A body of another form is emptied.
    """
    if not isinstance(whole, dict):
        return None
    rows, columns = whole.get(rows_key), whole.get("columns")
    if isinstance(rows, list):
        whole[rows_key] = [_public(row, public) for row in rows]
    elif isinstance(columns, dict):
        whole["columns"] = _public(columns, public)
    elif row_key is not None:
        whole[row_key] = _public(whole.get(row_key), public)
    else:
        options = whole.get("options")
        for name in whole.keys() - public:
            del whole[name]
        if options is not None:
            whole["options"] = options
    if "options" in whole:
        whole["options"] = _public(whole["options"], public)
    return whole


def _public(row: Any, public: frozenset[str]) -> dict[str, Any]:
    return {name: value for name, value in row.items() if name in public} if isinstance(row, dict) else {}
