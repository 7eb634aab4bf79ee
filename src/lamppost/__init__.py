"""Lamp Post puts a trained model into service: packaged with its preprocessing, proven, validated, batched, recorded.

`serve` does all of it in one call; `pack` writes a lamp file; `Client` and `AsyncClient` ask a running service. Errors are `LampPostError`.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from lamppost.client import AsyncClient, Client
    from lamppost.core.errors import LampPostError
    from lamppost.packing.networks import Network
    from lamppost.packing.pack import pack
    from lamppost.packing.side_steps import Code, Encoder, Pixels, Table, Threshold
    from lamppost.serving.serve import serve

__all__ = [
    "AsyncClient",
    "Client",
    "Code",
    "Encoder",
    "LampPostError",
    "Network",
    "Pixels",
    "Table",
    "Threshold",
    "__version__",
    "pack",
    "serve",
]
__version__ = "0.2.0"

_HOMES = {
    "AsyncClient": "lamppost.client",
    "Client": "lamppost.client",
    "Code": "lamppost.packing.side_steps",
    "Encoder": "lamppost.packing.side_steps",
    "LampPostError": "lamppost.core.errors",
    "Network": "lamppost.packing.networks",
    "Pixels": "lamppost.packing.side_steps",
    "Table": "lamppost.packing.side_steps",
    "Threshold": "lamppost.packing.side_steps",
    "pack": "lamppost.packing.pack",
    "serve": "lamppost.serving.serve",
}


def __getattr__(name: str) -> Any:
    """Import on first use, so that ``import lamppost`` stays quick."""
    if name not in _HOMES:
        raise AttributeError(f"module 'lamppost' has no attribute {name!r}")
    from importlib import import_module

    try:
        home = import_module(_HOMES[name])
    except ModuleNotFoundError as error:
        from lamppost.core.extras import missing_extra

        if (missing := missing_extra(error)) is None:
            raise
        raise ModuleNotFoundError(missing.detail, name=error.name) from error
    return getattr(home, name)


def __dir__() -> list[str]:
    """What there is, though it is not imported yet."""
    return sorted(__all__)
