"""The gRPC server of a node: predictions, the standard health service, and reflection."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import AsyncIterator, Sequence
from functools import partial
from pathlib import Path
from typing import Any
from weakref import WeakKeyDictionary

import grpc
import orjson
from grpc_health.v1 import health_pb2, health_pb2_grpc
from grpc_reflection.v1alpha import reflection, reflection_pb2

from lamppost.core.endpoint.remote_endpoints import RemoteDescription, write_description
from lamppost.core.errors import LampPostError, SetupError, Unavailable
from lamppost.core.payload.coercion import MAX_LISTED
from lamppost.core.payload.text_formats import JSON
from lamppost.core.schema.fields import Schema
from lamppost.runtime.lane_options import RequestOptions
from lamppost.service.auth import Auth
from lamppost.service.deployment.call_admission import CallAdmission
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.grpc import predict_pb2 as pb
from lamppost.service.grpc.messages import read_predict_request, request_as_json_body, write_predict_reply
from lamppost.service.prediction import bodies
from lamppost.service.prediction.call import PredictionCall
from lamppost.service.prediction.predictors import PredictionInput, Predictor
from lamppost.service.records.recorder import Recorder
from lamppost.service.remote.hops import next_hop

log = logging.getLogger("lamppost.grpc")

GRPC = "application/grpc"
_SERVICE = pb.DESCRIPTOR.services_by_name["Prediction"].full_name
_STABLE_REFLECTION = "grpc.reflection.v1.ServerReflection"
_MOST_CALLS = 1_024
_WATCH_S = 0.5
_CODES = {
    401: grpc.StatusCode.UNAUTHENTICATED,
    403: grpc.StatusCode.PERMISSION_DENIED,
    404: grpc.StatusCode.NOT_FOUND,
    409: grpc.StatusCode.FAILED_PRECONDITION,
    429: grpc.StatusCode.RESOURCE_EXHAUSTED,
    500: grpc.StatusCode.INTERNAL,
    502: grpc.StatusCode.INTERNAL,
    504: grpc.StatusCode.DEADLINE_EXCEEDED,
    503: grpc.StatusCode.UNAVAILABLE,
}
Context = Any


class RefusedCall(Exception):
    """A call that ends with a status."""

    def __init__(self, error: LampPostError, problem: bytes, request_id: str) -> None:
        super().__init__(error.detail)
        self.error = error
        self.problem = problem
        self.request_id = request_id


class PredictionServicer:
    """``lamppost.v1.Prediction``."""

    def __init__(self, auth: Auth, deployment: Deployment, recorder: Recorder) -> None:
        self.auth = auth
        self._deployment = deployment
        self._described: WeakKeyDictionary[Predictor, tuple[tuple[str, int], bytes]] = WeakKeyDictionary()
        self._admission = CallAdmission(auth, deployment)
        self._recorder = recorder

    async def predict(self, message: pb.PredictRequest, context: Context) -> pb.PredictReply:
        """One request, one answer."""
        try:
            return await self._answer(message, context)
        except RefusedCall as refused:
            await _end(context, refused)
            raise

    async def predict_stream(self, messages: AsyncIterator[pb.PredictRequest], context: Context) -> AsyncIterator[pb.PredictReply]:
        """Requests in turn; the first that fails ends the stream."""
        async for message in messages:
            try:
                yield await self._answer(message, context)
            except RefusedCall as refused:
                await _end(context, refused)

    async def describe(self, message: pb.DescribeRequest, context: Context) -> pb.DescribeReply:
        """What an endpoint takes and answers; with ``wake`` also whether a circle of endpoints would ask itself."""
        call = PredictionCall(message.endpoint)
        try:
            headers = metadata_headers(context.invocation_metadata())
            call.admit(self.auth, await self.auth.identify("POST", headers, GRPC))
            hop = next_hop(headers, self._deployment.remote.mark_of(message.endpoint), message.endpoint)
            if message.wake:
                await self._deployment.waking.awake(message.endpoint)
            route = self._deployment.table.find_route(message.endpoint)
            if route.failure is not None:
                raise Unavailable(f"{message.endpoint} is down: {route.failure}", retry_after_s=5)
            if message.wake and route.setup.together is not None:
                await self._deployment.remote.check_no_circle(route.setup.together, hop.passed)
            reply = pb.DescribeReply(version=str(route.in_force.version), revision=route.in_force.revision)
            predictor = route.predictor
            if predictor is not None:
                key = (reply.version, reply.revision)
                known = self._described.get(predictor)
                if known is None or known[0] != key:  # other services ask every few seconds
                    known = self._described[predictor] = key, await asyncio.to_thread(_description, predictor, *key)
                reply.description = known[1]
            return reply
        except LampPostError as error:
            refused = RefusedCall(error, call.problem(error), call.request_id)
        except Exception:
            fault = call.own_fault()
            refused = RefusedCall(fault, call.problem(fault), call.request_id)
        await _end(context, refused)
        raise refused

    async def _answer(self, message: pb.PredictRequest, context: Context) -> pb.PredictReply:
        call = PredictionCall(message.endpoint)
        try:
            reply, body = await self._ask(message, context, call)
        except LampPostError as error:
            refused = RefusedCall(error, call.refuse(error), call.request_id)
        except Exception:
            fault = call.own_fault()
            refused = RefusedCall(fault, call.problem(fault), call.request_id)
        else:
            call.timer.mark("answer")
            for phase, seconds in call.timer.phases.items():
                reply.timing_ms[phase] = seconds * 1e3
            call.record(self._recorder, 200, body)
            return reply
        call.timer.mark("answer")
        call.record(self._recorder, refused.error.status, refused.problem)
        raise refused

    async def _ask(self, message: pb.PredictRequest, context: Context, call: PredictionCall) -> tuple[pb.PredictReply, bytes]:
        """The reply, and the answer as it is recorded."""
        headers = metadata_headers(context.invocation_metadata())
        predictor = await self._admission.admit_and_bind(headers, call)
        call.timer.mark("read")
        size_bytes = message.ByteSize()

        def read() -> PredictionInput:
            call.body = request_as_json_body(message)
            given = read_predict_request(message, call.body, predictor.plan, predictor.columns, call.coercions)
            if given.columns is not None:
                call.content_type = GRPC
            return given._replace(size_bytes=size_bytes, as_columns=given.columns is not None, headers=headers)

        left = context.time_remaining()
        deadline = None if left is None else asyncio.get_running_loop().time() + left
        options = RequestOptions(deadline=deadline, is_abandoned=context.cancelled, request_id=call.request_id)
        output = await self._admission.predict(call, predictor, read, size_bytes, options)
        given = call.input
        assert given is not None
        as_columns = given.columns is not None
        reply = write_predict_reply(predictor.answers, given, output.answer)
        reply.version, reply.request_id = output.version, call.request_id
        for coercion in (call.coercions or [])[:MAX_LISTED]:
            reply.changed.add(row=coercion.row, field=coercion.field, given=coercion.given, taken=coercion.taken or "")
        if as_columns:
            return reply, call.answer_as_json(GRPC)
        return reply, bodies.write_answer(predictor.answers, given, output.answer, JSON, call.envelope())


def _description(predictor: Predictor, version: str, revision: int) -> bytes:
    """What an endpoint takes and answers, as JSON."""
    inputs = predictor.plan.schema
    options = tuple(predictor.columns)[len(inputs) :]
    described = RemoteDescription(version, revision, inputs, predictor.answers, Schema(options) if options else None)
    return orjson.dumps(write_description(described))


async def _end(context: Context, refused: RefusedCall) -> None:
    """End a call with the status of an error, its sentence, and the whole problem in the trailing metadata."""
    code = _CODES.get(refused.error.status, grpc.StatusCode.INVALID_ARGUMENT)
    trailing = (("problem-bin", refused.problem), ("request-id", refused.request_id))
    await context.abort(code, str(orjson.loads(refused.problem)["detail"]), trailing)


class SignedInOnly(grpc.aio.ServerInterceptor):  # type: ignore[misc]
    """Ends predictions of callers who are not signed in before their messages are read."""

    def __init__(self, auth: Auth) -> None:
        self._auth = auth

    async def intercept_service(self, continuation: Any, details: grpc.HandlerCallDetails) -> Any:
        """The handler of a call, or one that reads nothing."""
        if not details.method.startswith(f"/{_SERVICE}/"):
            return await continuation(details)
        try:
            await self._auth.identify("POST", metadata_headers(details.invocation_metadata), "gRPC")
        except LampPostError as error:
            return grpc.stream_stream_rpc_method_handler(partial(self._end, error))
        return await continuation(details)

    async def _end(self, error: LampPostError, _: AsyncIterator[bytes], context: Context) -> AsyncIterator[bytes]:
        call = PredictionCall("")
        await _end(context, RefusedCall(error, call.problem(error), call.request_id))
        yield b""


def metadata_headers(metadata: Any) -> list[tuple[bytes, bytes]]:
    """The metadata of a call as headers."""
    return [(key.encode(), value.encode() if isinstance(value, str) else value) for key, value in metadata or ()]


class HealthServicer(health_pb2_grpc.HealthServicer):  # type: ignore[misc]
    """``grpc.health.v1``: the node under the empty name and the service's own, each endpoint under its name."""

    def __init__(self, deployment: Deployment) -> None:
        self._deployment = deployment

    def _status(self, service: str) -> int:
        statuses = health_pb2.HealthCheckResponse
        if service in ("", _SERVICE):
            return int(statuses.SERVING if self._deployment.table.settled else statuses.NOT_SERVING)
        route = self._deployment.table.by_endpoint.get(service)
        if route is None:
            return int(statuses.SERVICE_UNKNOWN)
        return int(statuses.NOT_SERVING if route.status.state == "down" else statuses.SERVING)

    async def Check(self, request: health_pb2.HealthCheckRequest, context: Context) -> health_pb2.HealthCheckResponse:  # noqa: N802
        """The status now."""
        status = self._status(request.service)
        if status == health_pb2.HealthCheckResponse.SERVICE_UNKNOWN:
            await context.abort(grpc.StatusCode.NOT_FOUND, f"there is no endpoint {request.service!r}")
        return health_pb2.HealthCheckResponse(status=status)

    async def Watch(self, request: health_pb2.HealthCheckRequest, context: Context) -> AsyncIterator[Any]:  # noqa: N802, ARG002
        """The status now, and whenever it changes."""
        last = None
        while True:
            if (status := self._status(request.service)) != last:
                last = status
                yield health_pb2.HealthCheckResponse(status=status)
            await asyncio.sleep(_WATCH_S)


def _stable_reflection(names: Sequence[str]) -> grpc.GenericRpcHandler:
    """Reflection under its present name, which newer clients ask for first. Its messages are those of v1alpha, so that servicer answers."""
    info = grpc.stream_stream_rpc_method_handler(
        reflection.aio.ReflectionServicer(names).ServerReflectionInfo,
        request_deserializer=reflection_pb2.ServerReflectionRequest.FromString,
        response_serializer=reflection_pb2.ServerReflectionResponse.SerializeToString,
    )
    return grpc.method_handlers_generic_handler(_STABLE_REFLECTION, {"ServerReflectionInfo": info})


class GrpcServer:
    """`start`, then `stop`. tls : files of a certificate chain and its key; None for plain connections."""

    def __init__(
        self,
        address: str,
        predictions: PredictionServicer,
        deployment: Deployment,
        max_body_bytes: int,
        tls: tuple[Path, Path] | None = None,
    ) -> None:
        self.address = address
        self._tls = tls
        handlers = {
            "Predict": grpc.unary_unary_rpc_method_handler(
                predictions.predict,
                request_deserializer=pb.PredictRequest.FromString,
                response_serializer=pb.PredictReply.SerializeToString,
            ),
            "PredictStream": grpc.stream_stream_rpc_method_handler(
                predictions.predict_stream,
                request_deserializer=pb.PredictRequest.FromString,
                response_serializer=pb.PredictReply.SerializeToString,
            ),
            "Describe": grpc.unary_unary_rpc_method_handler(
                predictions.describe,
                request_deserializer=pb.DescribeRequest.FromString,
                response_serializer=pb.DescribeReply.SerializeToString,
            ),
        }
        limits = [("grpc.max_receive_message_length", max_body_bytes), ("grpc.max_send_message_length", -1), ("grpc.so_reuseport", 0)]
        self._server = grpc.aio.server(interceptors=[SignedInOnly(predictions.auth)], options=limits, maximum_concurrent_rpcs=_MOST_CALLS)
        self._server.add_generic_rpc_handlers((grpc.method_handlers_generic_handler(_SERVICE, handlers),))
        health_pb2_grpc.add_HealthServicer_to_server(HealthServicer(deployment), self._server)
        names = (_SERVICE, health_pb2.DESCRIPTOR.services_by_name["Health"].full_name, reflection.SERVICE_NAME)
        reflection.enable_server_reflection(names, self._server)
        self._server.add_generic_rpc_handlers((_stable_reflection(names),))

    async def start(self) -> None:
        """Listen; raise SetupError where that cannot be."""
        try:
            if self._tls is None:
                self._server.add_insecure_port(self.address)
            else:
                self._server.add_secure_port(self.address, _credentials(*self._tls))
        except RuntimeError as error:
            raise SetupError(f"cannot listen for gRPC on {self.address}; choose another port with --grpc-port") from error
        await self._server.start()

    async def stop(self, grace_s: float = 10.0) -> None:
        """Take no more calls, and finish those in hand."""
        await self._server.stop(grace_s)


def _credentials(certificate: Path, key: Path) -> grpc.ServerCredentials:
    """The certificate of connections, read anew once its file has been replaced."""
    read_at = [_changed_at(certificate, key)]

    def pair() -> Any:
        return grpc.ssl_server_certificate_configuration([(key.read_bytes(), certificate.read_bytes())])

    def renewed() -> Any:
        changed_at = _changed_at(certificate, key)
        if changed_at == read_at[0]:
            return None
        read_at[0] = changed_at
        try:
            return pair()
        except (OSError, ValueError) as error:
            log.warning("the certificate %s cannot be read, connections go on with the former one: %s", certificate, error)
            return None

    return grpc.dynamic_ssl_server_credentials(pair(), renewed)


def _changed_at(*files: Path) -> float:
    return max((file.stat().st_mtime for file in files if file.exists()), default=0.0)
