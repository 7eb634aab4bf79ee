"""Writes a Containerfile for a package, for those who have an engine that builds images."""

from __future__ import annotations

from lamppost.core.artifact.manifest import Manifest
from lamppost.packing.image.contents import PACKAGES, extras_of, interpreter_name
from lamppost.packing.image.writing import PORT


def write_containerfile(manifest: Manifest, file: str, version: str) -> str:
    """The text. file : name of the lamp file beside it. version : of Lamp Post."""
    python = interpreter_name().removeprefix("python")
    inside = f"{PACKAGES}/{manifest.name}.lamp"
    return f"""# Build in the folder of {file}: podman build -f {manifest.name}.Containerfile -t {manifest.name} .
FROM docker.io/library/python:{python}-slim-bookworm
RUN python -m pip install --no-cache-dir 'lamppost[{",".join(extras_of(manifest))}]=={version}'
COPY ["{file}", "{inside}"]
USER 65532
EXPOSE {PORT}
STOPSIGNAL SIGTERM
ENTRYPOINT ["python", "-m", "lamppost", "serve", "{inside}"]
CMD ["--host", "0.0.0.0", "--port", "{PORT}"]
"""
