"""Writes the OpenAPI document of the API's own paths to ``openapi.json`` beside this file: ``python -m lamppost.service.openapi``.

To make it from the routes takes seconds, so the service sends the file. The console's types are generated from it too.
"""

from __future__ import annotations

from pathlib import Path

import orjson

from lamppost.service.api.openapi_document import OWN_DOCUMENT, own_document
from lamppost.service.app import make_app
from lamppost.service.node import Node
from lamppost.service.settings import Settings


def document() -> bytes:
    """The document of this version, as indented JSON; no service and no database are needed."""
    app = make_app(Node(Settings(Path(), "postgresql://nowhere")))
    return orjson.dumps(own_document(app), option=orjson.OPT_INDENT_2) + b"\n"


if __name__ == "__main__":
    OWN_DOCUMENT.write_bytes(document())
