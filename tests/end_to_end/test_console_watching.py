"""Watching in the console: what needs a look, why it drifted, how fast, how good, which calls."""

import re
from datetime import timedelta
from pathlib import Path

from playwright.sync_api import Locator, Page, Route, expect

from tests.end_to_end.test_console import InBrowser
from tests.support.lamps import outage_lamp
from tests.support.service import until
from tests.support.watching import bring, scaled, usual, window_start

ROOT = Path(__file__).resolve().parents[2]
PAGES = (
    "/",
    "/endpoints/outage-risk",
    "/endpoints/outage-risk/traffic",
    "/endpoints/outage-risk/drift",
    "/endpoints/outage-risk/outcomes",
    "/endpoints/outage-risk/calls",
    "/alerts",
    "/models",
    "/models/outage-risk/1",
    "/compare?before=outage-risk@1&after=outage-risk@1",
    "/lanes",
    "/reviews",
    "/declared",
    "/trail",
    "/logs",
    "/docs",
    "/tokens",
)
INSIDE = {"rules": {"region": {"enabled": False}}}
"""What opens over a page stands outside its landmarks."""
AXE = (ROOT / "console" / "node_modules" / "axe-core" / "axe.min.js").read_text(encoding="utf-8")


class Watching(InBrowser):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        with cls.service.client() as client:
            client.point("outage-risk", client.push(outage_lamp(), "outage-before")["version"])
        cls.service.serve(outage_lamp())
        with cls.service.client() as client:
            for hours in (4, 3):
                bring(client, "outage-risk", "outage-risk@1", usual(300, hours), window_start(hours))
            for hours in (2, 1):
                ids = bring(client, "outage-risk", "outage-risk@1", scaled(usual(300, hours), "mill", 1.15), window_start(hours))
            told = [{"request_id": one, "truth": "fails" if at % 6 == 0 else "holds"} for at, one in enumerate(ids)]
            client.fetch("POST", "/api/endpoints/outage-risk/outcomes", {"outcomes": told})
            until(lambda: client.fetch("GET", "/api/alerts", state="open"), 40, "the alert")
            until(lambda: client.fetch("GET", "/api/endpoints/outage-risk/drift")["explanation"], 40, "the reason")

    def test_from_the_overview_to_the_reason_and_the_odd_calls(self) -> None:
        with self.page("/") as page:
            look = page.get_by_role("region", name="needs a look")
            expect(look).to_contain_text("voltage_v where district is mill")
            expect(page.get_by_role("table").get_by_role("row").nth(1)).to_contain_text("drifted")
            look.get_by_role("link", name="Look at it").click()
            why = page.get_by_role("region", name="Probably why")
            expect(why).to_contain_text("voltage_v where district is mill")
            expect(page.get_by_role("slider", name="voltage_v, training and window")).to_be_visible()
            page.get_by_role("button", name="district", exact=True).click()
            expect(page.get_by_role("rowheader", name="old-town")).to_be_visible()
            windows = page.get_by_role("group", name="windows, oldest first").get_by_role("button")
            expect(windows).to_have_count(4)
            windows.first.click()
            expect(page.get_by_text("Steady: 300 rows look like training")).to_be_visible()
            page.get_by_role("link", name="Traffic").click()
            expect(page.get_by_text("300 calls")).to_be_visible()
            page.get_by_role("link", name="Drift").click()
            expect(page.get_by_text("Steady: 300 rows look like training")).to_be_visible()
            page.get_by_role("switch", name="live").click()
            page.get_by_role("link", name="Look at the odd calls").click()
            calls = page.get_by_role("table", name="calls")
            expect(calls.get_by_role("row").nth(1)).to_contain_text("odd: voltage_v is")
            page.get_by_label("search calls").fill("Duskworks")
            page.get_by_role("button", name="odd", exact=True, pressed=True).click()
            expect(page.get_by_text("lamppost tail outage-risk --contains 'Duskworks' --follow")).to_be_visible()
            expect(page.get_by_role("region", name="calls").locator("[aria-busy=true]")).to_have_count(0)
            calls.get_by_role("button", name="call at").last.click()  # the newest may be of another test
            expect(calls).to_contain_text("answered elsewhere: simulated")

    def test_traffic_and_outcomes(self) -> None:
        with self.page("/endpoints/outage-risk/traffic?span=day") as page:
            expect(page.get_by_text("1,200 calls")).to_be_visible()
            expect(page.get_by_role("slider", name="How fast over time")).to_be_visible()
            phases = page.get_by_role("region", name="Where the time goes")
            expect(phases.get_by_role("row", name="worker")).to_contain_text("1.48")
            page.get_by_role("radio", name="hour").click()
            page.get_by_role("link", name="Outcomes").click()
            expect(page.get_by_role("region", name="Accuracy")).to_contain_text("300 of 1,200 known (25 %)")
            expect(page.get_by_role("slider", name="Calibration")).to_be_visible()

    def test_lanes_say_what_holds_workers_and_which_records_were_set_aside(self) -> None:
        def two_refused(route: Route) -> None:
            answer = route.fetch()
            route.fulfill(response=answer, json=answer.json() | {"records_set_aside": 2})

        with self.page("/lanes") as page:
            expect(page.get_by_text("Workers are confined: files, network, processes, signals, memory;")).to_be_visible()
            expect(page.get_by_text("set aside")).to_have_count(0)
            page.route("**/api/node", two_refused)
            page.reload()
            expect(page.get_by_text("The records of 2 calls could not be stored and were set aside")).to_contain_text("lamppost records")

    def test_an_alert_is_looked_after_and_muted(self) -> None:
        with self.page("/alerts") as page:
            alert = page.get_by_role("region", name="alert 1")
            alert.get_by_label("note").fill("the depot asks the maker")
            alert.get_by_role("button", name="I look after it").click()
            expect(alert).to_contain_text("looked after by admin")
            expect(alert).to_contain_text("Note: the depot asks the maker")
            alert.get_by_role("button", name="Mute for 4 hours").click()
            self.expect_toast(page, "outage-risk is muted until")
            page.get_by_role("button", name="Undo").click()
            self.expect_toast(page, "outage-risk is no longer muted")
            expect(page.get_by_text("Nobody yet. Webhooks are signed")).to_be_visible()

    def accessible(self, page: Page, what: str, within: str = "html", **only: object) -> None:
        """No rule of accessibility is broken by what is shown now. within : a selector of the part that is looked at."""
        run = "([within, only]) => axe.run({ include: [[within]] }, { resultTypes: ['violations'], ...only })"
        found = page.evaluate(run, [within, only])["violations"]
        with self.subTest(what):
            self.assertEqual([(fault["id"], fault["nodes"][0]["html"][:200]) for fault in found], [])

    def test_no_page_has_an_accessibility_fault_in_either_theme(self) -> None:
        for scheme in ("light", "dark"):
            with self.page("/") as page:
                page.emulate_media(color_scheme=scheme)
                for path in PAGES:
                    page.goto(self.service.address + path)
                    expect(page.get_by_role("heading").first).to_be_visible()
                    expect(page.locator("[aria-busy=true]")).to_have_count(0)
                    page.evaluate(AXE)
                    only = {} if scheme == "light" else {"runOnly": ["color-contrast"]}  # nothing else depends on the theme
                    self.accessible(page, f"{path}, {scheme}", **only)

    def test_what_opens_over_a_page_has_no_accessibility_fault(self) -> None:
        with self.page("/endpoints/outage-risk") as page:
            page.evaluate(AXE)
            page.get_by_role("button", name="columns and CSV of calls").click()
            self.accessible(page, "a table's menu", "[role=menu]", **INSIDE)
            page.keyboard.press("Escape")
            page.get_by_role("button", name="Serve another version").or_(page.get_by_role("button", name="Leave it")).first.click()
            page.get_by_role("button", name="change how it runs").click()
            self.accessible(page, "forms")
            page.get_by_role("button", name="Go back to outage-before@1").click()
            expect(page.get_by_role("alertdialog")).to_be_visible()
            self.accessible(page, "a question", "[role=alertdialog]", **INSIDE)
            page.keyboard.press("Escape")
            page.keyboard.press("/")
            expect(page.get_by_role("dialog")).to_be_visible()
            self.accessible(page, "the palette", "[role=dialog]", **INSIDE)
            page.keyboard.press("Escape")
            page.get_by_text("Engine", exact=True).hover()
            expect(page.get_by_role("tooltip")).to_contain_text("One version on one node")
            self.accessible(page, "a term", "[data-radix-popper-content-wrapper]", **INSIDE)

    def test_an_incident_by_keyboard_alone(self) -> None:
        with self.page("/") as page:
            page.keyboard.press("/")
            page.keyboard.type("alerts")
            page.keyboard.press("Enter")
            alert = page.get_by_role("region", name=re.compile("^alert"))
            expect(alert).to_be_visible()
            self.tab_to(page, alert.get_by_role("link", name="outage-risk"))
            page.keyboard.press("Enter")
            expect(page.get_by_role("region", name="Probably why")).to_be_visible()
            chart = page.get_by_role("slider", name="voltage_v, training and window")
            self.tab_to(page, chart)
            page.keyboard.press("ArrowRight")
            expect(chart).to_have_attribute("aria-valuetext", re.compile("in training, .* now"))
            self.tab_to(page, page.get_by_role("button", name="Go back to outage-before@1"))
            page.keyboard.press("Enter")
            dialog = page.get_by_role("alertdialog")
            self.tab_to(page, dialog.get_by_role("button", name="Go back"))
            page.keyboard.press("Enter")
            self.expect_toast(page, "outage-risk is back at outage-before@1")
            page.keyboard.press("F8")  # to what was done
            self.tab_to(page, page.get_by_role("button", name="Undo"))
            page.keyboard.press("Enter")
            self.expect_toast(page, "outage-risk serves outage-risk@1")
            page.keyboard.press("/")
            page.keyboard.type("alerts")
            page.keyboard.press("Enter")
            self.tab_to(page, page.get_by_role("region", name=re.compile("^alert")).get_by_label("note"))
            page.keyboard.type("the depot asks the maker")
            expect(page.get_by_label("note")).to_have_value("the depot asks the maker")

    def tab_to(self, page: Page, target: Locator) -> None:
        """Press Tab until the target has the focus."""
        for _ in range(80):
            if target.evaluate("(element) => element === document.activeElement"):
                return
            page.keyboard.press("Tab")
        self.fail(f"{target} is not reached by Tab")

    def test_a_page_that_is_hidden_asks_for_nothing(self) -> None:
        hide = """() => {
          Object.defineProperty(document, "visibilityState", { get: () => "hidden", configurable: true });
          document.dispatchEvent(new Event("visibilitychange"));
        }"""
        with self.page("/endpoints/outage-risk") as page:
            expect(page.get_by_text("served by")).to_be_visible()
            page.evaluate(hide)
            page.wait_for_load_state("networkidle")
            asked: list[str] = []
            page.on("request", lambda request: asked.append(request.url))
            page.wait_for_timeout(5_000)  # twice as long as the longest pause between two questions of this page
            self.assertEqual(asked, [])

    def test_the_address_of_a_page_shows_what_its_sender_saw(self) -> None:
        with self.page("/endpoints/outage-risk/traffic?span=day") as page:
            page.get_by_role("switch", name="live").click()
            expect(page.get_by_role("switch", name="live")).not_to_be_checked()
            page.get_by_role("button", name="local time").click()
            address = page.url
            shown = page.get_by_role("group", name="time").inner_text()
            page.goto(self.service.address)
            page.goto(address)
            expect(page.get_by_role("group", name="time")).to_have_text(re.compile(r"UTC"))
            self.assertEqual(page.get_by_role("group", name="time").inner_text(), shown)

    def test_a_narrow_screen_reads_alerts_and_states_and_goes_back(self) -> None:
        with self.page("/") as page:
            page.set_viewport_size({"width": 390, "height": 844})
            for path in PAGES:
                page.goto(self.service.address + path)
                expect(page.get_by_role("heading").first).to_be_visible()
                wide = page.evaluate("() => document.documentElement.scrollWidth")
                self.assertLessEqual(wide, 390, f"{path} runs off the right edge")
            page.goto(f"{self.service.address}/alerts")
            expect(page.get_by_role("region", name="alert 1")).to_contain_text("voltage_v")
            page.get_by_role("button", name="open the menu").click()
            page.get_by_role("navigation", name="endpoints").get_by_role("link", name="outage-risk").click()
            expect(page.get_by_role("button", name="Go back")).to_be_visible()
            expect(page.get_by_role("button", name="open the menu")).to_be_visible()

    def test_a_report_opens_in_the_browser(self) -> None:
        with self.page("/endpoints/outage-risk/drift") as page:
            at = (window_start(1) + timedelta(minutes=1)).isoformat()
            self.assertIn("week", page.get_by_role("link", name="report of the week").get_attribute("href") or "", at)
            with page.context.expect_page() as opened:
                page.get_by_role("link", name="report of the week").click()
            expect(opened.value.get_by_role("heading", name="outage-risk", level=1)).to_be_visible()
            expect(opened.value.get_by_text("its inputs or answers drifted in 2 windows")).to_be_visible()
