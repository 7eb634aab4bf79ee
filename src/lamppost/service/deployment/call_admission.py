"""The steps of a call that need to know what this node serves; HTTP's handler and gRPC's server take them here.

The fast path takes the same steps without awaiting anything (see `lamppost.service.http.fast_path`).
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import nullcontext

from lamppost.runtime.lane_options import RequestOptions
from lamppost.service.auth import Auth
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.prediction.call import PredictionCall
from lamppost.service.prediction.predictors import Headers, PredictionInput, PredictionOutput, Predictor, SingleVersion
from lamppost.service.prediction.request_ids import traceparent_among
from lamppost.service.prediction.side_thread import is_small_body, run_beside


class CallAdmission:
    """Lets calls in, binds them to what answers, and has them answered."""

    def __init__(self, auth: Auth, deployment: Deployment) -> None:
        self._auth = auth
        self._deployment = deployment

    async def admit_and_bind(self, headers: Headers, call: PredictionCall, address: str | None = None) -> Predictor:
        """Check the token in the headers and bind the call. A call that the fast path handed over is admitted already."""
        if call.token is None:
            call.admit(self._auth, await self._auth.identify("POST", headers, address))
            call.trace = traceparent_among(headers)
        return await self.bind(call)

    async def bind(self, call: PredictionCall) -> Predictor:
        """Bind the call to what its endpoint serves now, which is woken if it is asleep."""
        route, predictor = await self._deployment.waking.awake(call.endpoint)
        call.bind(predictor, route.hooks, str(route.in_force.version), route.setup.lenient)
        return predictor

    async def predict(
        self, call: PredictionCall, predictor: Predictor, read: Callable[[], PredictionInput], size_bytes: int, options: RequestOptions
    ) -> PredictionOutput:
        """Read the rows of a bound call, and have them answered. read : reads and checks them. size_bytes : of what it reads.

        What is large is read beside the event loop. Between binding a single version and its queue nothing is awaited for a small body,
        so its lane cannot close; in all other cases the lanes are kept open.
        """
        small = is_small_body(call.content_type, size_bytes)
        bare = small and isinstance(predictor, SingleVersion)
        with nullcontext() if bare else self._deployment.kept_open(call.endpoint, predictor):
            given = read() if small else await run_beside(read)
            call.validated(given)
            output = await predictor.predict(given, options)
        call.answered(output)
        return output
