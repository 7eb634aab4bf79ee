"""Replies of HTTP as the rest of the client knows them."""

from __future__ import annotations

import httpx

from lamppost.client.values import Reply


def reply_of(response: httpx.Response) -> Reply:
    """The reply of a response whose body was read."""
    return Reply(response.status_code, response.headers, response.content)
