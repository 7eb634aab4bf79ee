"""Image layouts of the Open Container Initiative as tar files: read, checked by their digests, and written with more layers.

https://github.com/opencontainers/image-spec/blob/v1.1.0/image-layout.md, manifest.md, config.md and layer.md.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import platform
import re
import tarfile
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, cast

import orjson

from lamppost.core.errors import BadRequest

INDEX = "application/vnd.oci.image.index.v1+json"
MANIFEST = "application/vnd.oci.image.manifest.v1+json"
CONFIG = "application/vnd.oci.image.config.v1+json"
LAYER = "application/vnd.oci.image.layer.v1.tar"
_LAYERS = {LAYER: "r:", f"{LAYER}+gzip": "r:gz"}
_DIGEST = re.compile(r"sha256:([0-9a-f]{64})")
_DOCUMENT_BYTES = 4 * 2**20
_MOST_LAYERS = 127
_MACHINES = {"x86_64": "amd64", "aarch64": "arm64"}
_PIECE = 2**20


@dataclass(frozen=True, slots=True)
class Layer:
    """A layer as a file. descriptor : media type, digest and size of the file. diff_id : digest of the tar that is in it."""

    file: Path
    descriptor: dict[str, Any]
    diff_id: str


class ImageLayout:
    """An image layout in a tar file. Raise BadRequest for what is none, or holds no image for this machine."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self._tar = tarfile.open(path, "r:")  # noqa: SIM115 - open until `close`
            self._members = {member.name.removeprefix("./"): member for member in self._tar if member.isfile()}
        except (OSError, tarfile.TarError) as error:
            raise BadRequest(f"{path} is no tar of an image layout: {error}") from error
        try:
            self.manifest, self.config = self._read()
        except BaseException:
            self.close()
            raise

    def _read(self) -> tuple[dict[str, Any], dict[str, Any]]:
        """The manifest and the configuration of the image for this machine."""
        layout = self._document("oci-layout")
        if layout.get("imageLayoutVersion") != "1.0.0":
            raise BadRequest(f"{self.path} is an image layout of version {layout.get('imageLayoutVersion')!r}; 1.0.0 is expected")
        manifest = self._manifest(self._document("index.json"))
        config = manifest.get("config")
        if not isinstance(config, dict) or config.get("mediaType") != CONFIG:
            raise BadRequest(f"{self.path} holds an image with a configuration of type {_type_of(config)!r}; {CONFIG} is expected")
        return manifest, self._described(config)

    def close(self) -> None:
        """Close the file."""
        self._tar.close()

    @property
    def layers(self) -> list[dict[str, Any]]:
        """The descriptors of the layers, the lowest first."""
        found = self.manifest.get("layers")
        if not isinstance(found, list) or not found or len(found) > _MOST_LAYERS:
            raise BadRequest(f"{self.path} holds an image without layers, or with more than {_MOST_LAYERS}")
        return found

    def names_in(self, layer: Mapping[str, Any]) -> Iterator[str]:
        """The paths in a layer."""
        mode = _LAYERS.get(_type_of(layer))
        if mode is None:
            raise BadRequest(f"{self.path} holds a layer of type {_type_of(layer)!r}; {' and '.join(_LAYERS)} can be read")
        with self._opened(layer) as blob, tarfile.open(fileobj=blob, mode=mode) as tar:  # type: ignore[call-overload]
            for member in tar:
                yield member.name.removeprefix("./").lstrip("/")

    def blob_digests(self) -> list[str]:
        """Digests of everything that the image needs, in hex."""
        return [_hex(one) for one in (self.manifest["config"], *self.layers)]

    def copy_blob(self, digest: str, to: tarfile.TarFile) -> None:
        """Copy a blob into another layout; raise BadRequest if it is not what its name says."""
        member = self._member(f"blobs/sha256/{digest}")
        source = self._tar.extractfile(member)
        assert source is not None
        checked = _Hashed(source)
        info = _info(f"blobs/sha256/{digest}", member.size)
        to.addfile(info, checked)
        if checked.sha256.hexdigest() != digest:
            raise BadRequest(f"{self.path} is damaged: a blob is not what its name {digest[:12]}… says")

    def _manifest(self, index: Mapping[str, Any], depth: int = 0) -> dict[str, Any]:
        """The manifest of the image for this machine."""
        machine = _MACHINES.get(platform.machine(), platform.machine())
        found = index.get("manifests")
        described = [one for one in found if isinstance(one, dict)] if isinstance(found, list) else []
        fitting = [one for one in described if _fits(one.get("platform"), machine)]
        if not fitting or depth > 2:
            raise BadRequest(f"{self.path} holds no image for linux/{machine}")
        chosen = fitting[0]
        if _type_of(chosen) == INDEX:
            return self._manifest(self._described(chosen), depth + 1)
        if _type_of(chosen) != MANIFEST:
            raise BadRequest(f"{self.path} holds a manifest of type {_type_of(chosen)!r}; {MANIFEST} is expected")
        return self._described(chosen)

    def _member(self, name: str) -> tarfile.TarInfo:
        if name not in self._members:
            raise BadRequest(f"{self.path} is no whole image layout: it has no {name}")
        return self._members[name]

    def _document(self, name: str) -> dict[str, Any]:
        member = self._member(name)
        if member.size > _DOCUMENT_BYTES:
            raise BadRequest(f"{name} in {self.path} has {member.size:,} bytes; {_DOCUMENT_BYTES:,} are allowed")
        source = self._tar.extractfile(member)
        assert source is not None
        return _object(source.read(), f"{name} in {self.path}")

    def _described(self, descriptor: Mapping[str, Any]) -> dict[str, Any]:
        name = f"blobs/sha256/{_hex(descriptor)}"
        member = self._member(name)
        if member.size > _DOCUMENT_BYTES:
            raise BadRequest(f"{name} in {self.path} has {member.size:,} bytes; {_DOCUMENT_BYTES:,} are allowed")
        source = self._tar.extractfile(member)
        assert source is not None
        content = source.read()
        if hashlib.sha256(content).hexdigest() != _hex(descriptor):
            raise BadRequest(f"{self.path} is damaged: {name} is not what its name says")
        return _object(content, f"{name} in {self.path}")

    def _opened(self, descriptor: Mapping[str, Any]) -> IO[bytes]:
        source = self._tar.extractfile(self._member(f"blobs/sha256/{_hex(descriptor)}"))
        assert source is not None
        return source


def _fits(platform_of: Any, machine: str) -> bool:
    return platform_of is None or (
        isinstance(platform_of, dict) and platform_of.get("architecture") == machine and platform_of.get("os") == "linux"
    )


def _type_of(descriptor: Any) -> str:
    return str(descriptor.get("mediaType", "")) if isinstance(descriptor, dict) else ""


def _hex(descriptor: Mapping[str, Any]) -> str:
    matched = _DIGEST.fullmatch(str(descriptor.get("digest", "")))
    if matched is None:
        raise BadRequest(f"the image names something by {str(descriptor.get('digest'))[:80]!r}; a digest sha256:… is expected")
    return matched.group(1)


def _object(content: bytes, what: str) -> dict[str, Any]:
    try:
        read = orjson.loads(content)
    except orjson.JSONDecodeError:
        read = None
    if not isinstance(read, dict):
        raise BadRequest(f"{what} is no JSON object")
    return read


class _Hashed(io.RawIOBase):
    """A file that is hashed as it is read."""

    def __init__(self, source: IO[bytes]) -> None:
        self.sha256 = hashlib.sha256()
        self._source = source

    def read(self, size: int = -1) -> bytes:
        piece = self._source.read(size)
        self.sha256.update(piece)
        return piece


class _HashedWriter:
    """A file that is hashed as it is written."""

    def __init__(self, target: IO[bytes]) -> None:
        self.sha256 = hashlib.sha256()
        self.size = 0
        self._target = target

    def write(self, piece: bytes) -> int:
        self.sha256.update(piece)
        self.size += len(piece)
        return self._target.write(piece)

    def flush(self) -> None:
        self._target.flush()


def _info(name: str, size: int, mode: int = 0o644) -> tarfile.TarInfo:
    info = tarfile.TarInfo(name)
    info.size, info.mode, info.mtime = size, mode, 0
    return info


def write_layer(files: Mapping[str, Path], to: Path) -> Layer:
    """A layer with files at absolute paths: the same bytes for the same files. files : path in the image to the file."""
    folders = {str(parent) for name in files for parent in Path(name).parents} - {"/", "."}
    with to.open("wb") as target:
        outer = _HashedWriter(target)
        with gzip.GzipFile(filename="", mode="wb", compresslevel=1, fileobj=outer, mtime=0) as packed:
            inner = _HashedWriter(packed)  # type: ignore[arg-type]
            with tarfile.open(fileobj=cast(IO[bytes], inner), mode="w|", format=tarfile.PAX_FORMAT) as tar:
                for name in sorted(folders):
                    info = _info(name.lstrip("/"), 0, 0o755)
                    info.type = tarfile.DIRTYPE
                    tar.addfile(info)
                for name, file in sorted(files.items()):
                    with file.open("rb") as source:
                        tar.addfile(_info(name.lstrip("/"), file.stat().st_size, 0o755 if ".so" in file.name else 0o644), source)
    descriptor = {"mediaType": f"{LAYER}+gzip", "digest": f"sha256:{outer.sha256.hexdigest()}", "size": outer.size}
    return Layer(to, descriptor, f"sha256:{inner.sha256.hexdigest()}")


def write_image(base: ImageLayout, layers: Sequence[Layer], config: dict[str, Any], reference: str, to: Path) -> str:
    """Write a layout with the layers of a base and more; returns the digest of the manifest. reference : the name of the image.

    config : the whole configuration, in which the new layers stand already.
    """
    configured = orjson.dumps(config, option=orjson.OPT_SORT_KEYS)
    manifest = {
        "schemaVersion": 2,
        "mediaType": MANIFEST,
        "config": {"mediaType": CONFIG, "digest": f"sha256:{hashlib.sha256(configured).hexdigest()}", "size": len(configured)},
        "layers": [*base.layers, *(layer.descriptor for layer in layers)],
    }
    written = orjson.dumps(manifest, option=orjson.OPT_SORT_KEYS)
    digest = hashlib.sha256(written).hexdigest()
    described = {
        "mediaType": MANIFEST,
        "digest": f"sha256:{digest}",
        "size": len(written),
        "platform": {"architecture": config["architecture"], "os": config["os"]},
        "annotations": {"org.opencontainers.image.ref.name": reference},
    }
    index = {"schemaVersion": 2, "mediaType": INDEX, "manifests": [described]}
    with tarfile.open(to, "w:", format=tarfile.PAX_FORMAT) as tar:
        _add(tar, "oci-layout", orjson.dumps({"imageLayoutVersion": "1.0.0"}))
        _add(tar, "index.json", orjson.dumps(index, option=orjson.OPT_SORT_KEYS))
        _add(tar, f"blobs/sha256/{digest}", written)
        _add(tar, f"blobs/sha256/{hashlib.sha256(configured).hexdigest()}", configured)
        for one in dict.fromkeys(base.blob_digests()[1:]):
            base.copy_blob(one, tar)
        for layer in layers:
            name = f"blobs/sha256/{layer.descriptor['digest'].removeprefix('sha256:')}"
            with layer.file.open("rb") as source:
                tar.addfile(_info(name, layer.descriptor["size"]), source)
    return f"sha256:{digest}"


def _add(tar: tarfile.TarFile, name: str, content: bytes) -> None:
    tar.addfile(_info(name, len(content)), io.BytesIO(content))
