"""Command ``shell``: Python with a package's objects, opened in this process, with the library versions that it was made with."""

from __future__ import annotations

import asyncio
import code
import os
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import orjson
import typer

from lamppost.cli.lamp_files.packages import require_trusted_package
from lamppost.cli.parameters import Address, AllowCode
from lamppost.client import Client
from lamppost.client.rows import request_body
from lamppost.core.artifact.manifest import Manifest
from lamppost.core.artifact.steps import step_summary
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import answer_rows_from_columns, columns_from_rows
from lamppost.package.read import Lamp, read_lamp
from lamppost.runtime.confinement.worker_home import USUAL_RULES
from lamppost.runtime.library_environments import LibraryEnvironments, differing_pins
from lamppost.runtime.running_steps import RunningPython, RunningSklearn, RunningStep, StepChain, open_steps

if TYPE_CHECKING:
    import pandas as pd

_FORMATS = frozenset({"skops", "pickle", "python", "torch"})
_LAID_OVER = "LAMPPOST_SHELL_LIBRARIES"
"""Set in the interpreter that this command starts anew with other libraries, so that it does so once."""


def shell(
    package: Annotated[str, typer.Argument(help="A version, such as outage-risk@3, or a lamp file.", metavar="MODEL@N|FILE")],
    run: Annotated[str | None, typer.Option(help="Run this Python instead of asking for some.", metavar="CODE")] = None,
    allow_code: AllowCode = False,
    same_libraries: Annotated[
        bool, typer.Option("--same-libraries", help="Use the libraries that are installed, even if the package was made with others.")
    ] = False,
    address: Address = None,
) -> None:
    """Command ``shell``."""
    with tempfile.TemporaryDirectory(prefix="lamppost-shell-") as folder:
        lamp = read_lamp(package_file(package, Path(folder), address))
        require_trusted_package(lamp, package, allow_code)
        pins = differing_pins(lamp.manifest, graphs=False)
        starts_anew = bool(pins) and not same_libraries and _LAID_OVER not in os.environ
        if not starts_anew:
            _open_shell(lamp, package, Path(folder), pins, run)
    if starts_anew:
        _start_with_libraries(lamp.manifest)


def _open_shell(lamp: Lamp, package: str, folder: Path, pins: dict[str, str], run: str | None) -> None:
    names = _shell_names(lamp, folder)
    if run is not None:
        exec(compile(run, "<run>", "exec"), names)  # noqa: S102 - what the caller typed
        return
    _enable_completion(names)
    code.interact(banner=_banner(lamp, package, names, pins), local=names, exitmsg="")


def package_file(package: str, folder: Path, address: str | None) -> Path:
    """A lamp file on disk: the one that is named, or that of a stored version."""
    if "@" not in package or Path(package).exists():
        return Path(package)
    with Client(address, timeout_s=180) as client:
        return client.download(package, folder / "package.lamp")


def _start_with_libraries(manifest: Manifest) -> None:
    """Run this command again in an interpreter that finds the libraries of the package first; does not return."""
    cache = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "lamppost" / "environments"
    libraries = asyncio.run(LibraryEnvironments(cache, USUAL_RULES).folder_for(manifest.name, manifest, graphs=False))
    found = os.pathsep.join(filter(None, (str(libraries), os.environ.get("PYTHONPATH"))))
    environment = {**os.environ, "PYTHONPATH": found, _LAID_OVER: str(libraries)}
    os.execve(sys.executable, [sys.executable, "-m", "lamppost", *sys.argv[1:]], environment)  # noqa: S606 - this very command


def _shell_names(lamp: Lamp, folder: Path) -> dict[str, Any]:
    """What the shell knows by name."""
    import numpy as np
    import pandas as pd

    manifest = lamp.manifest
    unpacked = lamp.unpack(folder)
    steps = open_steps(unpacked, manifest, _FORMATS, original=True)
    chain = StepChain(manifest.columns, steps, manifest.answers)
    objects = [_object_of(running) for _, running in steps]
    fitted = [running.model for _, running in steps if isinstance(running, RunningSklearn)]

    def predict(rows: Any) -> pd.DataFrame:
        """The answers to a frame, to rows as mappings, or to one row."""
        return _answer_frame(manifest, chain, rows)

    proof = pd.DataFrame(lamp.proof.rows).join(pd.json_normalize(lamp.proof.answers).add_prefix("trained."))
    return {
        "__name__": "__main__",
        "lamp": lamp,
        "manifest": manifest,
        "provenance": manifest.provenance,
        "proof": proof,
        "steps": objects,
        "model": fitted[-1] if fitted else objects[-1],
        "predict": predict,
        "pd": pd,
        "np": np,
    }


def _object_of(running: RunningStep) -> Any:
    """What somebody wants to look at in an open step."""
    if isinstance(running, RunningSklearn):
        return running.model
    return running.instance if isinstance(running, RunningPython) else running


def _answer_frame(manifest: Manifest, chain: StepChain, rows: Any) -> pd.DataFrame:
    import pandas as pd

    index = rows.index if hasattr(rows, "columns") else None
    if hasattr(rows, "index"):  # a frame, or one row of it: without the answers that stand beside its fields
        rows = rows[[name for name in (rows.columns if index is not None else rows.index) if name in manifest.columns.names]]
    plan = ValidationPlan(manifest.inputs, options=manifest.options)
    parsed = plan.read_body(orjson.dumps(request_body(rows))).rows
    answers = answer_rows_from_columns(manifest.answers, chain.run(columns_from_rows(manifest.columns, parsed)), len(parsed))
    return pd.json_normalize(answers).set_index(index) if index is not None else pd.json_normalize(answers)


def _banner(lamp: Lamp, package: str, names: dict[str, Any], pins: dict[str, str]) -> str:
    manifest, libraries = lamp.manifest, lamp.manifest.provenance.libraries
    made_with = ", ".join(f"{name} {version}" for name, version in libraries.items())
    here = f"  (other versions are installed than {', '.join(f'{name} {version}' for name, version in pins.items())})" if pins else ""
    lines = [
        f"{package}  {manifest.name}, digest {lamp.digest[:12]}, made with Python {manifest.provenance.python}, {made_with}{here}",
        f"  model       {_type_name(names['model'])}",
        f"  steps       {_step_list([step_summary(step) for step in manifest.steps])}",
        f"  proof       a frame of {len(names['proof'])} rows with the answers training gave, as trained.…",
        "  predict     predict(proof) answers rows with these objects",
        "  provenance, manifest, lamp, pd, np",
        "Ctrl-D ends it.",
    ]
    return "\n".join(lines)


def _type_name(model: Any) -> str:
    return f"{type(model).__module__.partition('.')[0]}.{type(model).__qualname__}"


def _step_list(summaries: Sequence[str]) -> str:
    return "; ".join(f"{at}: {summary}" for at, summary in enumerate(summaries))


def _enable_completion(names: dict[str, Any]) -> None:
    try:
        import readline
        import rlcompleter
    except ImportError:  # an interpreter that was built without it
        return
    readline.set_completer(rlcompleter.Completer(names).complete)
    readline.parse_and_bind("tab: complete")
