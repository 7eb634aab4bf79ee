"""Which part of Lamp Post needs which packages, for the sentence that says what to install.

``pip install lamppost`` brings the client and its commands. Everything else comes with an extra, such as ``lamppost[service]``; the extras
stand in ``pyproject.toml``, and a test holds this table to them.
"""

from __future__ import annotations

from importlib.util import find_spec

from lamppost.core.errors import SetupError

MODULES_OF_EXTRAS: dict[str, tuple[str, ...]] = {
    "frames": ("pyarrow",),
    "pack": ("PIL", "cloudpickle", "cryptography", "numpy", "onnx", "onnxruntime", "packaging", "pandas", "sklearn", "skops"),
    "service": (
        *("cachetools", "cronsim", "fastapi", "httptools", "multipart", "openpyxl", "prometheus_client", "psycopg", "psycopg_pool"),
        *("python_multipart", "starlette", "uvicorn", "uvloop"),
    ),
    "reports": ("fpdf", "jinja2", "matplotlib"),
    "grpc": ("google", "grpc", "grpc_health", "grpc_reflection"),
    "dask": ("dask", "distributed"),
    "trees": ("lightgbm", "xgboost"),
    "torch": ("torch",),
}
"""Extras, each with the modules that come with it and with no extra before it."""


def missing_extra(error: ModuleNotFoundError) -> SetupError | None:
    """The error that names the extra to install; None where the missing module belongs to no extra."""
    module = (error.name or "").partition(".")[0]
    for extra, modules in MODULES_OF_EXTRAS.items():
        if module in modules:
            return _lacking(module, extra)
    return None


def check_extra(extra: str) -> None:
    """Raise SetupError if a module of the extra is not installed."""
    for module in MODULES_OF_EXTRAS[extra]:
        if find_spec(module) is None:
            raise _lacking(module, extra)


def _lacking(module: str, extra: str) -> SetupError:
    return SetupError(f"the package {module} is missing; install it with: pip install 'lamppost[{extra}]'")
