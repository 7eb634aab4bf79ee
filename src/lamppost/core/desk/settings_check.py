"""Checks the settings of a desk against what its endpoint takes and gives, and reads the values that are not asked for."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import orjson

from lamppost.core.desk.answer_words import labels_of, main_answer
from lamppost.core.desk.settings import DeskSettings
from lamppost.core.endpoint.endpoint_schema import EndpointSchema
from lamppost.core.errors import BadRequest, LampPostError
from lamppost.core.names import closest_name
from lamppost.core.payload.text_formats import cell_json
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.fields import Field, Schema, find_field


def check_settings(settings: DeskSettings, schema: EndpointSchema) -> None:
    """Raise BadRequest for settings that do not fit what the endpoint takes and gives."""
    options: Iterable[Field] = schema.options or ()
    for what, given, known in (("field", settings.fields, schema.inputs), ("option", settings.options, options)):
        for name, words in given.items():
            found = find_field(known, name)
            if found is None:
                names = [field.name for field in known]
                like = closest_name(name, names)
                raise BadRequest(
                    f"{name!r} is no {what} of the endpoint"
                    + (f"; did you mean {like!r}?" if like else f"; it has {', '.join(names) or 'none'}")
                )
            if words.shown:
                continue
            if found.required and words.value is None:
                raise BadRequest(f"{name} is not shown and has no default, so it needs a value: {found.expected_text()}")
    hidden_values(settings, schema)
    answer = main_answer(settings.answer, schema.answers)
    labels = labels_of(answer)
    for label in settings.answers:
        if label not in labels and answer.unseen == "refuse":
            like = closest_name(label, labels)
            kind = "a number; say what it means with ranges" if not labels else f"one of {', '.join(labels)}"
            raise BadRequest(f"{answer.name} is never {label!r}" + (f"; did you mean {like!r}?" if like else f"; it is {kind}"))
    if settings.ranges and labels:
        raise BadRequest(f"{answer.name} is no number, so it has no ranges; say what its answers are called with answers")


def hidden_values(settings: DeskSettings, schema: EndpointSchema) -> tuple[dict[str, Any], dict[str, Any]]:
    """The values that the owner has set, of fields and of options; raise BadRequest for one that does not fit."""
    values: list[dict[str, Any]] = []
    for given, known in ((settings.fields, schema.inputs), (settings.options, schema.options or ())):
        found: dict[str, Any] = {}
        for name, words in given.items():
            about = find_field(known, name)
            if words.value is not None and about is not None:
                found[name] = _value(about, words.value)
        values.append(found)
    return values[0], values[1]


def _value(about: Field, text: str) -> Any:
    """The value that a text stands for; raise BadRequest for none of the field."""
    try:
        body = b'{"rows":[{' + orjson.dumps(about.name) + b":" + cell_json(about, text, 0) + b"}]}"
        ValidationPlan(Schema((about,))).read_body(body)
        return orjson.loads(body)["rows"][0][about.name]
    except LampPostError as error:
        raise BadRequest(f"the value {text[:100]!r} of {about.name} does not fit: expected {about.expected_text()}") from error


def set_texts(settings: DeskSettings, shown: Mapping[str, Any]) -> dict[str, str]:
    """By field, the text of each value that was set and is not asked for: what all rows of a file get. shown : columns of the file."""
    return {
        name: words.value for name, words in settings.fields.items() if not words.shown and words.value is not None and name not in shown
    }
