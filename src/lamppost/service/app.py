"""The ASGI app: the prediction path in front, FastAPI with the API's routers behind it, the console last."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator, Sequence
from http import HTTPStatus
from types import ModuleType
from typing import Any

import orjson
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import Response
from starlette.exceptions import HTTPException
from starlette.middleware.cors import CORSMiddleware

import lamppost
from lamppost.core.errors import BadJson, BadRequest, LampPostError, NotFound
from lamppost.service.api import (
    alerts,
    backup,
    bulk,
    changes,
    declared,
    deletion,
    desk,
    desks,
    endpoints,
    explanations,
    logs,
    models,
    monitoring,
    node_status,
    openapi_document,
    packages,
    replay,
    reviews,
    schedules,
    tokens,
)
from lamppost.service.api.measuring import loads, sweeps
from lamppost.service.api.other_node import OnOtherNode, pass_on
from lamppost.service.api.outposts import here, rollouts, standalone
from lamppost.service.api.outposts import hub as outposts
from lamppost.service.console import mount_console
from lamppost.service.http.allowed_methods import AllowedMethods, allow_header
from lamppost.service.http.answer_compression import CompressedSend, takes_gzip
from lamppost.service.http.predict_handler import PREFIX, Receive, Scope, Send
from lamppost.service.http.problems import problem_headers
from lamppost.service.node import Node, running

_API = (
    *(endpoints, monitoring, changes, deletion, declared, models, replay, explanations, reviews, alerts, packages, tokens, backup, logs),
    *(bulk, schedules, desks, desk, loads, sweeps, outposts, rollouts, node_status),
)


class App(FastAPI):
    """A FastAPI app that hands predictions to their own handler."""

    node: Node
    allowed_methods: AllowedMethods
    cors: CORSMiddleware | None = None

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer predictions with their own handler, everything else with FastAPI."""
        if scope["type"] != "http":
            await super().__call__(scope, receive, send)
            return
        if takes_gzip(scope["headers"]):
            send = CompressedSend(send)
        if self.cors is not None:
            await self.cors(scope, receive, send)
        else:
            await self.answer(scope, receive, send)

    async def answer(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer a request over HTTP."""
        if scope["method"] == "OPTIONS" and (methods := self.allowed_methods.find(scope["path"])):
            await send({"type": "http.response.start", "status": 204, "headers": [allow_header(methods)]})
            await send({"type": "http.response.body", "body": b""})
        elif scope["path"].startswith(PREFIX):
            await self.node.request_gate.pass_on(self.node.predict_handler, scope, receive, send)
        else:
            if scope["method"] == "HEAD" and "GET" in self.allowed_methods.find(scope["path"]):
                scope = {**scope, "method": "GET"}  # the connection leaves the body away
            await self.node.request_gate.pass_on(super().__call__, scope, receive, send)


STANDALONE_API = (standalone, node_status)
"""What a node without a database answers beside predictions."""
OUTPOST_API = (*STANDALONE_API, here)
"""What an outpost answers beside predictions."""


def make_app(node: Node, api: Sequence[ModuleType] = _API, console: bool = True) -> App:
    """The app of one node. api : modules with routers. console : whether the console is served."""

    @contextlib.asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        async with running(node):
            yield

    app = App(
        title="Lamp Post",
        version=lamppost.__version__,
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url=None,
        summary="Trained models in service",
        separate_input_output_schemas=False,
        generate_unique_id_function=lambda route: route.name,  # the names of functions in clients that generators make
    )
    app.node = app.state.node = node
    app.state.contracts = openapi_document.EndpointPaths()
    app.include_router(openapi_document.router)
    for module in api:
        app.include_router(module.router)
    app.add_exception_handler(LampPostError, _on_error)
    app.add_exception_handler(RequestValidationError, _on_invalid)
    app.add_exception_handler(HTTPException, _on_http)
    app.add_exception_handler(Exception, _on_fault)
    routes = [*openapi_document.router.routes, *(route for module in api for route in module.router.routes)]
    app.state.paths = frozenset(getattr(route, "path", "") for route in routes)
    app.allowed_methods = AllowedMethods(routes)
    if console:
        mount_console(app, node.forwarding.base)
    if node.settings.cors_origins:
        app.cors = CORSMiddleware(
            app.answer,
            allow_origins=node.settings.cors_origins,
            allow_methods=["GET", "POST", "PUT", "DELETE"],
            allow_headers=["Authorization", "Content-Type", "Answer-Within", "Priority", "Traceparent"],
            expose_headers=["Server-Timing", "Retry-After", "Content-Disposition"],
            max_age=600,
        )
    return app


def problem(error: LampPostError) -> Response:
    """An error as a response."""
    headers = {name.decode(): value.decode() for name, value in problem_headers(error)}
    body = orjson.dumps(error.to_problem(), default=str)
    return Response(body, error.status, headers, media_type="application/problem+json")


async def _on_error(request: Request, error: Exception) -> Response:
    assert isinstance(error, LampPostError)
    if isinstance(error, OnOtherNode):
        try:
            return await pass_on(request, request.app.state.node, error)
        except LampPostError as fault:
            error = fault
    return problem(error)


async def _on_invalid(_: Request, error: Exception) -> Response:
    """The problem document of an API body or parameter that Pydantic refuses."""
    assert isinstance(error, RequestValidationError)
    faults: list[dict[str, Any]] = [
        {"field": ".".join(str(part) for part in fault["loc"][1:]) or str(fault["loc"][0]), "expected": fault["msg"]}
        for fault in error.errors()[:20]
    ]
    refused = BadRequest("; ".join(f"{fault['field']}: {fault['expected']}" for fault in faults), faults=faults)
    refused.status = 422
    return problem(refused)


async def _on_http(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    if isinstance(error.__cause__, LampPostError):  # of the body's bounds, while FastAPI read it
        return problem(error.__cause__)
    if error.status_code == 404:
        return problem(NotFound(f"there is nothing at {request.url.path}; addresses are in /openapi.json"))
    if error.status_code == 400:
        return problem(BadJson("the body is not JSON, or not text in UTF-8; see /docs for what is expected"))
    if error.status_code == 405:
        error.detail = (
            f"{request.method} is no way to call {request.url.path}; it takes {(error.headers or {}).get('allow', 'other methods')}"
        )
    http_problem = LampPostError(str(error.detail))
    http_problem.status, http_problem.title = error.status_code, HTTPStatus(error.status_code).phrase
    response = problem(http_problem)
    response.headers.update(error.headers or {})
    return response


async def _on_fault(_: Request, error: Exception) -> Response:
    return problem(LampPostError(f"the service failed on this request ({type(error).__name__}); its log has more"))
