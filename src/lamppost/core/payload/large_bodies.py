r"""Cuts a large JSON body into blocks of rows, and finds the keys of its outermost object, without parsing it.

A parser holds the interpreter until it is done. Blocks of some hundred rows keep it for a moment each, so that other calls go on meanwhile.
Whether what is cut is JSON at all is for the parser to say: nothing between two tokens is looked at, or lost.
"""

from __future__ import annotations

import itertools
import re
from dataclasses import dataclass

import orjson

_TEXT = rb'"[^"\\]*(?:\\.[^"\\]*)*"'
_TOKEN = re.compile(rb"(" + _TEXT + rb')[ \t\r\n]*(:?)|\[[^\[\]{}"]*\]|[\[{]|[\]}]', re.DOTALL)
_COMMA = re.compile(rb"[ \t\r\n]*,")
_DEEPEST = 20
"""A tensor of eight axes, in a row, in a list of rows, is less deep."""
BLOCK_KEYS = 8_000
"""Keys of a block of rows: they take a few milliseconds to read."""


class TooManyKeys(Exception):
    """An object has more keys than any row has."""


class TooManyItems(Exception):
    """A column has more values than there may be rows."""


class UnclosedRows(Exception):
    """The list of rows has no end, or is nested too deep, or its rows are not separated by commas."""


@dataclass(frozen=True, slots=True)
class RowBlocks:
    """first : a whole body with the first rows and all that stands beside them. later : lists of rows that follow."""

    first: bytes
    later: list[bytes]


def outer_keys(body: bytes, most: int, most_rows: int) -> list[str]:
    r"""The keys of the outermost object. Raise TooManyKeys for more than ``most``, TooManyItems for a column of more than ``most_rows``.

    >>> outer_keys(b'{"a": {"b": 1}, "rows": [{"c": ":"}]}', 5, 10)
    ['a', 'rows']
    """
    keys: list[str] = []
    depth = items = 0
    for token in _TOKEN.finditer(body):
        is_text = token[0][:1] == b'"'
        if is_text and depth == 1 and token[2]:
            keys.append(_text_of(token[1]))
            if len(keys) > most:
                raise TooManyKeys
        if depth >= 2 and keys and keys[-1] == "columns":  # a list at depth 2 is a column, whole or token by token
            items = items + 1 if depth == 3 else token[0].count(b",") if depth == 2 and not is_text else 0
            if items > most_rows:
                raise TooManyItems
        if not is_text:
            depth += _depth_change(token[0])
            if depth > _DEEPEST:  # for the parser to refuse
                break
    return keys


def cut_rows(body: bytes, keys_per_row: int) -> RowBlocks:
    """Blocks of a body that begins with its rows. Raise UnclosedRows for a body that cannot be cut.

    keys_per_row : most keys of one row, those of objects within it included; raise TooManyKeys for a row with more.
    """
    depth = keys = since = 0
    ends: list[int] = []  # of the blocks, behind the last row of each
    last = array_end = -1
    for token in _TOKEN.finditer(body):
        if token[0][:1] == b'"':
            if depth >= 3 and token[2]:
                keys += 1
                if keys > keys_per_row:
                    raise TooManyKeys
            continue
        depth += _depth_change(token[0])
        if depth > _DEEPEST:
            raise UnclosedRows
        if depth == 2 and token[0][:1] in b"]}":
            last, since, keys = token.end(), since + keys, 0
            if since >= BLOCK_KEYS:
                ends.append(last)
                since = 0
        elif depth == 1 and token[0][:1] == b"]":
            array_end = token.start()
            break
    if array_end < 0:
        raise UnclosedRows
    beside = (True for token in _TOKEN.finditer(body, array_end) if token[2])
    if next(itertools.islice(beside, keys_per_row, None), False):
        raise TooManyKeys
    if not ends:
        return RowBlocks(body, [])
    later = []
    for start, end in zip(ends, [*ends[1:], array_end], strict=True):
        if not body[start:end].strip():
            continue  # nothing follows the last block but the end of the list
        comma = _COMMA.match(body, start, end)
        if comma is None:
            raise UnclosedRows
        later.append(b"[" + body[comma.end() : end] + b"]")
    return RowBlocks(body[: ends[0]] + body[array_end:], later)


def _depth_change(token: bytes) -> int:
    """What a token that is no text does to the depth: a whole list of numbers nothing."""
    if len(token) > 1:
        return 0
    return 1 if token in b"[{" else -1


def _text_of(raw: bytes) -> str:
    try:
        return str(orjson.loads(raw))
    except ValueError:
        return ""
