"""Connections to the nodes of another service: which of them a call goes to, and what its end means.

Each node has one connection, on which calls go side by side. A node that does not answer is left out until it answers again; it is asked
for that every few seconds. A call that no node has begun to answer is tried once more, at another node where there is one: predictions
change nothing, so that is safe.
"""

from __future__ import annotations

import asyncio
import logging
import re
from collections.abc import Sequence
from dataclasses import dataclass
from random import random
from typing import Any

import grpc
import orjson

from lamppost.core.errors import DeadlinePassed, Fault, InvalidRows, LampPostError, ModelFault, Unavailable
from lamppost.core.payload.fault_gathering import MAX_FAULTS
from lamppost.service.grpc import predict_pb2 as pb
from lamppost.service.service_addresses import ServiceAddresses

log = logging.getLogger("lamppost.remote")

MOST_ANSWER_BYTES = 64 * 2**20
"""Of one message that is taken from another service."""
CALLS_OUT_MOST = 4
"""Calls of one endpoint that are out at one node; what comes meanwhile gathers and goes together."""
_CODES = grpc.StatusCode
_METHODS: dict[str, tuple[Any, Any]] = {"Predict": (pb.PredictRequest, pb.PredictReply), "Describe": (pb.DescribeRequest, pb.DescribeReply)}
_OPTIONS = [
    ("grpc.max_receive_message_length", MOST_ANSWER_BYTES),
    ("grpc.max_send_message_length", -1),
    ("grpc.keepalive_time_ms", 20_000),
    ("grpc.keepalive_timeout_ms", 5_000),
    ("grpc.initial_reconnect_backoff_ms", 200),
    ("grpc.max_reconnect_backoff_ms", 2_000),
    ("grpc.enable_retries", 0),
    ("grpc.enable_http_proxy", 0),
    ("grpc.lb_policy_name", "round_robin"),
]
_LIBRARY_WORDS = re.compile(r"^connections to all backends failing; last error: |^last error: |\b(?:UNKNOWN|UNAVAILABLE): |\bipv[46]:")
"""What the library says beside what went wrong."""
Metadata = Sequence[tuple[str, str]]


@dataclass(slots=True)
class RemoteNode:
    """One node of a service. answers : whether it answered when it was last asked. trouble : why not. calls : that are out."""

    target: str
    channel: grpc.aio.Channel
    answers: bool = True
    trouble: str = ""
    calls: int = 0


class RemoteConnections:
    """The connections to one service. name : as the operator gave it."""

    def __init__(self, name: str, addresses: ServiceAddresses) -> None:
        self.name = name
        self._addresses = addresses
        self._token: str | None = None
        credentials = self._credentials() if addresses.tls else None
        self.nodes = [RemoteNode(target, _channel(target, credentials)) for target in addresses.targets]

    def _credentials(self) -> grpc.ChannelCredentials:
        file = self._addresses.ca_file
        try:
            return grpc.ssl_channel_credentials(None if file is None else file.read_bytes())
        except OSError as error:
            raise Unavailable(f"the certificates of {self.name} cannot be read: {error.strerror}", retry_after_s=10) from error

    @property
    def calls_at_once(self) -> int:
        """How many calls of one endpoint may be out, by the nodes that answer."""
        return CALLS_OUT_MOST * max(1, sum(node.answers for node in self.nodes))

    @property
    def trouble(self) -> str | None:
        """What is wrong with the nodes, in one sentence; None where nothing is."""
        lost = [f"{node.target} ({node.trouble})" for node in self.nodes if not node.answers]
        return f"{self.name}: no answer from {', '.join(lost)}" if lost else None

    @property
    def answers(self) -> bool:
        """Whether any node answers."""
        return any(node.answers for node in self.nodes)

    async def read_token(self) -> None:
        """Read the file with the token anew; raise Unavailable where that cannot be done."""
        if (file := self._addresses.token_file) is None:
            return
        try:
            self._token = (await asyncio.to_thread(file.read_text, "ascii")).strip()
        except (OSError, UnicodeDecodeError) as error:
            reason = getattr(error, "strerror", None) or "it is no text"
            raise Unavailable(f"the token for {self.name} cannot be read from {file}: {reason}", retry_after_s=5) from error

    async def ask(self, method: str, message: Any, timeout_s: float, metadata: Metadata = (), most_s: float | None = None) -> Any:
        """Ask any node that answers, and once another one if the first did not begin to answer; raise what `as_error` makes of the end.

        most_s : so long one node may take, for a question that another one may be asked as well; then the other one is asked.
        """
        tried: list[RemoteNode] = []
        while True:
            node = self._pick(tried)
            tried.append(node)
            loop = asyncio.get_running_loop()
            begun = loop.time()
            try:
                return await self.ask_node(node, method, message, min(timeout_s, most_s or timeout_s), metadata)
            except grpc.aio.AioRpcError as error:
                timeout_s -= loop.time() - begun
                slow = most_s is not None and error.code() == _CODES.DEADLINE_EXCEEDED
                if (error.code() != _CODES.UNAVAILABLE and not slow) or len(tried) > 1 or timeout_s <= 0:
                    raise as_error(self.name, error) from error

    async def ask_node(self, node: RemoteNode, method: str, message: Any, timeout_s: float, metadata: Metadata = ()) -> Any:
        """Ask one node, and note whether it answers; raise AioRpcError."""
        if self._token is None:
            await self.read_token()
        request, reply = _METHODS[method]
        call = node.channel.unary_unary(
            f"/lamppost.v1.Prediction/{method}", request_serializer=request.SerializeToString, response_deserializer=reply.FromString
        )
        signed = [*metadata] if self._token is None else [*metadata, ("authorization", f"Bearer {self._token}")]
        node.calls += 1
        try:
            said = await call(message, timeout=timeout_s, metadata=signed)
        except grpc.aio.AioRpcError as error:
            self._note(node, problem_of(error) is not None or error.code() not in (_CODES.UNAVAILABLE, _CODES.DEADLINE_EXCEEDED), error)
            if error.code() == _CODES.UNAUTHENTICATED:
                self._token = None  # it may have been changed: read the file again for the next call
            raise
        finally:
            node.calls -= 1
        self._note(node, True)
        return said

    def _pick(self, tried: Sequence[RemoteNode]) -> RemoteNode:
        """The node with the fewest calls among those that answer and were not tried; any, where none is left."""
        left = [node for node in self.nodes if node not in tried] or list(tried)
        return min([node for node in left if node.answers] or left, key=lambda node: (node.calls, random()))

    def _note(self, node: RemoteNode, answers: bool, error: grpc.aio.AioRpcError | None = None) -> None:
        if answers != node.answers:
            log.log(
                logging.INFO if answers else logging.WARNING,
                "%s at %s %s",
                self.name,
                node.target,
                "answers again" if answers else "does not answer",
            )
        node.answers = answers
        node.trouble = "" if answers or error is None else _short(error).removeprefix(f"{node.target}: ")

    async def close(self) -> None:
        """Close every connection."""
        await asyncio.gather(*(node.channel.close() for node in self.nodes))


def _channel(target: str, credentials: grpc.ChannelCredentials | None) -> grpc.aio.Channel:
    if credentials is None:
        return grpc.aio.insecure_channel(target, _OPTIONS)
    return grpc.aio.secure_channel(target, credentials, _OPTIONS)


def problem_of(error: grpc.aio.AioRpcError) -> dict[str, Any] | None:
    """The problem document at the end of a call, None where there is none."""
    for key, value in error.trailing_metadata() or ():
        if key == "problem-bin":
            try:
                problem = orjson.loads(value)
            except ValueError:
                return None
            return problem if isinstance(problem, dict) and isinstance(problem.get("detail"), str) else None
    return None


def as_error(name: str, error: grpc.aio.AioRpcError) -> LampPostError:
    """What the end of a call to another service means for whoever waits here."""
    problem, code = problem_of(error), error.code()
    detail = str(problem["detail"])[:1_000] if problem is not None else _short(error)
    faults = None if problem is None else problem.get("faults")
    if code == _CODES.INVALID_ARGUMENT and isinstance(faults, list):
        read = [_read_fault(fault).to_dict() for fault in faults[:MAX_FAULTS] if isinstance(fault, dict)]
        return InvalidRows(detail, faults=read, fault_count=len(read))
    if code == _CODES.DEADLINE_EXCEEDED:
        return DeadlinePassed(f"{name} did not answer in time")
    if code in (_CODES.UNAUTHENTICATED, _CODES.PERMISSION_DENIED):
        return Unavailable(
            f"{name} does not let this service in ({detail}); the operator gives it a token there: --remote", retry_after_s=10
        )
    if code in (_CODES.UNAVAILABLE, _CODES.RESOURCE_EXHAUSTED, _CODES.NOT_FOUND, _CODES.CANCELLED):
        return Unavailable(f"{name} cannot answer: {detail}", retry_after_s=1)
    if code == _CODES.UNIMPLEMENTED:
        return ModelFault(f"{name} is no Lamp Post service of this version: {detail}")
    return ModelFault(f"{name} failed: {detail}")


def _read_fault(fault: dict[str, Any]) -> Fault:
    """A fault as another service tells it, and nothing else of what it says."""
    row = fault.get("row")
    told = {name: None if fault.get(name) is None else str(fault[name])[:200] for name in ("field", "given", "expected", "hint")}
    at = row if isinstance(row, int) and not isinstance(row, bool) and row >= 0 else None
    return Fault(at, told["field"], told["given"] or "", told["expected"] or "", told["hint"])


def is_unknown(error: LampPostError) -> bool:
    """Whether a service said that it has no such endpoint."""
    cause = error.__cause__
    return isinstance(cause, grpc.aio.AioRpcError) and cause.code() == _CODES.NOT_FOUND


def _short(error: grpc.aio.AioRpcError) -> str:
    if error.code() == _CODES.DEADLINE_EXCEEDED:
        return "it did not answer in time"
    text = str(error.details() or error.code().name.lower().replace("_", " ")).partition("\n")[0]
    return _LIBRARY_WORDS.sub("", text)[:300]
