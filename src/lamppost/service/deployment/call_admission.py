"""The steps of a call that need to know what this node serves; HTTP's handler and gRPC's server take them here.

The fast path takes the same steps without awaiting anything (see `lamppost.service.http.fast_path`).
"""

from __future__ import annotations

from contextlib import nullcontext

from lamppost.runtime.lane_options import RequestOptions
from lamppost.service.auth import Auth
from lamppost.service.deployment.deployment import Deployment
from lamppost.service.prediction.call import PredictionCall
from lamppost.service.prediction.predictors import Headers, PredictionInput, PredictionOutput, Predictor, SingleVersion
from lamppost.service.prediction.request_ids import traceparent_among


class CallAdmission:
    """Lets calls in, binds them to what answers, and has them answered."""

    def __init__(self, auth: Auth, deployment: Deployment) -> None:
        self._auth = auth
        self._deployment = deployment

    async def admit_and_bind(self, headers: Headers, call: PredictionCall) -> Predictor:
        """Check the token in the headers and bind the call. A call that the fast path handed over is admitted already."""
        if call.token is None:
            call.admit(self._auth, await self._auth.identify("POST", headers))
            call.trace = traceparent_among(headers)
        return await self.bind(call)

    async def bind(self, call: PredictionCall) -> Predictor:
        """Bind the call to what its endpoint serves now, which is woken if it is asleep."""
        route, predictor = await self._deployment.waking.awake(call.endpoint)
        call.bind(predictor, route.hooks, str(route.in_force.version), route.setup.lenient)
        return predictor

    async def predict(
        self, call: PredictionCall, predictor: Predictor, given: PredictionInput, options: RequestOptions
    ) -> PredictionOutput:
        """Have a validated call answered.

        Between binding a single version and its queue nothing is awaited, so its lane cannot close; other predictors look something up
        or ask several lanes, which are kept open meanwhile.
        """
        with nullcontext() if isinstance(predictor, SingleVersion) else self._deployment.kept_open(call.endpoint, predictor):
            output = await predictor.predict(given, options)
        call.answered(output)
        return output
