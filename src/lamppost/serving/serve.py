"""`lamppost.serve`: packs, proves, pushes and points in one call, and returns the endpoint as an object."""

from __future__ import annotations

import html
import tempfile
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from lamppost.client import Client
from lamppost.core.errors import BadRequest
from lamppost.core.names import plain_name
from lamppost.core.quantities import few_names
from lamppost.packing.pack import pack
from lamppost.serving.own_service import connect_or_start

if TYPE_CHECKING:
    import pandas as pd

_SHOWN_FIELDS = 8
_CALL_COLUMNS = ["at", "request_id", "version", "token", "status", "rows", "batch_rows", "total_us", "input", "answer"]
_RECORDS_S = 30.0


def serve(
    model: Any,
    frame: Any,
    *,
    target: str | Sequence[str] | None = None,
    name: str | None = None,
    address: str | None = None,
    token: str | None = None,
    break_callers: bool = False,
    **packing: Any,
) -> ServedEndpoint:
    """Serve a fitted model: its lamp file is made, proven, pushed as the next version, and an endpoint of that name points at it.

    model, frame, target : as in `lamppost.pack`; so is everything else that is given by name. name : of the model and the endpoint [the
    target's name]. address, token : of the service [the configured one]; where none is configured and none runs, one is started for this
    interpreter in a folder of its own, and ends with it. break_callers : serve it although calls of the last hour would be refused.

    Raises what `lamppost.pack` and `lamppost.Client` raise.

    >>> endpoint = lamppost.serve(model, frame, target="failed")            # doctest: +SKIP
    >>> endpoint.predict(frame.head())                                      # doctest: +SKIP
    """
    targets = [target] if isinstance(target, str) else list(target or ())
    name = name or plain_name(targets[0] if targets else type(model).__name__)
    if not name:
        raise BadRequest("the endpoint needs a name; give one: serve(…, name='outage-risk')")
    with tempfile.TemporaryDirectory(prefix="lamppost-serve-") as folder:
        lamp = pack(model, frame, name=name, target=target, to=Path(folder) / f"{name}.lamp", **packing)
        connection = connect_or_start(address, token)
        client = Client(connection.address, connection.token)
        pushed = client.push(lamp)
    client.point(name, pushed, break_callers=break_callers)
    return ServedEndpoint(name, client, connection.address)


class ServedEndpoint:
    """An endpoint of a service. name, client : as they are. url : where programs in other languages ask it."""

    def __init__(self, name: str, client: Client, address: str) -> None:
        self.name = name
        self.client = client
        self.url = f"{address}/predict/{name}"

    def predict(self, rows: Any, options: Mapping[str, Any] | None = None) -> Any:
        """Answers to a data frame (of pandas, polars, Arrow) as a pandas frame with its index; to one row (a mapping, a Series) the answer
        itself: a label, a number, or a dict where there are several. Other rows get a list of dicts.
        """
        if hasattr(rows, "columns") and (hasattr(rows, "itertuples") or hasattr(rows, "__arrow_c_stream__")):
            return self.client.predict_frame(self.name, rows, options)
        series = hasattr(rows, "to_dict") and not hasattr(rows, "columns")
        if not series and not isinstance(rows, Mapping):
            return self.client.predict(self.name, rows, options).answers
        return _value(self.client.predict(self.name, self._whole(rows.to_dict()) if series else rows, options).answer)

    def _whole(self, row: Mapping[str, Any]) -> dict[str, Any]:
        """A row of a frame, where whole numbers beside others have become 4.0."""
        whole = {field["name"] for field in self.client.describe(self.name)["inputs"] if field["kind"] == "integer"}

        def exact(name: str, value: Any) -> Any:
            return int(value) if name in whole and isinstance(value, float) and value.is_integer() else value

        return {name: exact(name, value) for name, value in row.items()}

    @property
    def version(self) -> str | None:
        """What it serves, ``model@number``; None where it is several versions."""
        served: str | None = self.client.describe(self.name)["version"]
        return served

    def versions(self) -> pd.DataFrame:
        """Versions of the model: number, when and by whom it was pushed, what its proof showed, what serves it."""
        import pandas as pd

        listed = self.client.versions(self._model())
        return pd.DataFrame(listed, columns=["name", "pushed_at", "pushed_by", "proof", "serves", "size_bytes"]).set_index("name")

    def point(self, version: int | str | Mapping[str, Any], break_callers: bool = False) -> dict[str, Any]:
        """Serve another version: its number, its name, or what `lamppost.Client.push` returned."""
        named: str | Mapping[str, Any]
        named = f"{self._model()}@{version}" if isinstance(version, int) else version
        return self.client.point(self.name, named, break_callers=break_callers)

    def rollback(self) -> dict[str, Any]:
        """Serve again what was served before."""
        return self.client.rollback(self.name)

    def delete(self, break_callers: bool = False, for_good: bool = False) -> dict[str, Any]:
        """Delete it; see `lamppost.Client.delete_endpoint`. What you called yourself does not stand in the way."""
        return self.client.delete_endpoint(self.name, break_callers, for_good)

    def restore(self) -> dict[str, Any]:
        """Give it back within a day of `delete`."""
        return self.client.restore_endpoint(self.name)

    def calls(self, limit: int = 50) -> pd.DataFrame:
        """The last calls, newest first."""
        import pandas as pd

        return pd.DataFrame(self.client.calls(self.name, limit), columns=_CALL_COLUMNS)

    def drift(self) -> dict[str, Any]:
        """Whether rows and answers still look like training."""
        return self.client.drift(self.name)

    def record_outcomes(self, outcomes: Any) -> dict[str, Any]:
        """Report the truth; see `lamppost.Client.record_outcomes`: ``answers.assign(truth=…)`` of what `predict` gave will do.

        Waits for some seconds for calls that were made a moment ago, whose records are on their way.
        """
        deadline = time.monotonic() + _RECORDS_S
        while True:
            told = self.client.record_outcomes(self.name, outcomes)
            if not told["unknown"] or time.monotonic() > deadline:
                return told
            time.sleep(0.3)

    def _model(self) -> str:
        described = self.client.describe(self.name)
        return str(described["versions"][0]).rpartition("@")[0]

    def __repr__(self) -> str:
        return f"<endpoint {self.name}: {self.url}>"

    def _repr_html_(self) -> str:
        """State, version, last hour and an example, for notebooks."""
        described = self.client.describe(self.name)
        hour = described["last_hour"]
        took = "" if hour["p95_ms"] is None else f", 95 % within {hour['p95_ms']:.3g} ms"
        rows = [
            ("state", described["state"]),
            ("serves", described["summary"]),
            ("last hour", f"{hour['calls']:,} calls, {hour['refused']:,} refused, {hour['failed']:,} failed{took}"),
            ("inputs", few_names([field["name"] for field in described["inputs"]], _SHOWN_FIELDS)),
            ("answers", ", ".join(field["name"] for field in described["answers"])),
            ("example", f"endpoint.predict({described['example']!r})"),
            ("address", self.url),
        ]
        cells = "".join(f"<tr><th style='text-align:left'>{word}</th><td>{html.escape(str(text))}</td></tr>" for word, text in rows)
        return f"<table><caption>endpoint {html.escape(self.name)}</caption>{cells}</table>"


def _value(answer: Mapping[str, Any]) -> Any:
    """A label or a number by itself; several answers as they are."""
    if "label" in answer and set(answer) <= {"label", "scores", "decision", "decisions"}:
        return answer["label"]
    return next(iter(answer.values())) if len(answer) == 1 else dict(answer)
