"""Writes an endpoint's path and schemas as OpenAPI 3.1, with examples that the endpoint accepts."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.endpoint.endpoint_schema import endpoint_schema
from lamppost.core.endpoint.setup import EndpointSetup
from lamppost.core.payload.text_formats import ARROW, CSV, JSON, MULTIPART, NDJSON, csv_header
from lamppost.core.payload.validation_plan import MAX_ROWS
from lamppost.core.schema.fields import Schema, example_options

PROBLEMS = {
    400: "the body is not what its content type says",
    401: "no token, or one that is not known or has expired",
    403: "the token does not cover this endpoint",
    404: "there is no such endpoint",
    406: "no answer can be written in the types that are accepted",
    408: "the request did not come in time",
    413: "more rows or bytes than one request may have",
    415: "a content type that is not read",
    422: "values that break the schema; `faults` has each with row, field, given and expected",
    431: "headers over the bounds",
    429: "the token comes more often than it may",
    502: "the model failed, or answered outside its own schema",
    503: "the endpoint's lane is full, or the endpoint is down",
    504: "the caller's own deadline has passed",
}


def pascal_case(endpoint: str) -> str:
    """A name for schemas and generated types: ``pascal("outage-risk") == "OutageRisk"``."""
    joined = "".join(part[:1].upper() + part[1:] for part in endpoint.split("-"))
    return joined if joined[:1].isalpha() else f"Endpoint{joined}"


def endpoint_paths(endpoint: str, setup: EndpointSetup, manifests: Mapping[str, Manifest]) -> tuple[dict[str, Any], dict[str, Any]]:
    """The path item of ``/predict/{endpoint}`` and the component schemas that it refers to; ``manifests`` by version."""
    name, version = pascal_case(endpoint), setup.summary()
    promised = endpoint_schema(setup, manifests)
    notes = [manifests[str(row_schema)].provenance.notes for row_schema in setup.versions[:1]]
    if setup.lenient:
        notes.append("Read leniently: values whose meaning leaves no doubt, such as numbers as text, are taken, and told under `changed`.")
    example = {**promised.inputs.example(), **example_options(promised.options)}
    row, answer = _plain(promised.inputs), _plain(promised.answers)
    answer["required"] = list(promised.answers.names)
    answer.pop("examples", None)
    schemas = {f"{name}Row": row, f"{name}Answer": answer}
    options: dict[str, Any] = {}
    if promised.options is not None:
        schemas[f"{name}Options"] = _plain(promised.options)
        options = {"options": _ref(f"{name}Options")}
    needed = ["options"] if promised.options is not None and any(field.required for field in promised.options) else []
    schema_of_row = {**row, "properties": row["properties"] | options, "required": [*row["required"], *needed], "examples": [example]}
    requests = {f"{name}RequestOfRow": schema_of_row} | _several(name, options, needed)
    replies = _replies(name)
    schemas |= requests | replies | _columns(name, promised.inputs, promised.answers)
    schemas[f"{name}Request"] = {"title": f"What {endpoint} is asked", "anyOf": [_ref(form) for form in requests]}
    schemas[f"{name}Reply"] = {"title": f"What {endpoint} answers", "anyOf": [_ref(form) for form in replies]}
    content = {
        JSON: {"schema": _ref(f"{name}Request"), "example": example},
        NDJSON: {"schema": {"type": "string", "description": "one row as a JSON object on each line"}},
        CSV: {"schema": {"type": "string", "description": f"a header and a row a line; fields: {', '.join(promised.inputs.names)}"}},
        ARROW: {"schema": {"type": "string", "format": "binary"}},
    }
    if any(field.kind == "image" for field in promised.inputs):
        content[MULTIPART] = {"schema": {"type": "object", "properties": {f.name: _part(f.kind) for f in promised.inputs}}}
    answered = {
        JSON: {"schema": _ref(f"{name}Reply")},
        NDJSON: {"schema": {"type": "string"}},
        CSV: {"schema": {"type": "string", "description": f"columns: {', '.join(csv_header(promised.answers))}"}},
        ARROW: {"schema": {"type": "string", "format": "binary"}},
    }
    headers = {
        "Model-Version": {"description": "the version that answered", "schema": {"type": "string", "examples": [str(setup.versions[0])]}},
        "Request-Id": {"description": "under which the call is recorded", "schema": {"type": "string", "format": "uuid"}},
        "Server-Timing": {"description": "phases in milliseconds", "schema": {"type": "string"}},
    }
    responses: dict[str, Any] = {"200": {"description": f"answers by {version}", "headers": headers, "content": answered}}
    for status, meaning in PROBLEMS.items():
        schema = _ref("Problem")
        responses[str(status)] = {"description": meaning, "content": {"application/problem+json": {"schema": schema}}}
    operation = {
        "operationId": f"predict_{endpoint.replace('-', '_')}",
        "tags": ["predict"],
        "summary": f"Ask {endpoint}, which serves {version}",
        "description": "\n\n".join(note for note in notes if note),
        "security": [{"token": []}],
        "requestBody": {"required": True, "content": content},
        "responses": responses,
    }
    parameters: list[dict[str, Any]] = []
    if promised.header is not None and setup.choose is not None:
        cases = {"type": "string", "examples": list(setup.choose.cases)}
        if setup.choose.other is None:
            cases = {"type": "string", "enum": list(setup.choose.cases)}
        about = "chooses the version that answers"
        parameters.append(
            {"name": promised.header, "in": "header", "required": setup.choose.other is None, "description": about, "schema": cases}
        )
    if promised.options is not None:
        chosen = {"schema": _ref(f"{name}Options")}
        about = "options of a body that is not JSON, as JSON"
        parameters.append({"name": "options", "in": "query", "required": False, "description": about, "content": {JSON: chosen}})
    if parameters:
        operation["parameters"] = parameters
    return {"post": operation}, schemas


def _plain(schema: Schema) -> dict[str, Any]:
    return {key: value for key, value in schema.to_json_schema().items() if key != "$schema"}


def _ref(schema: str) -> dict[str, Any]:
    """A reference to a schema that has a name: generators of clients make a type of each, and of no other."""
    return {"$ref": f"#/components/schemas/{schema}"}


def _several(name: str, options: dict[str, Any], needed: list[str]) -> dict[str, Any]:
    """Requests of rows, and of columns."""
    rows = {"type": "array", "items": _ref(f"{name}Row"), "minItems": 1, "maxItems": MAX_ROWS}
    forms = {"RequestOfRows": ("rows", rows), "RequestOfColumns": ("columns", _ref(f"{name}Columns"))}
    return {
        f"{name}{form}": {
            "type": "object",
            "properties": {key: value, **options},
            "required": [key, *needed],
            "additionalProperties": False,
        }
        for form, (key, value) in forms.items()
    }


def _columns(name: str, inputs: Schema, answers: Schema) -> dict[str, Any]:
    """Schemas of columns: of rows that are asked, and of answers, whose vectors have a column for each choice."""
    lists = {field.name: {"type": "array", "items": field.to_json_schema(), "minItems": 1, "maxItems": MAX_ROWS} for field in inputs}
    required = [field.name for field in inputs if field.required]
    schemas = {f"{name}Columns": {"type": "object", "properties": lists, "required": required, "additionalProperties": False}}
    answered: dict[str, Any] = {}
    for field in answers:
        if field.kind == "vector":
            numbers = {choice: {"type": "array", "items": {"type": "number"}} for choice in field.choices}
            vector = f"{name}Answer{pascal_case(field.name.replace('_', '-'))}Columns"
            schemas[vector] = {"type": "object", "properties": numbers, "required": list(field.choices)}
            answered[field.name] = _ref(vector)
        else:
            answered[field.name] = {"type": "array", "items": field.to_json_schema()}
    schemas[f"{name}AnswerColumns"] = {"type": "object", "properties": answered, "required": list(answered)}
    return schemas


def _replies(name: str) -> dict[str, Any]:
    """Replies to a row, to rows, and in columns."""
    about = {"version": {"type": "string"}, "request_id": {"type": "string", "format": "uuid"}}
    told = {"type": "array", "items": _ref("CoercionAnswer"), "description": "values that a lenient endpoint took as others"}
    forms: dict[str, Any] = {
        "ReplyOfRow": ("answer", _ref(f"{name}Answer")),
        "ReplyOfRows": ("answers", {"type": "array", "items": _ref(f"{name}Answer")}),
        "ReplyOfColumns": ("columns", _ref(f"{name}AnswerColumns")),
    }
    return {
        f"{name}{form}": {"type": "object", "properties": {key: value, **about, "changed": told}, "required": [key, *about]}
        for form, (key, value) in forms.items()
    }


def _part(kind: str) -> dict[str, Any]:
    return {"type": "string", "contentMediaType": "application/octet-stream"} if kind == "image" else {"type": "string"}
