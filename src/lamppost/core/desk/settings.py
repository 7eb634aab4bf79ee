"""What the owner of a desk has set: its title and texts, and how fields and answers are called."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cache
from typing import Any, ClassVar, Literal

from pydantic import TypeAdapter, ValidationError

from lamppost.core.errors import BadRequest

AnswerState = Literal["fine", "look", "act"]
USUAL_KEEP_DAYS = 30
MOST_KEEP_DAYS = 366
_CLOSED = {"extra": "forbid", "allow_inf_nan": False}
_MOST_TEXT = 5_000


@dataclass(frozen=True, slots=True)
class FieldWords:
    """A field or option as people read it. label : instead of its name. hint : one line below it. shown : whether it is asked for.

    value : as text, of a field that is not asked for; None for its default.
    """

    label: str | None = None
    hint: str | None = None
    shown: bool = True
    value: str | None = None

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class AnswerWords:
    """What an answer is called, and what it asks for: nothing (``fine``), a look (``look``) or that somebody acts (``act``)."""

    text: str
    state: AnswerState | None = None

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class NumberRange:
    """What an answer that is a number means from ``least`` upwards; the range with the highest ``least`` that it reaches counts."""

    least: float
    text: str
    state: AnswerState | None = None

    __pydantic_config__: ClassVar = _CLOSED


@dataclass(frozen=True, slots=True)
class DeskSettings:
    """title, introduction : at the top of the desk. use : what it may be used for, and what not, in the owner's words.

    answer : which answer is the main one, None for the first. fields, options : by name. answers : by label; a yes/no answer has the labels
    ``yes`` and ``no``. ranges : of an answer that is a number. keep_days : for so long results of files stay.
    """

    title: str
    introduction: str = ""
    use: str = ""
    answer: str | None = None
    fields: dict[str, FieldWords] = field(default_factory=dict)
    options: dict[str, FieldWords] = field(default_factory=dict)
    answers: dict[str, AnswerWords] = field(default_factory=dict)
    ranges: tuple[NumberRange, ...] = ()
    keep_days: int = USUAL_KEEP_DAYS

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        if not self.title.strip() or len(self.title) > 200:
            raise BadRequest("a desk needs a title of up to 200 characters")
        for name, text in (("introduction", self.introduction), ("use", self.use)):
            if len(text) > _MOST_TEXT:
                raise BadRequest(f"the {name} of a desk has up to {_MOST_TEXT:,} characters, and this one {len(text):,}")
        if not 1 <= self.keep_days <= MOST_KEEP_DAYS:
            raise BadRequest(f"a desk keeps results for 1 to {MOST_KEEP_DAYS} days, and not {self.keep_days}")

    def words_of(self, name: str) -> FieldWords:
        """How a field or an option is called; its own name where nothing was set."""
        return self.fields.get(name) or self.options.get(name) or FieldWords()

    def label_of(self, name: str) -> str:
        """What people call a field or an option."""
        return self.words_of(name).label or name


@cache
def _settings() -> TypeAdapter[DeskSettings]:
    return TypeAdapter(DeskSettings)


def read_settings(document: Any) -> DeskSettings:
    """The settings that a document describes; raise BadRequest for what is none."""
    try:
        return _settings().validate_python(document)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        raise BadRequest(f"{'.'.join(map(str, first['loc'])) or 'the desk'}: {first['msg'].lower()}") from error


def write_settings(settings: DeskSettings) -> dict[str, Any]:
    """The settings as a JSON document."""
    document: dict[str, Any] = _settings().dump_python(settings, mode="json", exclude_defaults=True)
    return document
