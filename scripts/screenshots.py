"""Makes every picture in docs/screenshots anew, from the demo's data: ``make screenshots``.

``python -m scripts.screenshots FOLDER`` takes all pages of the console in three sizes and puts them into that folder instead.

Pages are shot in headless Chromium; commands run in a pseudo terminal and what they print is drawn as it would look there.
"""

from __future__ import annotations

import io
import os
import pty
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright
from rich.console import Console
from rich.terminal_theme import TerminalTheme
from rich.text import Text

import lamppost
from bench.servers import free_port, running
from demo.__main__ import BY_NUMBER, ENDPOINT, FILES, TO_CHECK, fill, up
from demo.desk import open_desk
from demo.register import Register
from demo.versions import STEPS, traffic

OUT = Path(__file__).resolve().parents[1] / "docs" / "screenshots"
ARGUMENTS = (
    "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync"
)
NIGHT = TerminalTheme(
    (17, 23, 30), (236, 231, 219), [(17, 23, 30), (238, 138, 118), (151, 177, 205), (242, 179, 76)] + [(170, 180, 190)] * 4
)
TERMINAL = (
    "<body style='margin:0;padding:20px;background:#11171e;color:#ece7db'>"
    "<pre style=\"font:15px/21px 'DejaVu Sans Mono',monospace\">{code}</pre>"
)


def shoot_commands(browser: Browser, lamp: Path) -> None:
    """One picture of packing and proving, one of asking and watching."""
    name = lamp.name
    for picture, commands in {
        "commands-package": [f"lamppost inspect {name}", f"lamppost prove {name}", f"lamppost prove {lamp.stem}-refit.lamp --allow-code"],
        "commands-engine": [
            "lamppost lanes",
            f"lamppost lanes {ENDPOINT}@1",
            f"lamppost setup {BY_NUMBER} | head -14",
            f"lamppost ask {BY_NUMBER} --row '{{\"lamp\": 17}}'",
        ],
        "commands-service": [
            "lamppost endpoints",
            f'lamppost ask {ENDPOINT} --row \'{{"district": "mill", "lamp_type": "LED", "age_year": 3}}\'',
            f"lamppost ask {ENDPOINT}",
            f"lamppost tail {ENDPOINT} -n 6",
        ],
        "commands-watching": [
            f"lamppost drift {ENDPOINT} | head -12",
            f"lamppost outcomes {ENDPOINT} | head -8",
            "lamppost alerts --all | tail -5",
            "lamppost watch --once",
        ],
        "commands-versions": [
            f"lamppost rollout {ENDPOINT}",
            f"lamppost compare {ENDPOINT}@1 {ENDPOINT}@5 --endpoint {ENDPOINT} | head -3",
            f"lamppost rollback {ENDPOINT} --note 'the depot asked for it'",
            "lamppost declare --to town.toml",
            f"sed -i 's/{ENDPOINT}@1\"$/{ENDPOINT}@5\"/' town.toml && lamppost declare town.toml",
            f"lamppost trail {ENDPOINT} -n 4",
        ],
    }.items():
        console = Console(record=True, width=132, file=io.StringIO())
        for command in commands:
            console.print(Text(f"$ {command}", style="bold"))
            console.print(Text.from_ansi(in_terminal(command, lamp.parent)))
        shot = browser.new_page(viewport={"width": 1280, "height": 800})
        shot.set_content(console.export_html(theme=NIGHT, inline_styles=True, code_format=TERMINAL))
        shot.screenshot(path=OUT / f"{picture}.png")
        shot.close()


def in_terminal(command: str, folder: Path) -> str:
    """What a command prints to a terminal of 132 columns, colours included."""
    near, far = pty.openpty()
    path = f"{Path(sys.executable).parent}:{os.environ['PATH']}"
    process = subprocess.Popen(command, shell=True, stdout=far, stderr=far, cwd=folder, env={**os.environ, "PATH": path, "COLUMNS": "132"})
    os.close(far)
    said = b""
    while True:
        try:
            piece = os.read(near, 65_536)
        except OSError:  # the terminal has closed
            break
        if not piece:
            break
        said += piece
    process.wait()
    os.close(near)
    return said.decode().replace("\r\n", "\n")


def shoot_pages(browser: Browser, address: str) -> None:
    """The console by day and by night."""
    for theme in ("light", "dark"):
        context = browser.new_context(viewport={"width": 1280, "height": 800}, color_scheme=theme)
        page = context.new_page()
        with lamppost.Client(address) as client:
            page.goto(client.fetch("POST", "/api/session/link")["link"])
            newest_night = client.fetch("GET", "/api/bulk", limit=1)[0]["name"]
            sweep = measure_sweep(client)
        page.get_by_role("table").get_by_role("link", name=ENDPOINT, exact=True).wait_for()
        if theme == "light":
            page.screenshot(path=OUT / "console-endpoints.png")
            for picture, path, shown in (
                ("console-models", "/models", "8 versions"),
                ("console-version", f"/models/{ENDPOINT}/1", "What goes in"),
                ("console-lanes", "/lanes", "Open now"),
                ("console-sweep", f"/sweeps/{sweep}", "Where the time goes"),
                ("console-traffic", f"/endpoints/{ENDPOINT}/traffic", "Where the time goes"),
                ("console-outcomes", f"/endpoints/{ENDPOINT}/outcomes", "Calibration"),
                ("console-bulk-run", f"/bulk/{newest_night}", "What is different"),
                ("console-compare", f"/compare?before={ENDPOINT}@1&after={ENDPOINT}@2", "Side by side"),
            ):
                page.goto(address + path)
                page.get_by_text(shown).first.wait_for()
                page.screenshot(path=OUT / f"{picture}.png")
        page.goto(f"{address}/endpoints/{ENDPOINT}")
        ask(page)
        if theme == "light":
            page.screenshot(path=OUT / "console-endpoint-light.png")
            page.get_by_text("was asked about").wait_for()
            page.get_by_role("region", name="Why").evaluate("card => card.scrollIntoView({block: 'start'})")
            page.wait_for_timeout(500)
            page.screenshot(path=OUT / "console-explanation.png")
        if theme == "dark":
            drifted(page, address)
            page.screenshot(path=OUT / "console-drift.png")
        context.close()


def measure_sweep(client: lamppost.Client) -> str:
    """The name of a short sweep, which is begun unless there is one."""
    if known := client.fetch("GET", "/api/sweeps", limit=1):
        return str(known[0]["name"])
    plan = {"versions": [f"{ENDPOINT}@1"], "limits": ["p99=20ms"], "whole_s": SWEEP_S, "seconds": 1}
    name = str(client.fetch("POST", "/api/sweeps", {"plan": plan})["name"])
    deadline = time.monotonic() + 2 * SWEEP_S
    while client.fetch("GET", f"/api/sweeps/{name}")["ended_at"] is None and time.monotonic() < deadline:
        time.sleep(1.0)
    return name


SWEEP_S = 90
SIZES = ((1280, 800), (1920, 1080), (390, 844))
PATHS = (
    "/",
    "/alerts",
    "/models",
    f"/models/{ENDPOINT}/1",
    f"/compare?before={ENDPOINT}@1&after={ENDPOINT}@5",
    "/bulk",
    "/lanes",
    "/sweeps",
    "/reviews",
    "/trail",
    "/declared",
    "/docs",
    "/tokens",
    *(f"/endpoints/{ENDPOINT}{view}" for view in ("", "/traffic", "/drift", "/outcomes", "/calls")),
)


def shoot_sizes(browser: Browser, address: str, folder: Path) -> None:
    """All pages in all sizes, by day; the widest by night too."""
    for (width, height), theme in [*((size, "light") for size in SIZES), (SIZES[1], "dark")]:
        page = browser.new_context(viewport={"width": width, "height": height}, color_scheme=theme).new_page()
        with lamppost.Client(address) as client:
            page.goto(client.fetch("POST", "/api/session/link")["link"])
        for path in PATHS:
            page.goto(address + path)
            page.wait_for_function("() => document.querySelector('h1') && !document.querySelector('[aria-busy=true]')")
            page.wait_for_timeout(700)
            name = path.partition("?")[0].strip("/").replace("/", "-") or "endpoints"
            page.screenshot(path=folder / f"{name}-{width}-{theme}.png")
        page.context.close()


def drifted(page: Page, address: str) -> None:
    """The drift of an endpoint, with its reason."""
    page.set_viewport_size({"width": 1280, "height": 1080})
    page.goto(f"{address}/endpoints/{ENDPOINT}/drift")
    page.get_by_role("figure", name="Size of its leading change").first.wait_for()
    page.wait_for_timeout(500)


def shoot_desk(browser: Browser, address: str, folder: Path) -> None:
    """The desk of the lighting office, with the result of a file."""
    with lamppost.Client(address) as client:
        link = open_desk(client, ENDPOINT)
    page = browser.new_context(viewport={"width": 1280, "height": 800}, color_scheme="light").new_page()
    page.goto(link)
    page.get_by_role("link", name="A whole file").click()
    page.set_input_files("input[type=file]", folder / TO_CHECK)
    page.get_by_role("button", name="Answer").click()
    rows = page.get_by_role("region", name="rows", exact=True)
    page.get_by_role("region", name="answers").get_by_role("button").filter(has_text="Send somebody").click()
    for _ in range(2):
        rows.get_by_role("button", name="sure", exact=True).click()
    page.wait_for_timeout(1_000)
    page.screenshot(path=OUT / "desk-result.png")
    page.context.close()


def shoot_rollout(browser: Browser, address: str) -> None:
    """A rollout that goes on, with callers asking."""
    with lamppost.Client(address) as client, lamppost.Client(address) as callers, traffic(callers, seed=8):
        client.point(ENDPOINT, f"{ENDPOINT}@1")
        client.roll_out(ENDPOINT, f"{ENDPOINT}@5", {"steps": [*STEPS[:2], {"share": 50, "calls": 20_000}]})
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(client.fetch("POST", "/api/session/link")["link"])
        page.get_by_role("table").get_by_role("link", name=ENDPOINT, exact=True).click()
        page.get_by_role("button", name="Pause at 50 %").wait_for(timeout=90_000)  # on a busy machine the first hundred calls take a while
        page.wait_for_timeout(1_500)
        page.screenshot(path=OUT / "console-rollout.png")
        page.close()
        client.fetch("POST", f"/api/endpoints/{ENDPOINT}/rollout/finish")


def ask(page: Page) -> None:
    """Press the button and wait until answer and record are on the page."""
    page.get_by_role("button", name="Ask", exact=True).click()
    page.get_by_test_id("label").wait_for()
    page.locator("main").evaluate("main => main.scrollTo(0, 0)")
    page.wait_for_timeout(2_500)


def main() -> None:
    """A service of its own, filled as the demo is; then the pictures."""
    OUT.mkdir(parents=True, exist_ok=True)
    sizes = Path(sys.argv[1]).resolve() if sys.argv[1:] else None
    with tempfile.TemporaryDirectory(prefix="lamppost-shots-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        os.environ["LAMPPOST_CONFIG"] = str(folder / "client.toml")
        port = free_port()
        address = f"http://127.0.0.1:{port}"
        town = Register(folder)
        os.environ["TOWN"] = town.start()
        with running(up(folder / "data", port), address + "/health/live", folder / "log"), sync_playwright() as driver:
            fill(address, folder, 300, folder / "data" / FILES)
            browser = driver.chromium.launch(executable_path=shutil.which("chromium"), args=ARGUMENTS.split())
            if sizes is not None:
                sizes.mkdir(parents=True, exist_ok=True)
                shoot_sizes(browser, address, sizes)
            else:
                shoot_pages(browser, address)
                shoot_desk(browser, address, folder)
                shoot_rollout(browser, address)
                shoot_commands(browser, folder / f"{ENDPOINT}.lamp")
            browser.close()
        town.stop()
    into = sizes or OUT
    print(f"{len(list(into.glob('*.png')))} pictures in {into}")


if __name__ == "__main__":
    main()
