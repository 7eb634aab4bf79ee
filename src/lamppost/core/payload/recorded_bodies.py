"""Reads recorded requests and answers as rows again."""

from __future__ import annotations

from typing import Any

Rows = list[dict[str, Any]]
CONTENT_TYPE, LEFT_OUT = "content_type", "left_out"
"""What is recorded beside rows that did not travel as JSON: how they travelled, and how many more there were."""


def request_rows(body: Any) -> Rows:
    """The rows of a request as it was recorded; none where it was kept as text, or not at all."""
    if not isinstance(body, dict):
        return []
    if isinstance(body.get("rows"), list):
        return [row for row in body["rows"] if isinstance(row, dict)]
    if isinstance(body.get("columns"), dict):
        return _of_columns(body["columns"])
    return [{key: value for key, value in body.items() if key != "options"} if "options" in body else body]


def request_as_sent(body: Any) -> Any:
    """A recorded request without what recording put beside the rows of one that did not come as JSON."""
    if isinstance(body, dict) and "rows" in body:
        return {key: value for key, value in body.items() if key not in (CONTENT_TYPE, LEFT_OUT)}
    return body


def answer_rows(body: Any) -> Rows:
    """The rows of an answer as it was recorded."""
    if not isinstance(body, dict):
        return []
    if isinstance(body.get("answer"), dict):
        return [body["answer"]]
    if isinstance(body.get("answers"), list):
        return [row for row in body["answers"] if isinstance(row, dict)]
    return _of_columns(body["columns"]) if isinstance(body.get("columns"), dict) else []


def request_options(body: Any) -> dict[str, Any]:
    """The options of a call."""
    options = body.get("options") if isinstance(body, dict) else None
    return options if isinstance(options, dict) else {}


def _of_columns(columns: dict[str, Any]) -> Rows:
    lists = [values for values in columns.values() if isinstance(values, list)]
    if len(lists) < len(columns) or len({len(values) for values in lists}) > 1:
        return []
    return [dict(zip(columns, values, strict=True)) for values in zip(*lists, strict=True)]
