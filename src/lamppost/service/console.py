"""Serves the built console at ``/``. The page loads nothing from other hosts."""

from __future__ import annotations

from html import escape
from importlib import resources
from mimetypes import guess_type
from pathlib import Path

from fastapi import FastAPI
from starlette.datastructures import Headers
from starlette.exceptions import HTTPException
from starlette.responses import Response
from starlette.staticfiles import StaticFiles
from starlette.types import Scope

_POLICY = "; ".join(
    [
        "default-src 'self'",
        "img-src 'self' data:",
        "style-src 'self' 'unsafe-inline'",
        "frame-ancestors 'none'",
        "base-uri 'self'",
        "form-action 'self'",
    ]
)
_OURS = ("api", "predict", "health", "openapi.json", "metrics")


_PAGE = "index.html"
_BASE = '<base href="/" />'
"""In the built page: where everything that the page loads begins."""


class _Console(StaticFiles):
    """Static files. Any other address gets the console's page, which does its own routing. base : the path before every address."""

    def __init__(self, folder: Path, base: str) -> None:
        super().__init__(directory=folder)
        page = (folder / _PAGE).read_text(encoding="utf-8")
        self._page = page.replace(_BASE, f'<base href="{escape(base)}/" />').encode()

    async def get_response(self, path: str, scope: Scope) -> Response:
        first = path.split("/")[0]
        if first in _OURS:
            raise _no_such(scope)
        small = await self._compressed(path, scope) if first == "assets" else None
        try:
            response = small or (None if path in (".", _PAGE) else await super().get_response(path, scope))
        except HTTPException as error:
            if error.status_code != 404 or "." in path.rsplit("/", 1)[-1]:
                raise
            response = None
        if response is None:
            response = Response(self._page, media_type="text/html")
        response.headers["content-security-policy"] = _POLICY
        response.headers["x-content-type-options"] = "nosniff"
        response.headers["referrer-policy"] = "no-referrer"
        response.headers["cache-control"] = "public, max-age=31536000, immutable" if first == "assets" else "no-cache"
        return response

    async def _compressed(self, path: str, scope: Scope) -> Response | None:
        """The gzip file that the build put beside a script or a style, for a client that takes it."""
        if "gzip" not in Headers(scope=scope).get("accept-encoding", ""):
            return None
        try:
            response = await super().get_response(f"{path}.gz", scope)
        except HTTPException:
            return None
        response.headers["content-type"] = guess_type(path)[0] or "application/octet-stream"
        response.headers["content-encoding"] = "gzip"
        response.headers["vary"] = "accept-encoding"
        return response


def _no_such(scope: Scope) -> HTTPException:
    """404; or 405 where the address is there, for other methods. (The console stands behind all routes, so that it gets these.)"""
    methods = scope["app"].allowed_methods.find(scope["path"])
    return HTTPException(405, headers={"allow": ", ".join(sorted(methods))}) if methods else HTTPException(404)


def console_folder() -> Path | None:
    """The folder of the built console; None if it has not been built."""
    folder = Path(str(resources.files("lamppost"))) / "console" / "dist"
    return folder if (folder / _PAGE).exists() else None


def mount_console(app: FastAPI, base: str) -> None:
    """Serve the console, or a page that says how to build it. base : the path before every address, or empty."""
    folder = console_folder()
    if folder is not None:
        app.mount("/", _Console(folder, base), name="console")
        return

    @app.get("/", include_in_schema=False)
    async def not_built() -> Response:
        return Response("The console has not been built; run: make console\n", 503, media_type="text/plain")
