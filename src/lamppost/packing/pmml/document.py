"""Reads a PMML document as a tree of elements, within bounds: no entities, no document types, no deep nesting.

PMML is the Predictive Model Markup Language of the Data Mining Group (DMG), https://dmg.org/pmml/v4-4-1/GeneralStructure.html.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, NoReturn
from xml.parsers import expat

from lamppost.core.errors import BadRequest

MAX_BYTES = 128 * 2**20
MAX_ELEMENTS = 2_000_000
MAX_DEPTH = 250
_NAMESPACE = re.compile(r"https?://www\.dmg\.org/PMML-(3|4)_[0-9](_[0-9])?")
_TEXTS = re.compile(r'"((?:[^"\\]|\\.)*)"|(\S+)')


class PmmlRefused(BadRequest):
    """A PMML document is damaged, or uses something that is not supported; the text names it and its line."""


@dataclass(slots=True)
class Element:
    """One element. tag : without its namespace. text : between its tags, without that of its children. line : where it begins."""

    tag: str
    attributes: dict[str, str]
    line: int
    children: list[Element] = field(default_factory=list)
    text: str = ""

    def refuse(self, problem: str) -> NoReturn:
        """Raise PmmlRefused that names this element."""
        raise PmmlRefused(f"line {self.line}, {self.tag}: {problem}")

    def get(self, name: str, default: str | None = None) -> str:
        """An attribute; raise PmmlRefused if it is not there and has no default."""
        value = self.attributes.get(name, default)
        return self.refuse(f"the attribute {name} is missing") if value is None else value

    def one_of(self, name: str, known: tuple[str, ...], default: str | None = None) -> str:
        """An attribute with one of some values; raise PmmlRefused for another."""
        value = self.get(name, default)
        return value if value in known else self.refuse(f"{name}={value!r} is not supported; {', '.join(known)} are")

    def number(self, name: str, default: float | None = None) -> float:
        """An attribute that is a number."""
        if default is not None and name not in self.attributes:
            return default
        return self.as_number(self.get(name), name)

    def as_number(self, text: str, what: str = "a value") -> float:
        """A text of this element as a finite number; raise PmmlRefused for one that is none."""
        try:
            value = float(text)
        except ValueError:
            value = math.nan
        return value if math.isfinite(value) else self.refuse(f"{what} is {text[:40]!r}, which is no number")

    def find(self, tag: str) -> Element | None:
        """The first child of that name."""
        return next((child for child in self.children if child.tag == tag), None)

    def need(self, tag: str) -> Element:
        """The first child of that name; raise PmmlRefused if there is none."""
        return self.find(tag) or self.refuse(f"it has no {tag}")

    def all(self, *tags: str) -> Iterator[Element]:
        """The children of these names."""
        return (child for child in self.children if child.tag in tags)

    def only(self, *tags: str) -> None:
        """Raise PmmlRefused if there is a child of another name. Extensions are meant to be ignored, and are."""
        for child in self.children:
            if child.tag not in tags and child.tag != "Extension":
                child.refuse(f"it is not known, or not supported, within {self.tag}")

    def array(self) -> list[str]:
        """The entries of an Array: numbers, or texts in quotation marks."""
        if self.get("type", "string") != "string":
            return self.text.split()
        return [re.sub(r"\\(.)", r"\1", quoted) or bare for quoted, bare in _TEXTS.findall(self.text)]


def read_document(path: Path) -> Element:
    """The root element of a file; raise PmmlRefused for one that is no PMML."""
    size = path.stat().st_size
    if size > MAX_BYTES:
        raise PmmlRefused(f"{path} has {size:,} bytes; a PMML document may have {MAX_BYTES:,}")
    return parse_document(path.read_bytes())


def parse_document(content: bytes) -> Element:
    """The root element; raise PmmlRefused for what is no PMML. The parser never opens anything that the document names."""
    parser = expat.ParserCreate(namespace_separator="}")
    parser.buffer_text = True
    stack: list[Element] = []
    roots: list[Element] = []
    counted = 0

    def begin(name: str, attributes: dict[str, str]) -> None:
        nonlocal counted
        counted += 1
        namespace, _, tag = name.rpartition("}")
        if not stack and (tag != "PMML" or (namespace and not _NAMESPACE.fullmatch(namespace))):
            raise PmmlRefused(f"the document's root is {name.replace('}', ' ')[:120]}; a PMML element of version 3 or 4 is expected")
        if len(stack) >= MAX_DEPTH or counted > MAX_ELEMENTS:
            most = f"nested {MAX_DEPTH} deep" if len(stack) >= MAX_DEPTH else f"{MAX_ELEMENTS:,} in all"
            raise PmmlRefused(f"line {parser.CurrentLineNumber}: elements may be {most}, and this document goes beyond that")
        element = Element(tag, {key.rpartition("}")[2]: value for key, value in attributes.items()}, parser.CurrentLineNumber)
        (stack[-1].children if stack else roots).append(element)
        stack.append(element)

    def more_text(text: str) -> None:
        if stack:
            stack[-1].text += text

    def refuse(*_: Any) -> NoReturn:
        raise PmmlRefused(f"line {parser.CurrentLineNumber}: a PMML document has no document type and no entities of its own")

    parser.StartElementHandler = begin
    parser.EndElementHandler = lambda _: stack.pop()
    parser.CharacterDataHandler = more_text
    parser.StartDoctypeDeclHandler = parser.EntityDeclHandler = parser.ExternalEntityRefHandler = refuse
    try:
        parser.Parse(content, True)
    except expat.ExpatError as error:
        raise PmmlRefused(f"the document is no well-formed XML: {error}") from error
    return roots[0]
