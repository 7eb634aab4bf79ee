"""What the console costs: the first view and later ones in a browser, the size of its first page, and what an open page costs the service.

``python -m bench.console`` with 5 endpoints and with 3,000.
"""

from __future__ import annotations

import asyncio
import os
import shutil
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from statistics import median

import httpx
from playwright.sync_api import Browser, Page, sync_playwright

import lamppost
from bench.contract import light_lamp
from bench.engine import process_of
from bench.many import register_versions
from bench.servers import free_port, running
from demo.lamps import make_traffic
from lamppost.store.database import migrate
from lamppost.store.postgres import PrivateServer

ARGUMENTS = (
    "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync"
)
FIRST_MS, LATER_MS, SCRIPT_KB, COST_PERCENT = 1_000, 200, 200, 1.0
TURNS = 5
WATCHED_S = 30
SCRIPT_BYTES = """() => {
  const all = performance.getEntriesByType("resource");
  const answered = all.find((one) => one.name.includes("/api/overview")).responseStart;
  const needed = all.filter((one) => one.name.endsWith(".js") && one.startTime < answered);
  return needed.reduce((sum, one) => sum + one.encodedBodySize, 0);
}"""
"""Of the scripts that came before the endpoints did: those of other pages are loaded afterwards, while nobody waits."""
HIDE = """() => {
  Object.defineProperty(document, "visibilityState", { get: () => "hidden", configurable: true });
  document.dispatchEvent(new Event("visibilitychange"));
}"""


def measure() -> int:
    """Print the figures beside their goals; the number of goals that were missed."""
    return sum(_measure(count) for count in (5, 3_000))


def _measure(count: int) -> int:
    with _service(count) as address, sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=shutil.which("chromium"), args=ARGUMENTS.split())
        print(f"\n{count:,} endpoints")
        first = [_first_view(browser, address) for _ in range(TURNS)]
        missed = _print("first view, nothing cached", median(ms for ms, _ in first), FIRST_MS, "ms")
        missed += _print("scripts of the first page, gzip", first[0][1] / 1e3, SCRIPT_KB, "kB")
        page = _signed_in(browser, address)
        for name, go in _views(page).items():
            times = []
            for _ in range(TURNS):
                page.goto(address)
                page.get_by_role("table").first.wait_for()
                times.append(_timed(go))
            missed += _print(f"later view: {name}", median(times), LATER_MS, "ms")
        for name, path in {
            "the overview": "/",
            "an endpoint's page": "/endpoints/small-1",
            "its traffic": "/endpoints/small-1/traffic",
        }.items():
            page.goto(address + path)
            page.get_by_role("heading").first.wait_for()
            page.wait_for_timeout(2_000)
            missed += _print(f"open page, {name}", _cost(page, address), COST_PERCENT, "% of a core")
        requests: list[str] = []
        page.evaluate(HIDE)
        page.wait_for_timeout(1_500)
        page.on("request", lambda request: requests.append(request.url))
        page.wait_for_timeout(8_000)
        missed += _print("requests of a hidden page in 8 s", len(requests), 0, "")
        browser.close()
    return missed


def _print(what: str, value: float, goal: float, unit: str) -> int:
    missed = int(value > goal)
    print(f"  {what:42s}{value:9.1f} {unit} (goal: at most {goal:g}) {'MISSED' if missed else 'met'}", flush=True)
    return missed


@contextmanager
def _service(count: int) -> Iterator[str]:
    """The address of a service with so many endpoints, one of which has been asked."""
    with tempfile.TemporaryDirectory(prefix="lamppost-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        server = PrivateServer(folder / "data", durable=False)
        try:
            url = server.start()
            migrate(url, own_server=True)
            asyncio.run(register_versions(url, light_lamp(folder), folder, count))
        finally:
            server.stop()
        port = free_port()
        address = f"http://127.0.0.1:{port}"
        up = [sys.executable, "-m", "lamppost", "up", "--data", str(folder / "data"), "--port", str(port), "--new-admin-token"]
        with running(up, address + "/health/live", folder / "log"):
            while httpx.get(address + "/health/ready", trust_env=False).status_code != 200:
                time.sleep(0.02)
            with lamppost.Client(address) as client:
                for row in make_traffic(50, seed=5):
                    client.predict("small-1", row)
            yield address


def _signed_in(browser: Browser, address: str) -> Page:
    page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
    with lamppost.Client(address) as client:
        page.goto(client.fetch("POST", "/api/session/link")["link"])
    page.get_by_role("table").first.wait_for()
    return page


def _first_view(browser: Browser, address: str) -> tuple[float, int]:
    """Milliseconds until the endpoints are seen by a browser that has nothing cached, and bytes of scripts that came for it."""
    page = _signed_in(browser, address)
    fresh = browser.new_context(viewport={"width": 1280, "height": 800}, storage_state=page.context.storage_state())
    page.context.close()
    page = fresh.new_page()

    def show() -> None:
        page.goto(address, wait_until="commit")
        page.get_by_role("table").first.wait_for()

    took = _timed(show)
    size = page.evaluate(SCRIPT_BYTES)
    fresh.close()
    return took, size


def _views(page: Page) -> dict[str, Callable[[], object]]:
    """What is gone to from the overview, each until its content is there."""

    def go(link: str, heading: str) -> Callable[[], object]:
        def click() -> None:
            page.get_by_role("link", name=link, exact=True).first.click()
            page.get_by_role("main").get_by_role("heading", name=heading).first.wait_for()
            page.wait_for_function("() => !document.querySelector('main [aria-busy=true]')")

        return click

    name = page.get_by_role("table").get_by_role("link").first.inner_text()
    return {"an endpoint": go(name, name), "lanes": go("Lanes", "Lanes"), "alerts": go("Alerts", "Alerts"), "trail": go("Trail", "Trail")}


def _timed(act: Callable[[], object]) -> float:
    start = time.perf_counter()
    act()
    return (time.perf_counter() - start) * 1e3


def _cost(page: Page, address: str) -> float:
    """Percent of a core that the service uses with the page open, beyond what it uses without."""
    busy = _cpu_percent(page, address)
    path = page.url
    page.goto("about:blank")
    idle = _cpu_percent(page, address)
    page.goto(path)
    return busy - idle


def _cpu_percent(page: Page, address: str) -> float:
    before = _cpu_s(address)
    page.wait_for_timeout(WATCHED_S * 1_000)
    return 100 * (_cpu_s(address) - before) / WATCHED_S


def _cpu_s(address: str) -> float:
    """Processor seconds of the service's own process so far."""
    pid = process_of(address)
    fields = Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


if __name__ == "__main__":
    sys.exit(1 if measure() else 0)
