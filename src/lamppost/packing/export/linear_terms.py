"""Takes sums apart: into an intercept and weighted terms, and scores into the sums that a normalization makes them of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from lamppost.packing.export.expressions import Expression, is_constant


@dataclass(frozen=True, slots=True)
class LinearSum:
    """``intercept + sum(weights * terms)``."""

    intercept: float
    terms: tuple[Expression, ...] = ()
    weights: tuple[float, ...] = ()

    @property
    def all_trees(self) -> bool:
        """Whether every term is a sum of trees."""
        return all(term.operation == "trees" for term in self.terms)


def linear_sum(root: Expression) -> LinearSum:
    """An expression as a sum. What is no sum, difference or multiple is one term. What is 0 for every finite number, with which graphs
    guard themselves against others, is left out.
    """
    intercept = 0.0
    weights: dict[int, float] = {}
    terms: dict[int, Expression] = {}
    stack = [(root, 1.0)]
    while stack:
        one, weight = stack.pop()
        scaled = _scaled(one)
        if _is_nothing(one):
            continue
        if is_constant(one):
            intercept += weight * float(one.value)
        elif one.operation in ("add", "subtract"):
            left, right = one.parts
            stack += [(right, weight if one.operation == "add" else -weight), (left, weight)]
        elif scaled is not None:
            stack.append((scaled[0], weight * scaled[1]))
        else:
            key = _key(one)
            terms[key] = one
            weights[key] = weights.get(key, 0.0) + weight
    return LinearSum(intercept, tuple(terms.values()), tuple(weights[key] for key in terms))


def _is_nothing(root: Expression) -> bool:
    """Whether an expression is 0 for every finite number."""
    stack = [root]
    while stack:
        one = stack.pop()
        if is_constant(one):
            if one.value != 0:
                return False
        elif one.operation == "choose":
            stack += one.parts[1:]
        elif one.operation == "add":
            stack += one.parts
        elif one.operation != "multiply" or not any(is_constant(part) and part.value == 0 for part in one.parts):
            return False
    return True


def _key(one: Expression) -> int:
    return hash((one.operation, one.value)) if one.operation == "number" else id(one)


def _scaled(one: Expression) -> tuple[Expression, float] | None:
    """What is multiplied by a constant, and by which."""
    if one.operation == "negate":
        return one.parts[0], -1.0
    if one.operation in ("multiply", "divide") and is_constant(one.parts[1]) and not is_constant(one.parts[0]):
        value = float(one.parts[1].value)
        if one.operation == "multiply":
            return one.parts[0], value
        return (one.parts[0], 1.0 / value) if value else None
    if one.operation == "multiply" and is_constant(one.parts[0]):
        return one.parts[1], float(one.parts[0].value)
    return None


def normalised(scores: Sequence[Expression]) -> tuple[str, list[LinearSum]]:
    """The standard's normalization that makes scores of sums, and these: logit, softmax, or none, where the scores are the sums."""
    if len(scores) == 2 and scores[1].operation == "sigmoid" and _is_rest(scores[0], scores[1]):
        total = linear_sum(scores[1].parts[0])
        opposite = LinearSum(-total.intercept, total.terms, tuple(-weight for weight in total.weights))
        return "logit", [opposite, LinearSum(0.0)]
    powers = [_power_of(one, scores[0]) for one in scores]
    if len(scores) > 1 and all(power is not None for power in powers):
        shift = powers[0].parts[1] if powers[0] is not None and powers[0].operation == "subtract" else None
        if all(power is not None and power.operation == "subtract" and power.parts[1] is shift for power in powers):
            return "softmax", [linear_sum(power.parts[0]) for power in powers if power is not None]
    return "none", [linear_sum(one) for one in scores]


def _is_rest(one: Expression, other: Expression) -> bool:
    return one.operation == "subtract" and is_constant(one.parts[0]) and one.parts[0].value == 1 and one.parts[1] is other


def _power_of(one: Expression, first: Expression) -> Expression | None:
    """The exponent of a share of exponentials that has the sum of the first one."""
    if one.operation != "divide" or first.operation != "divide" or one.parts[1] is not first.parts[1]:
        return None
    return one.parts[0].parts[0] if one.parts[0].operation == "exponential" else None
