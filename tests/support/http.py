"""Plain HTTP requests for tests, without the certificates whose loading takes longer than most of the requests."""

from typing import Any

import httpx


def request(method: str, url: str, **more: Any) -> httpx.Response:
    return httpx.request(method, url, trust_env=False, verify=False, **{"timeout": 30.0} | more)


def get(url: str, **more: Any) -> httpx.Response:
    return request("GET", url, **more)


def post(url: str, **more: Any) -> httpx.Response:
    return request("POST", url, **more)


def put(url: str, **more: Any) -> httpx.Response:
    return request("PUT", url, **more)


def delete(url: str, **more: Any) -> httpx.Response:
    return request("DELETE", url, **more)


def client(**more: Any) -> httpx.Client:
    return httpx.Client(trust_env=False, verify=False, **more)
