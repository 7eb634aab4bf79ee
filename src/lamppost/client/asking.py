"""The parts of the two clients that ask and change more than predictions; each method is one of `lamppost.client.questions`."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, TypeVar

from lamppost.client import calls, questions
from lamppost.client.calls import Call
from lamppost.client.questions import Answer

T = TypeVar("T")


class ClientQuestions:
    """Of the synchronous client."""

    def _run(self, call: Call[T]) -> T:
        raise NotImplementedError

    def predict_frame(
        self, endpoint: str, frame: Any, options: Mapping[str, Any] | None = None, headers: Mapping[str, str] | None = None
    ) -> Any:
        """The answers to every row of a frame, as a pandas frame with its index; parts of an answer have columns such as ``scores.fails``.

        frame : of pandas, or of a library that gives its columns as Arrow (polars and others), or an Arrow table.

        It travels as Arrow. Whole numbers that the frame holds as 4.0 go as whole numbers; columns that are no fields are left out.
        ``attrs`` of the answers has the version and the request's id.
        """
        return self._run(questions.predict_frame(endpoint, frame, options, headers))

    def ask_version(self, version: str, rows: Any) -> Answer:
        """The answers of ``model@number``, whether or not an endpoint serves it; nothing is recorded. rows : as in `predict`."""
        return self._run(questions.ask_version(version, rows))

    def explain(
        self, endpoint: str, row: Any = None, call: str | None = None, options: Mapping[str, Any] | None = None, **terms: Any
    ) -> Answer:
        """Explain the answer to a row, or to a recorded call by its id: what each field contributed, what would change it, a rule for it.

        terms : `wanted` (some of ``contributions``, ``changes``, ``rule``), `together`, `limit` (that a number is to pass) or `label` (that
        changes should give), `rows` and `seconds` (what it may cost), `cases` (how many of the tried rows are listed), `version`, `at_row`
        (of a call). Nothing is recorded but that an explanation was made.
        """
        return self._run(questions.explain(endpoint, row, call, options, terms))

    def explain_curve(
        self, endpoint: str, field: str, row: Any = None, call: str | None = None, options: Mapping[str, Any] | None = None
    ) -> Answer:
        """The answer as one field goes through its range in training, while everything else of a row stays."""
        return self._run(questions.explain_curve(endpoint, field, row, call, options))

    def endpoints(self) -> list[Answer]:
        """All endpoints: state, what they serve, their last hour."""
        answer: list[Answer] = self._run(calls.fetch("GET", "/api/endpoints"))
        return answer

    def describe(self, endpoint: str) -> Answer:
        """An endpoint: fields of requests and answers, state, setup, history, last hour."""
        return self._run(questions.describe_endpoint(endpoint))

    def models(self) -> list[Answer]:
        """All models, with their owners and purposes."""
        answer: list[Answer] = self._run(calls.fetch("GET", "/api/models"))
        return answer

    def versions(self, model: str | None = None) -> list[Answer]:
        """Versions of one model, or of all: digest, proof, what serves them, what opening them measured."""
        answer: list[Answer] = self._run(calls.fetch("GET", "/api/versions", model=model))
        return answer

    def describe_version(self, version: str) -> Answer:
        """A version: fields, steps, provenance."""
        answer: Answer = self._run(calls.fetch("GET", questions.version_path(version)))
        return answer

    def calls(self, endpoint: str | None = None, limit: int = 50) -> list[Answer]:
        """The last calls, newest first."""
        answer: list[Answer] = self._run(calls.fetch("GET", "/api/calls", endpoint=endpoint, limit=limit))
        return answer

    def logs(self, about: str | None = None, since: str | None = None, level: str = "info", limit: int = 500) -> Answer:
        """The newest ``lines`` that the service, its workers and their code wrote, of all nodes, oldest first; ``silent`` names nodes that
        did not answer. about : an endpoint, version, node, worker or source. since : RFC 3339 [an hour ago].
        """
        answer: Answer = self._run(calls.fetch("GET", "/api/logs", about=about, since=since, level=level, limit=limit))
        return answer

    def drift(self, endpoint: str) -> Answer:
        """Whether rows and answers still look like training."""
        answer: Answer = self._run(calls.fetch("GET", calls.endpoint_path(endpoint, "/drift")))
        return answer

    def traffic(self, endpoint: str) -> Answer:
        """Calls, errors and percentiles over the last hour."""
        answer: Answer = self._run(calls.fetch("GET", calls.endpoint_path(endpoint, "/traffic")))
        return answer

    def quality(self, endpoint: str) -> Answer:
        """The quality of answers, as far as the truth is known."""
        answer: Answer = self._run(calls.fetch("GET", calls.endpoint_path(endpoint, "/quality")))
        return answer

    def alerts(self) -> list[Answer]:
        """Open alerts."""
        answer: list[Answer] = self._run(calls.fetch("GET", "/api/alerts"))
        return answer

    def record_outcomes(self, endpoint: str, outcomes: Any) -> Answer:
        """Report the truth about many answers: rows or a frame with ``request_id``, ``truth``, and ``row`` where a request had several.

        A frame that `predict_frame` gave needs the column ``truth`` only.
        """
        return self._run(questions.record_outcomes(endpoint, outcomes))

    def split(
        self,
        endpoint: str,
        shares: Mapping[str, float],
        sticky: Mapping[str, str] | None = None,
        break_callers: bool = False,
        override: str | None = None,
    ) -> Answer:
        """Give several versions shares of the calls: ``{"outage-risk@1": 90, "outage-risk@2": 10}``. sticky : see `roll_out`."""
        return self._run(questions.split(endpoint, shares, sticky, break_callers, override))

    def shadow(self, endpoint: str, version: str, share: float = 100.0) -> Answer:
        """Copy a share of the calls to a version whose answers are never given to callers; 0 removes it."""
        return self._run(questions.shadow(endpoint, version, share))

    def retire(
        self, version: str, undo: bool = False, replace_with: str | None = None, break_callers: bool = False, override: str | None = None
    ) -> Answer:
        """Keep a version from being served, or let it be served again; it stays stored. replace_with : the version that takes its place in
        every endpoint; all of it happens, or nothing.
        """
        body = questions.retire_body(undo, replace_with, break_callers, override)
        answer: Answer = self._run(calls.fetch("POST", questions.version_path(version, "/retire"), body))
        return answer

    def callers(self, endpoint: str) -> list[Answer]:
        """The tokens that called an endpoint within the last week, the one with most calls first."""
        answer: list[Answer] = self._run(calls.fetch("GET", calls.endpoint_path(endpoint, "/callers")))
        return answer

    def delete_endpoint(self, endpoint: str, break_callers: bool = False, for_good: bool = False) -> Answer:
        """Delete an endpoint; its records stay, and it can be given back for a day. Raise Conflict where it was called within the last
        week, unless ``break_callers``. for_good : without that day; also for an endpoint that was deleted already.
        """
        answer: Answer = self._run(calls.fetch("DELETE", calls.endpoint_path(endpoint), break_callers=break_callers, for_good=for_good))
        return answer

    def restore_endpoint(self, endpoint: str) -> Answer:
        """Give back an endpoint that was deleted within the last day, as it was."""
        answer: Answer = self._run(calls.fetch("POST", calls.endpoint_path(endpoint, "/restore")))
        return answer

    def deleted_endpoints(self) -> list[Answer]:
        """The endpoints that can be given back."""
        answer: list[Answer] = self._run(calls.fetch("GET", "/api/deleted-endpoints"))
        return answer

    def delete_version(self, version: str) -> Answer:
        """Delete a version that nothing refers to; returns what that freed. Its number is never used again, its records stay."""
        answer: Answer = self._run(calls.fetch("DELETE", questions.version_path(version)))
        return answer

    def delete_model(self, model: str) -> Answer:
        """Delete all versions of a model, if nothing refers to any of them."""
        answer: Answer = self._run(calls.fetch("DELETE", questions.model_path(model)))
        return answer

    def tokens(self) -> list[Answer]:
        """All tokens, without their secrets."""
        answer: list[Answer] = self._run(calls.fetch("GET", "/api/tokens"))
        return answer

    def make_token(
        self,
        name: str,
        role: str = "caller",
        endpoints: Sequence[str] | None = None,
        expires_at: str | None = None,
        rate_per_s: float | None = None,
    ) -> Answer:
        """Make a token; its ``secret`` is given this once. endpoints : the only ones that a caller may ask. expires_at : RFC 3339."""
        answer: Answer = self._run(calls.fetch("POST", "/api/tokens", questions.token_body(name, role, endpoints, expires_at, rate_per_s)))
        return answer

    def rotate_token(self, name: str, keep_former_s: int = 3_600) -> Answer:
        """Give a token a new ``secret``, given this once; the former one stays in force for so many seconds."""
        rotated: Answer = self._run(calls.fetch("POST", f"{questions.token_path(name)}/rotate", {"keep_former_s": keep_former_s}))
        return rotated

    def revoke_token(self, name: str) -> None:
        """End a token at once."""
        self._run(calls.fetch("DELETE", questions.token_path(name)))


class AsyncClientQuestions:
    """Of the client for asyncio."""

    async def _run(self, call: Call[T]) -> T:
        raise NotImplementedError

    async def predict_frame(
        self, endpoint: str, frame: Any, options: Mapping[str, Any] | None = None, headers: Mapping[str, str] | None = None
    ) -> Any:
        """See `Client.predict_frame`."""
        return await self._run(questions.predict_frame(endpoint, frame, options, headers))

    async def ask_version(self, version: str, rows: Any) -> Answer:
        """See `Client.ask_version`."""
        return await self._run(questions.ask_version(version, rows))

    async def explain(
        self, endpoint: str, row: Any = None, call: str | None = None, options: Mapping[str, Any] | None = None, **terms: Any
    ) -> Answer:
        """See `Client.explain`."""
        return await self._run(questions.explain(endpoint, row, call, options, terms))

    async def explain_curve(
        self, endpoint: str, field: str, row: Any = None, call: str | None = None, options: Mapping[str, Any] | None = None
    ) -> Answer:
        """See `Client.explain_curve`."""
        return await self._run(questions.explain_curve(endpoint, field, row, call, options))

    async def endpoints(self) -> list[Answer]:
        """See `Client.endpoints`."""
        answer: list[Answer] = await self._run(calls.fetch("GET", "/api/endpoints"))
        return answer

    async def describe(self, endpoint: str) -> Answer:
        """See `Client.describe`."""
        return await self._run(questions.describe_endpoint(endpoint))

    async def models(self) -> list[Answer]:
        """See `Client.models`."""
        answer: list[Answer] = await self._run(calls.fetch("GET", "/api/models"))
        return answer

    async def versions(self, model: str | None = None) -> list[Answer]:
        """See `Client.versions`."""
        answer: list[Answer] = await self._run(calls.fetch("GET", "/api/versions", model=model))
        return answer

    async def describe_version(self, version: str) -> Answer:
        """See `Client.describe_version`."""
        answer: Answer = await self._run(calls.fetch("GET", questions.version_path(version)))
        return answer

    async def calls(self, endpoint: str | None = None, limit: int = 50) -> list[Answer]:
        """See `Client.calls`."""
        answer: list[Answer] = await self._run(calls.fetch("GET", "/api/calls", endpoint=endpoint, limit=limit))
        return answer

    async def logs(self, about: str | None = None, since: str | None = None, level: str = "info", limit: int = 500) -> Answer:
        """See `Client.logs`."""
        answer: Answer = await self._run(calls.fetch("GET", "/api/logs", about=about, since=since, level=level, limit=limit))
        return answer

    async def drift(self, endpoint: str) -> Answer:
        """See `Client.drift`."""
        answer: Answer = await self._run(calls.fetch("GET", calls.endpoint_path(endpoint, "/drift")))
        return answer

    async def traffic(self, endpoint: str) -> Answer:
        """See `Client.traffic`."""
        answer: Answer = await self._run(calls.fetch("GET", calls.endpoint_path(endpoint, "/traffic")))
        return answer

    async def quality(self, endpoint: str) -> Answer:
        """See `Client.quality`."""
        answer: Answer = await self._run(calls.fetch("GET", calls.endpoint_path(endpoint, "/quality")))
        return answer

    async def alerts(self) -> list[Answer]:
        """See `Client.alerts`."""
        answer: list[Answer] = await self._run(calls.fetch("GET", "/api/alerts"))
        return answer

    async def record_outcomes(self, endpoint: str, outcomes: Any) -> Answer:
        """See `Client.record_outcomes`."""
        return await self._run(questions.record_outcomes(endpoint, outcomes))

    async def split(
        self,
        endpoint: str,
        shares: Mapping[str, float],
        sticky: Mapping[str, str] | None = None,
        break_callers: bool = False,
        override: str | None = None,
    ) -> Answer:
        """See `Client.split`."""
        return await self._run(questions.split(endpoint, shares, sticky, break_callers, override))

    async def shadow(self, endpoint: str, version: str, share: float = 100.0) -> Answer:
        """See `Client.shadow`."""
        return await self._run(questions.shadow(endpoint, version, share))

    async def retire(
        self, version: str, undo: bool = False, replace_with: str | None = None, break_callers: bool = False, override: str | None = None
    ) -> Answer:
        """See `Client.retire`."""
        body = questions.retire_body(undo, replace_with, break_callers, override)
        answer: Answer = await self._run(calls.fetch("POST", questions.version_path(version, "/retire"), body))
        return answer

    async def callers(self, endpoint: str) -> list[Answer]:
        """See `Client.callers`."""
        answer: list[Answer] = await self._run(calls.fetch("GET", calls.endpoint_path(endpoint, "/callers")))
        return answer

    async def delete_endpoint(self, endpoint: str, break_callers: bool = False, for_good: bool = False) -> Answer:
        """See `Client.delete_endpoint`."""
        answer: Answer = await self._run(
            calls.fetch("DELETE", calls.endpoint_path(endpoint), break_callers=break_callers, for_good=for_good)
        )
        return answer

    async def restore_endpoint(self, endpoint: str) -> Answer:
        """See `Client.restore_endpoint`."""
        answer: Answer = await self._run(calls.fetch("POST", calls.endpoint_path(endpoint, "/restore")))
        return answer

    async def deleted_endpoints(self) -> list[Answer]:
        """See `Client.deleted_endpoints`."""
        answer: list[Answer] = await self._run(calls.fetch("GET", "/api/deleted-endpoints"))
        return answer

    async def delete_version(self, version: str) -> Answer:
        """See `Client.delete_version`."""
        answer: Answer = await self._run(calls.fetch("DELETE", questions.version_path(version)))
        return answer

    async def delete_model(self, model: str) -> Answer:
        """See `Client.delete_model`."""
        answer: Answer = await self._run(calls.fetch("DELETE", questions.model_path(model)))
        return answer

    async def tokens(self) -> list[Answer]:
        """See `Client.tokens`."""
        answer: list[Answer] = await self._run(calls.fetch("GET", "/api/tokens"))
        return answer

    async def make_token(
        self,
        name: str,
        role: str = "caller",
        endpoints: Sequence[str] | None = None,
        expires_at: str | None = None,
        rate_per_s: float | None = None,
    ) -> Answer:
        """See `Client.make_token`."""
        answer: Answer = await self._run(
            calls.fetch("POST", "/api/tokens", questions.token_body(name, role, endpoints, expires_at, rate_per_s))
        )
        return answer

    async def rotate_token(self, name: str, keep_former_s: int = 3_600) -> Answer:
        """See `Client.rotate_token`."""
        rotated: Answer = await self._run(calls.fetch("POST", f"{questions.token_path(name)}/rotate", {"keep_former_s": keep_former_s}))
        return rotated

    async def revoke_token(self, name: str) -> None:
        """See `Client.revoke_token`."""
        await self._run(calls.fetch("DELETE", questions.token_path(name)))
