"""Which answer of an endpoint outcomes are about, and when an answer is right."""

from __future__ import annotations

from typing import Any

from lamppost.core.endpoint.agreement import main_answer
from lamppost.core.errors import BadRequest
from lamppost.core.monitoring.quality import is_number, is_right
from lamppost.core.names import parse_version
from lamppost.core.schema.fields import Field, Schema, find_field
from lamppost.service.deployment.deployment import Deployment
from lamppost.store import packages
from lamppost.store.database import Pool


def truth_field(answers: Schema, name: str | None) -> Field:
    """The answer that outcomes are about."""
    if name is None:
        return main_answer(answers)
    field = find_field(answers, name)
    if field is None:
        raise BadRequest(f"monitoring.truth is {name!r}, which is no answer; there are {', '.join(answers.names)}")
    return field


def answer_is_right(answer: Any, truth: Any, field: Field, spread: float | None) -> bool:
    """Whether an answer is the truth; a number is within a tenth of its spread in training."""
    if field.kind in ("number", "integer"):
        return answer is not None and is_number(answer) and abs(float(answer) - float(truth)) <= 0.1 * (spread or 0.0)
    return is_right(answer, truth)


async def truth_field_of(pool: Pool, deployment: Deployment, endpoint: str, version: str) -> tuple[Field, float | None]:
    """The answer of a version that outcomes are about, and its spread in training."""
    lamp = await deployment.package_cache.lamp_of((await packages.get_version(pool, parse_version(version))).digest)
    route = deployment.table.by_endpoint.get(endpoint)
    field = truth_field(lamp.manifest.answers, route.setup.monitoring.truth if route is not None else None)
    profiles = lamp.reference.answers if lamp.reference is not None else ()
    return field, next((profile.sd for profile in profiles if profile.name == field.name), None)
