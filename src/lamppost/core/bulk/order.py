"""What a bulk run is asked to do, as one document that is kept with the run."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cache
from typing import Any, ClassVar, Literal

from pydantic import TypeAdapter, ValidationError

from lamppost.core.bulk.reason_terms import ReasonTerms
from lamppost.core.bulk.run_report import RunReport
from lamppost.core.errors import BadRequest
from lamppost.core.names import VersionName, check_name, closest_name, parse_version

Format = Literal["csv", "ndjson", "parquet", "arrow", "xlsx"]
Compression = Literal["gzip", "zstd"]

SUFFIXES: dict[str, Format] = {
    ".csv": "csv",
    ".ndjson": "ndjson",
    ".jsonl": "ndjson",
    ".parquet": "parquet",
    ".arrow": "arrow",
    ".feather": "arrow",
    ".arrows": "arrow",
    ".xlsx": "xlsx",
}
COMPRESSIONS: dict[str, Compression] = {".gz": "gzip", ".zst": "zstd"}
UPLOADS = "upload"
"""What stands before the id of a file that a client has brought."""
MOST_QUESTIONS = 8
USUAL_MOST_REJECTS = 0.01

_CLOSED = {"extra": "forbid", "allow_inf_nan": False}
_NAMED = re.compile(r"([a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?):(?!//)(.+)", re.DOTALL)
_QUERY = re.compile(r"\s*(select|with|table|values)\b.*\s", re.IGNORECASE | re.DOTALL)


@dataclass(frozen=True, slots=True)
class Question:
    """One set of answers to each row. of : an endpoint, or a version. name : what its columns begin with, where there are several.

    options : of the calls.
    """

    of: str
    name: str = ""
    options: dict[str, Any] = field(default_factory=dict)

    __pydantic_config__: ClassVar = _CLOSED

    @property
    def version(self) -> VersionName | None:
        """The version that is asked; None where it is an endpoint."""
        return parse_version(self.of) if "@" in self.of else None

    @property
    def prefix(self) -> str:
        """What its columns begin with."""
        return f"{self.name}." if self.name else ""


@dataclass(frozen=True, slots=True)
class BulkOrder:
    """What to score, and where to.

    source : where the rows are: ``folder:path``, ``source:table``, ``source:SELECT …``, a URL, or ``upload:id``. The path may have * and
    ? and may be a folder. target : where the answers go, None for the service's own folder, from where they can be fetched.
    source_format, target_format : None where the file's suffix says it. delimiter : between the cells of a CSV file.
    sheet : of an XLSX file, None for the only one that holds anything.
    columns : by field, the column that holds it, where its name is another. constants : further columns, each with
    the text of a value that all rows have. keep : columns of the source that go into the output; ``*``
    for all of them.
    most_rejects : share of rows that may be rejected, 0 to 1. rows_per_second : most rows in a second, None for no bound.
    replace : whether a target that exists is replaced. key : columns of a target table by which its rows are replaced.
    report : about the finished run, None for none. reasons : of each answer, None for none.
    on : a cluster that answers, by its name or address; None for the node itself.
    """

    questions: tuple[Question, ...]
    source: str
    target: str | None = None
    source_format: Format | None = None
    target_format: Format | None = None
    delimiter: str = ","
    sheet: str | None = None
    columns: dict[str, str] = field(default_factory=dict)
    constants: dict[str, str] = field(default_factory=dict)
    keep: tuple[str, ...] = ()
    most_rejects: float = USUAL_MOST_REJECTS
    rows_per_second: float | None = None
    replace: bool = False
    key: tuple[str, ...] = ()
    report: RunReport | None = None
    reasons: ReasonTerms | None = None
    on: str | None = None

    __pydantic_config__: ClassVar = _CLOSED

    def __post_init__(self) -> None:
        if not 1 <= len(self.questions) <= MOST_QUESTIONS:
            raise BadRequest(f"a bulk run asks 1 to {MOST_QUESTIONS} endpoints or versions, this one asks {len(self.questions)}")
        for question in self.questions:
            if question.version is None:
                check_name(question.of, "endpoint")
            if question.name:
                check_name(question.name, "question")
        names = [question.name for question in self.questions]
        if len(names) > 1 and (len(set(names)) < len(names) or "" in names):
            raise BadRequest("a bulk run that asks several needs a name for each, all different; their columns begin with it")
        if not 0 <= self.most_rejects <= 1:
            raise BadRequest(f"the share of rows that may be rejected is a number from 0 to 1, and not {self.most_rejects:g}")
        if self.rows_per_second is not None and self.rows_per_second <= 0:
            raise BadRequest("the rows per second are a number above 0; leave them out for no bound")
        if len(self.delimiter) != 1 or self.delimiter in '"\r\n':
            raise BadRequest(f"a delimiter is one character other than a quote or a line break, and not {self.delimiter!r}")


@cache
def _orders() -> TypeAdapter[BulkOrder]:
    return TypeAdapter(BulkOrder)


def read_order(document: Any) -> BulkOrder:
    """The order that a document describes; raise BadRequest for what is none."""
    try:
        return _orders().validate_python(document)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        place = ".".join(map(str, first["loc"])) or "the order"
        raise BadRequest(f"{place}: {first['msg'].lower()}") from error


def write_order(order: BulkOrder) -> Any:
    """The order as a JSON document."""
    return _orders().dump_python(order, mode="json", exclude_defaults=True)


@dataclass(frozen=True, slots=True)
class Place:
    """A place as it is written. name : of a folder, a source or an upload, or the scheme of a URL. path : what follows. is_url : whether
    it is a URL; ``path`` is all of it then.
    """

    name: str
    path: str
    is_url: bool = False

    @property
    def is_query(self) -> bool:
        """Whether it reads as a query, and not as the name of a table."""
        return not self.is_url and _QUERY.match(self.path + " ") is not None and " " in self.path.strip()


def read_place(text: str) -> Place:
    """Read a place.

    >>> read_place("town:lamps/*.parquet")
    Place(name='town', path='lamps/*.parquet', is_url=False)

    Raise BadRequest for what is no place on a service.
    """
    scheme, mark, _ = text.partition("://")
    if mark and scheme.isalnum():
        return Place(scheme, text, is_url=True)
    match = _NAMED.fullmatch(text)
    if match is None:
        raise BadRequest(f"{text[:200]!r} is no place: write FOLDER:PATH, SOURCE:TABLE, SOURCE:SELECT …, or a URL")
    return Place(match[1], match[2])


def format_of_path(path: str) -> tuple[Format | None, Compression | None]:
    """Format and compression that the suffixes of a file say; None for what they do not.

    >>> format_of_path("lamps.csv.gz")
    ('csv', 'gzip')
    """
    compression = next((kind for suffix, kind in COMPRESSIONS.items() if path.lower().endswith(suffix)), None)
    bare = path.lower()[: path.rindex(".")] if compression else path.lower()
    return next((kind for suffix, kind in SUFFIXES.items() if bare.endswith(suffix)), None), compression


def rejects_path(path: str) -> str:
    """Where the rejects of an output go: ``scored.parquet`` has ``scored.rejects.ndjson`` beside it."""
    folder, slash, name = path.rpartition("/")
    return f"{folder}{slash}{name.partition('.')[0] or name}.rejects.ndjson"


def source_name(order: BulkOrder, found: Mapping[str, Any] | None) -> str:
    """What people call the source of an order: of an upload the name of its file. found : the files as they were found."""
    files = (found or {}).get("files") or []
    return str(files[0]["path"]) if order.source.startswith(f"{UPLOADS}:") and files else order.source


def require_format(path: str, stated: Format | None, option: str = "--format") -> tuple[Format, Compression | None]:
    """The same, where the format must be known: raise BadRequest if nobody says it. option : with which it can be said."""
    found, compression = format_of_path(path)
    if compression and "xlsx" in (stated, found):
        raise BadRequest(f"{path} is a sheet that was compressed once more; unpack it first, XLSX is compressed by itself")
    if stated or found:
        return stated or found, compression  # type: ignore[return-value]
    suffix = "." + path.rpartition(".")[2] if "." in path.rpartition("/")[2] else ""
    like = closest_name(suffix, SUFFIXES) if suffix else None
    raise BadRequest(
        f"{path} does not say its format; name it with {option} csv, ndjson, parquet, arrow or xlsx"
        + (f" (did you mean {like}?)" if like else f", or end it in {', '.join(SUFFIXES)}")
    )
