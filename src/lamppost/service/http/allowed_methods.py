"""Knows the methods of every address of the API, for HEAD, for OPTIONS, and for requests with another method."""

from __future__ import annotations

from collections.abc import Iterable

from starlette.routing import BaseRoute, Match, Route

from lamppost.service.http.predict_handler import PREFIX

PREDICTION_METHODS = frozenset({"OPTIONS", "POST"})


class AllowedMethods:
    """The methods of routes. Whatever can be read can be asked for its headers (HEAD), and every address for its methods (OPTIONS)."""

    def __init__(self, routes: Iterable[BaseRoute]) -> None:
        self._routes = [route for route in routes if isinstance(route, Route)]

    def find(self, path: str) -> frozenset[str]:
        """The methods of an address; none where there is nothing."""
        if path.startswith(PREFIX):
            return PREDICTION_METHODS
        scope = {"type": "http", "path": path, "root_path": "", "method": "-"}
        methods: set[str] = set()
        for route in self._routes:
            if route.matches(scope)[0] is not Match.NONE:
                methods |= route.methods or set()
        if methods:
            methods |= {"OPTIONS"} | ({"HEAD"} if "GET" in methods else set())
        return frozenset(methods)


def allow_header(methods: Iterable[str]) -> tuple[bytes, bytes]:
    """The header ``Allow`` of methods."""
    return b"allow", ", ".join(sorted(methods)).encode()
