"""What an outpost asks its hub over HTTP. Everything goes out from the outpost; nothing is opened towards it."""

from __future__ import annotations

import gzip
import ssl
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import httpx
import orjson

from lamppost.core.errors import HubAway, LampPostError, SetupError, from_problem
from lamppost.core.payload.outpost_records import CONTENT_TYPE, SentRecords, write_records

_ANSWER_S = 30.0
_CONNECT_S = 10.0


class HubLink:
    """The hub of one outpost. url, name, secret : where the hub is, who this outpost is, and its token. ca : certificates to trust."""

    def __init__(self, url: str, name: str, secret: str, ca: Path | None = None) -> None:
        self.url = url.rstrip("/")
        self.name = name
        verify: ssl.SSLContext | bool = not self.url.startswith("http://")
        if ca is not None:
            try:
                verify = ssl.create_default_context(cafile=str(ca))
            except (OSError, ssl.SSLError) as error:
                raise SetupError(f"--hub-ca {ca} cannot be read as certificates (PEM): {error}") from error
        self._client = httpx.AsyncClient(
            base_url=f"{self.url}/api/outposts/{name}",
            headers={"authorization": f"Bearer {secret}"},
            timeout=httpx.Timeout(_ANSWER_S, connect=_CONNECT_S),
            trust_env=False,
            verify=verify,
        )

    async def close(self) -> None:
        """End the connections."""
        await self._client.aclose()

    async def report(self, report: dict[str, Any], wait_s: float) -> tuple[str, dict[str, Any]]:
        """Say how this outpost is. Returns digest and content of the state that it is to have; the content is empty where that is known."""
        body = orjson.dumps({**report, "wait_s": wait_s, "clock": datetime.now(UTC)})
        headers = {"content-type": "application/json"}
        answer = await self._ask("POST", "/report", content=body, headers=headers, timeout=wait_s + _ANSWER_S)
        document = orjson.loads(answer.content)
        return str(document["digest"]), document["state"]

    async def list_chunks(self, digest: str) -> list[tuple[str, int]]:
        """The chunks of a package: SHA-256 and size in bytes of each."""
        answer = await self._ask("GET", f"/packages/{digest}/chunks")
        return [(str(chunk["sha256"]), int(chunk["size_bytes"])) for chunk in orjson.loads(answer.content)]

    async def fetch_chunk(self, digest: str, sha256: str) -> bytes:
        """The content of a chunk, unchecked."""
        return (await self._ask("GET", f"/packages/{digest}/chunks/{sha256}")).content

    async def bring_records(self, records: SentRecords) -> int:
        """Bring records; returns how many calls the hub's database could not hold."""
        headers = {"content-type": CONTENT_TYPE, "content-encoding": "gzip", "clock": datetime.now(UTC).isoformat()}
        answer = await self._ask("POST", "/records", content=gzip.compress(write_records(records), 5), headers=headers)
        return int(orjson.loads(answer.content)["lost"])

    async def bring_outcomes(self, reported: dict[str, Any]) -> dict[str, Any]:
        """Bring outcomes that were reported here; what the hub made of them."""
        headers = {"content-type": "application/json"}
        answer = await self._ask("POST", "/outcomes", content=orjson.dumps(reported), headers=headers)
        taken: dict[str, Any] = orjson.loads(answer.content)
        return taken

    async def _ask(self, method: str, path: str, **request: Any) -> httpx.Response:
        """An answer; raise HubAway, or the error that the hub answers with."""
        try:
            answer = await self._client.request(method, path, **request)
        except (httpx.HTTPError, httpx.InvalidURL, ssl.SSLError) as error:
            raise HubAway(f"the hub {self.url} does not answer: {str(error) or type(error).__name__}", retry_after_s=5) from error
        if answer.is_success:
            return answer
        raise _error_of(answer, self.url)


def _error_of(answer: httpx.Response, url: str) -> LampPostError:
    try:
        document = orjson.loads(answer.content)
        if not isinstance(document, dict) or "urn:lamppost:" not in str(document.get("type")):
            raise ValueError("no problem of the service")
    except ValueError:
        return HubAway(f"the hub {url} answered with status {answer.status_code}, and not as a service of ours", retry_after_s=5)
    error = from_problem(document, answer.status_code)
    if answer.status_code >= 500 or answer.status_code == 429:
        return HubAway(f"the hub {url} cannot answer now: {error.detail}", retry_after_s=5)
    return error
