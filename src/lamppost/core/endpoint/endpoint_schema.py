"""Derives the fields, options and answers of an endpoint, whichever of its versions answers.

Versions of which one answers are merged to the widest schema, and each row is then checked against the schema of its own version
(`fit_rows`). Versions that answer together are merged to the tightest schema: a row must be valid for all of them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any, Literal

from lamppost.core.artifact.manifest import Manifest
from lamppost.core.endpoint.remote_endpoints import is_remote
from lamppost.core.endpoint.setup import EndpointSetup, EnsembleSetup, LookupSetup, VersionChoice
from lamppost.core.endpoint.shares import Shares
from lamppost.core.errors import Conflict, Fault, InvalidRows
from lamppost.core.names import closest_name
from lamppost.core.payload.fault_gathering import MAX_FAULTS
from lamppost.core.payload.validation_plan import Row
from lamppost.core.schema.fields import Field, Schema, find_field, shape_holds
from lamppost.core.schema.images import BadImage, check_header
from lamppost.core.schema.value_kinds import shortened_json

WHICH = "version"
"""The answer that says which version gave it, where rows of one request go to several."""


@dataclass(frozen=True, slots=True)
class EndpointSchema:
    """The schemas that callers see. inputs, options : of requests. answers : of replies. header : the header by which callers choose a
    version; None for none.
    """

    inputs: Schema
    options: Schema | None
    answers: Schema
    header: str | None = None


def endpoint_schema(setup: EndpointSetup, manifests: Mapping[str, Manifest]) -> EndpointSchema:
    """The schema of a setup. manifests : of its versions. Raise Conflict, with the reason, when the versions do not fit together."""
    if setup.choose is not None:
        schema = _chosen(setup.choose, manifests)
    elif setup.together is not None:
        schema = _together(setup.together, manifests)
    elif setup.shares is not None:
        schema = _shared(setup.shares, manifests)
    else:
        manifest = manifests[str(setup.version)]
        schema = EndpointSchema(manifest.inputs, manifest.options, manifest.answers)
    for lookup in setup.lookups:
        schema = replace(schema, inputs=_looked_up(lookup, schema.inputs))
    return schema


def _looked_up(lookup: LookupSetup, inputs: Schema) -> Schema:
    if unknown := [name for name in lookup.fields if name not in inputs.names]:
        like = closest_name(unknown[0], inputs.names)
        raise Conflict(f"the look-up gives {unknown[0]!r}, which is no input" + (f"; did you mean {like}?" if like else ""))
    rest = [field for field in inputs if field.name not in lookup.fields]
    key = find_field(rest, lookup.key)
    if key is None:
        kind = lookup.key_kind or "text"
        rest.insert(
            0,
            Field(
                lookup.key, kind, example=lookup.example, meaning=f"key in the table {lookup.table}, which knows {', '.join(lookup.fields)}"
            ),
        )
    elif key.kind not in ("text", "choice", "integer"):
        raise Conflict(f"{lookup.key!r} is {key.expected_text()}, and a key is text or a whole number")
    return Schema(tuple(rest))


# -- one of several -----------------------------------------------------------------------------------------------------


def _chosen(choose: VersionChoice, manifests: Mapping[str, Manifest]) -> EndpointSchema:
    names = [*choose.cases.values(), *([choose.other] if choose.other else [])]
    parts = [manifests[name] for name in dict.fromkeys(names)]
    inputs = merge_schemas([part.inputs for part in parts], widest=True, what="field")
    lists = [part.options for part in parts if part.options is not None]
    options = merge_schemas(lists, widest=True, what="option") if lists else None
    if options is not None and len(lists) < len(parts):
        options = Schema(tuple(_optional(field) for field in options))
    answers = _answers(parts)
    if choose.by == "header":
        return EndpointSchema(inputs, options, answers, choose.name)
    if choose.by == "field":
        if WHICH in answers.names:
            raise Conflict(f"an answer is called {WHICH!r} already, which is to say which version gave it")
        which = Field(WHICH, "text", meaning="the version that gave this answer")
        return EndpointSchema(_with_chooser(choose, inputs), options, Schema((*answers, which)))
    return EndpointSchema(inputs, _with_chooser(choose, options or ()), answers)


def _with_chooser(choose: VersionChoice, schema: Iterable[Field]) -> Schema:
    fields = list(schema)
    there = find_field(fields, choose.name)
    if there is None:
        meaning = f"chooses the version that answers{'' if choose.other is None else '; any other value too'}"
        chooser = Field(
            choose.name,
            "choice",
            choices=tuple(choose.cases),
            unseen="refuse" if choose.other is None else "accept",
            missing=choose.other is not None,
            example=next(iter(choose.cases)),
            meaning=meaning,
        )
        return Schema((chooser, *fields))
    if there.kind not in ("choice", "text", "integer", "yes/no"):
        raise Conflict(
            f"{choose.name!r} is {there.expected_text()}; a version is chosen by a choice, text, a whole number, or true and false"
        )
    if there.kind == "choice" and there.unseen == "refuse" and (odd := [case for case in choose.cases if case not in there.choices]):
        like = closest_name(odd[0], there.choices)
        raise Conflict(f"{choose.name} is never {odd[0]!r}" + (f"; did you mean {like}?" if like else ""))
    if choose.other is None and there.kind == "choice":
        example = there.example if there.example in choose.cases else next(iter(choose.cases))
        known = replace(there, choices=tuple(choose.cases), unseen="refuse", missing=False, default=None, example=example)
        fields[fields.index(there)] = known
    return Schema(tuple(fields))


def _answers(parts: Sequence[Manifest]) -> Schema:
    first = parts[0].answers
    for part in parts[1:]:
        if part.answers.names != first.names:
            raise Conflict(
                f"{parts[0].name} answers {', '.join(first.names)} and {part.name} answers {', '.join(part.answers.names)}; "
                "behind one endpoint all give the same answers"
            )
    return merge_schemas([part.answers for part in parts], widest=True, what="answer")


def _shared(shares: Shares, manifests: Mapping[str, Manifest]) -> EndpointSchema:
    """The schema of shares: a row must be valid for every version, because any may get it; answers are merged to the widest."""
    parts = [manifests[name] for name in shares.of]
    inputs = merge_schemas([part.inputs for part in parts], widest=False, what="field")
    lists = [part.options for part in parts if part.options is not None]
    options = merge_schemas(lists, widest=False, what="option") if lists else None
    answers = _answers(parts)
    sticky = shares.sticky
    if sticky is None:
        return EndpointSchema(inputs, options, answers)
    if sticky.by == "header":
        return EndpointSchema(inputs, options, answers, sticky.name)
    if sticky.by == "option":
        return EndpointSchema(inputs, _with_key(sticky.name, options or ()), answers)
    if WHICH in answers.names:
        raise Conflict(f"an answer is called {WHICH!r} already, which is to say which version gave it")
    which = Field(WHICH, "text", meaning="the version that gave this answer")
    return EndpointSchema(_with_key(sticky.name, inputs), options, Schema((*answers, which)))


def _with_key(name: str, schema: Iterable[Field]) -> Schema:
    fields = list(schema)
    there = find_field(fields, name)
    if there is None:
        meaning = "whoever sends the same value gets answers of the same version"
        return Schema((Field(name, "text", missing=True, example="lamp-17", meaning=meaning), *fields))
    if there.kind not in ("choice", "text", "integer", "yes/no"):
        raise Conflict(f"{name!r} is {there.expected_text()}; callers are told apart by a choice, text, a whole number, or true and false")
    return Schema(tuple(fields))


# -- several together ---------------------------------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class PartAnswer:
    """An answer of a part, as whatever combines the parts takes it. answer : its field in the part's answers. choice : the element of a
    vector, None for the answer itself.
    """

    part: str
    answer: Field
    choice: str | None = None

    def as_field(self, name: str) -> Field:
        """As a field of a row."""
        return replace(self.answer, name=name) if self.choice is None else Field(name, "number")

    def value(self, row: Row) -> Any:
        """Its value in an answer row of the part."""
        value = row[self.answer.name]
        if self.choice is not None:
            return value[self.choice]
        return datetime.fromisoformat(value) if self.answer.kind == "time" and isinstance(value, str) else value


def part_schemas(together: EnsembleSetup, manifests: Mapping[str, Manifest]) -> dict[str, EndpointSchema]:
    """What each part promises, and what combines them, by version or address; raise Conflict for an address that was not asked yet."""
    schemas = {}
    for name in dict.fromkeys(together.names):
        of = together.description_of(name) if is_remote(name) else manifests[name]
        schemas[name] = EndpointSchema(of.inputs, of.options, of.answers)
    return schemas


def part_answers(together: EnsembleSetup, schemas: Mapping[str, EndpointSchema]) -> dict[str, PartAnswer]:
    """The answers of parts by the names that whatever combines them may take them under: ``part.answer``, ``part.answer.choice`` of a
    vector, and ``answer`` alone where one part gives that and none takes it.
    """
    given: dict[str, PartAnswer] = {}
    bare: dict[str, list[PartAnswer]] = defaultdict(list)
    for part, name in together.parts.items():
        for field in schemas[name].answers:
            if field.kind == "vector":
                given |= {f"{part}.{field.name}.{choice}": PartAnswer(part, field, choice) for choice in field.choices}
            else:
                given[f"{part}.{field.name}"] = PartAnswer(part, field)
                bare[field.name].append(given[f"{part}.{field.name}"])
    taken = {field for name in together.parts.values() for field in (*schemas[name].inputs.names, *(schemas[name].options or ()))}
    return given | {name: answers[0] for name, answers in bare.items() if len(answers) == 1 and name not in taken and name not in given}


def _together(together: EnsembleSetup, manifests: Mapping[str, Manifest]) -> EndpointSchema:
    promised = part_schemas(together, manifests)
    combine = promised[together.combine]
    given = part_answers(together, promised)
    own: list[Field] = []
    for field in combine.inputs:
        if field.name not in given:
            if "." in field.name and field.name.partition(".")[0] in together.parts:
                raise Conflict(f"{together.combine} takes {field.name!r}; the parts give {', '.join(list(given)[:20])}")
            own.append(field)
        elif not _holds(field, answer := given[field.name].as_field(field.name)):
            raise Conflict(f"{together.combine} takes {field.name} as {field.expected_text()}, and the part gives {answer.expected_text()}")
    if len(own) == len(combine.inputs):
        raise Conflict(
            f"{together.combine} takes no answer of a part; its inputs are to be named such as {next(iter(given), 'part.answer')!r}"
        )
    parts = [promised[name] for name in dict.fromkeys(together.parts.values())]
    schemas = [part.inputs for part in parts] + ([Schema(tuple(own))] if own else [])
    inputs = merge_schemas(schemas, widest=False, what="field")
    lists = [part.options for part in (*parts, combine) if part.options is not None]
    return EndpointSchema(inputs, merge_schemas(lists, widest=False, what="option") if lists else None, combine.answers)


def _holds(field: Field, answer: Field) -> bool:
    texts = ("choice", "text")
    if field.kind == "tensor" == answer.kind:
        return shape_holds(field.shape, answer.shape) and (field.elements == "number" or answer.elements == "integer")
    return field.kind == answer.kind or (field.kind in texts and answer.kind in texts) or (field.kind, answer.kind) == ("number", "integer")


# -- merging ------------------------------------------------------------------------------------------------------------


def merge_schemas(schemas: Sequence[Schema], widest: bool, what: str) -> Schema:
    """One schema of several: the union (``widest``) or the intersection of what they accept. Raise Conflict when a name has different
    kinds.
    """
    names = dict.fromkeys(name for schema in schemas for name in schema.names)
    fields = []
    for name in names:
        there = [field for schema in schemas if (field := find_field(schema, name)) is not None]
        field = there[0]
        for other in there[1:]:
            field = _merged(field, other, widest, what)
        fields.append(_optional(field) if widest and len(there) < len(schemas) else field)
    return Schema(tuple(fields))


def _optional(field: Field) -> Field:
    """A field that only some versions have, as one that may be left out; `fit_rows` checks that versions which need it get it."""
    if field.kind in ("tensor", "vector"):
        raise Conflict(f"{field.name!r} is {field.expected_text()}, which cannot be missing, and not every version has it")
    return replace(field, missing=True, default=None)


def _merged(first: Field, second: Field, widest: bool, what: str) -> Field:
    if first.kind != second.kind or first.shape != second.shape or first.elements != second.elements or first.channels != second.channels:
        raise Conflict(f"the {what} {first.name!r} is {first.expected_text()} for one version and {second.expected_text()} for another")
    if first.kind == "vector" and first.choices != second.choices and (what != "answer" or set(first.choices) != set(second.choices)):
        raise Conflict(
            f"the {what} {first.name!r} has the elements {', '.join(first.choices)} in one version and {', '.join(second.choices)}"
        )
    lows, highs = (first.low, second.low), (first.high, second.high)
    if widest:
        choices = tuple(dict.fromkeys((*first.choices, *second.choices)))
        low = None if None in lows else min(low for low in lows if low is not None)
        high = None if None in highs else max(high for high in highs if high is not None)
        unseen: Literal["refuse", "accept"] = "accept" if "accept" in (first.unseen, second.unseen) else "refuse"
        missing, size = first.missing or second.missing, first.size if first.size == second.size else None
        missing = missing or (first.default is None) != (second.default is None)
    else:
        choices = tuple(choice for choice in first.choices if choice in second.choices)
        if first.kind == "choice" and first.unseen == "accept" == second.unseen:
            choices = tuple(dict.fromkeys((*first.choices, *second.choices)))
        low = max((low for low in lows if low is not None), default=None)
        high = min((high for high in highs if high is not None), default=None)
        unseen = "refuse" if "refuse" in (first.unseen, second.unseen) else "accept"
        missing, size = first.missing and second.missing, first.size or second.size
        if (first.kind == "choice" and not choices) or (None not in (low, high) and low > high):  # type: ignore[operator]
            raise Conflict(f"no value of the {what} {first.name!r} is right for all: {first.expected_text()}, and {second.expected_text()}")
        if first.size and second.size and first.size != second.size:
            raise Conflict(f"the {what} {first.name!r} is {first.expected_text()} for one version and {second.expected_text()} for another")
    return replace(
        first,
        low=low,
        high=high,
        choices=choices,
        unseen=unseen,
        missing=missing and first.kind not in ("tensor", "vector"),
        size=size,
        default=first.default if first.default == second.default else None,
        example=first.example if widest or first.example in choices or first.kind != "choice" else choices[0],
        seen=None
        if first.seen is None or second.seen is None
        else (min(first.seen[0], second.seen[0]), max(first.seen[1], second.seen[1])),
        private=first.private or second.private,
    )


# -- a row of the promise as a row of one version -----------------------------------------------------------------------


def fit_rows(rows: Sequence[Row], columns: Schema, known: Schema, version: str, ignored: str | None = None) -> list[Row]:
    """Rows of the merged schema as one version takes them: with its own fields, defaults and limits. columns : inputs and options of the
    version. known : inputs and options of the endpoint. ignored : a field that only chose the version. Raise InvalidRows with every fault
    (50 at most); rows are counted in ``rows``.
    """
    faults: list[Fault] = []
    others = [field for field in known if field.name not in columns.names and field.name != ignored]
    for field in others:
        for row, values in enumerate(rows):
            if values[field.name] is not None:
                faults.append(Fault(row, field.name, _shown(field, values[field.name]), f"nothing, because {version} has no such field"))
    checks = [(field, find_field(known, field.name)) for field in columns]
    tight = [field for field, merged_field in checks if field != merged_field]
    fitted = [{name: values[name] for name in columns.names} for values in rows]
    for field in tight:
        for row, values in enumerate(fitted):
            value = values[field.name]
            if value is None and field.default is not None:
                values[field.name] = datetime.fromisoformat(str(field.default)) if field.kind == "time" else field.default
            elif not field_allows(field, value):
                faults.append(Fault(row, field.name, _shown(field, value), f"{field.expected_text()}, for {version}"))
    if faults:
        faults.sort(key=lambda fault: fault.row or 0)
        more = f"; and {len(faults) - 1} more fault{'s' if len(faults) > 2 else ''}" if len(faults) > 1 else ""
        shown = [fault.to_dict() for fault in faults[:MAX_FAULTS]]
        raise InvalidRows(faults[0].sentence() + more, faults=shown, fault_count=len(faults))
    return fitted


def field_allows(field: Field, value: Any) -> bool:
    """Whether this field accepts a value that a wider field of the same kind accepts."""
    if value is None:
        return field.missing
    if field.kind in ("number", "integer"):
        return (field.low is None or value >= field.low) and (field.high is None or value <= field.high)
    if field.kind == "tensor":
        return (field.low is None or value.min() >= field.low) and (field.high is None or value.max() <= field.high)
    if field.kind == "choice":
        return field.unseen == "accept" or value in field.choices
    if field.kind == "image":
        try:
            check_header(field, value)
        except BadImage:
            return False
    return True


def _shown(field: Field, value: Any) -> str:
    return "a private value" if field.private else shortened_json(value)
