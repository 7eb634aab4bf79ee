"""Prints the OpenAPI document: ``python -m lamppost.service.openapi``. The console's types are generated from it."""

from __future__ import annotations

from pathlib import Path

import orjson

from lamppost.service.api.openapi_document import api_document
from lamppost.service.app import make_app
from lamppost.service.node import Node
from lamppost.service.settings import Settings


def document() -> bytes:
    """The document of this version, as indented JSON; no service and no database are needed."""
    app = make_app(Node(Settings(Path(), "postgresql://nowhere")))
    return orjson.dumps(api_document(app), option=orjson.OPT_INDENT_2) + b"\n"


if __name__ == "__main__":
    print(document().decode(), end="")
