"""The certificate of a node that answers over TLS itself."""

from __future__ import annotations

import ssl
from pathlib import Path

from lamppost.core.errors import SetupError


class TlsFiles:
    """A certificate chain and its key, read from files, which may be replaced while the node runs. Raise SetupError as `load` does.

    files : the two.
    """

    def __init__(self, certificate: Path | None, key: Path | None) -> None:
        if certificate is None or key is None:
            raise SetupError("TLS needs both --tls-cert FILE and --tls-key FILE")
        self.files = self._certificate, self._key = certificate, key
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.context.set_alpn_protocols(["http/1.1"])
        self.load()

    def load(self) -> None:
        """Read both files, for connections from now on. Raise SetupError if they cannot be read or do not belong together."""
        trial = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        try:
            for context in (trial, self.context):  # a context that has failed would have lost the former pair
                context.load_cert_chain(self._certificate, self._key, password="")
        except (OSError, ssl.SSLError) as error:
            raise SetupError(
                f"--tls-cert {self._certificate} and --tls-key {self._key} are no certificate with its key, in PEM format ({error})"
            ) from error
