"""The console with what its designer did not draw: many rows, long names, many fields, other scripts, a viewer, a service that is away."""

import json
import re
from typing import Any

import numpy as np
import pandas as pd
from playwright.sync_api import Page, Route, expect
from sklearn.linear_model import LogisticRegression

import lamppost
from tests.end_to_end.test_console import InBrowser
from tests.support.lamps import outage_lamp, run_folder

LONG = "street-lamps-of-the-harbour-and-of-the-mill-by-their-districts"[:60]
FIELDS, LABELS = 300, 40
MEANING = "عمر المصباح بالسنوات"
DIGITS = "123456789012345678901234567890"
MANY = 100_000
PATHS = ("", "/traffic", "/drift", "/outcomes", "/calls")


def wide_lamp() -> Any:
    """A model of 300 fields and 40 labels with a name of 60 characters."""
    random = np.random.default_rng(3)
    names = [f"reading_{at:03d}_of_the_sensor_in_the_lamp" for at in range(FIELDS)]
    frame = pd.DataFrame(random.normal(size=(800, FIELDS)), columns=names)
    target = np.array([f"label-{at:02d}" for at in range(LABELS)])[np.argsort(np.argsort(frame[names[0]])) * LABELS // 800]
    model = LogisticRegression(max_iter=20).fit(frame, target)
    fields = {names[0]: {"meaning": MEANING}}
    to = run_folder() / "wide.lamp"
    return lamppost.pack(model, frame.assign(kind=target), name=LONG, target="kind", fields=fields, to=to, quiet=True).path


class Extremes(InBrowser):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.service.serve(wide_lamp(), LONG)
        cls.service.serve(outage_lamp())

    def inside(self, page: Page) -> None:
        """Nothing runs off the right edge of the window."""
        wide = page.evaluate("() => [document.documentElement.scrollWidth, document.querySelector('main').scrollWidth - innerWidth]")
        self.assertLessEqual(wide[0], 1280)
        self.assertLessEqual(wide[1], 0)

    def test_long_names_many_fields_and_labels_and_right_to_left_text(self) -> None:
        with self.page(f"/endpoints/{LONG}") as page:
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_test_id("label")).to_have_text(re.compile(r"label-\d\d"))
            expect(page.get_by_text(MEANING)).to_be_visible()
            for path in PATHS:
                page.goto(f"{self.service.address}/endpoints/{LONG}{path}")
                expect(page.get_by_role("heading", name=LONG)).to_be_visible()
                expect(page.locator("[aria-busy=true]")).to_have_count(0)
                with self.subTest(path):
                    self.inside(page)
            page.goto(f"{self.service.address}/models/{LONG}/1")
            fields = page.get_by_role("table", name="input fields")
            expect(fields).to_have_attribute("aria-rowcount", str(FIELDS + 1))
            self.assertLess(fields.locator("tr[data-row]").count(), 100, "only rows in sight are drawn")
            fields.locator("tr[data-row='0']").focus()
            page.keyboard.press("End")
            expect(fields.locator(f"tr[data-row='{FIELDS - 1}']")).to_be_focused()
            self.inside(page)

    def test_thirty_digits_go_out_as_they_were_typed(self) -> None:
        with self.page(f"/endpoints/{LONG}") as page:
            asked: list[str] = []
            page.on("request", lambda request: asked.append(request.post_data or "") if "/predict/" in request.url else None)
            page.get_by_label("reading_001_of_the_sensor_in_the_lamp").fill(DIGITS)
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_test_id("label")).to_be_visible()
            self.assertIn(f": {DIGITS},", asked[0])

    def test_a_hundred_thousand_rows_are_sorted_and_read_to_the_end(self) -> None:
        token = {"role": "caller", "endpoints": None, "rate_per_s": None, "made_by": "admin", "made_at": "2026-11-01T00:00:00Z"}
        more = {"expires_at": None, "revoked_at": None, "last_used_at": None}
        body = json.dumps([{"name": f"caller-{at}", **token, **more} for at in range(MANY)])
        with self.page("/") as page:
            page.route("**/api/tokens", lambda route: route.fulfill(body=body, content_type="application/json"))
            page.goto(self.service.address + "/tokens")
            table = page.get_by_role("table", name="tokens")
            table.wait_for()  # twenty megabytes through the browser's driver
            expect(table).to_have_attribute("aria-rowcount", str(MANY + 1))
            self.assertLess(table.locator("tr[data-row]").count(), 120)
            table.get_by_role("button", name="token", exact=True).click()
            expect(table.locator("tr[data-row='1']")).to_contain_text("caller-1")
            table.get_by_role("button", name="token", exact=True).click()
            expect(table.locator("tr[data-row='0']")).to_contain_text(f"caller-{MANY - 1}")
            table.locator("tr[data-row='0']").focus()
            page.keyboard.press("End")
            expect(table.locator(f"tr[data-row='{MANY - 1}']")).to_contain_text("caller-0")
            page.get_by_role("button", name="columns and CSV of tokens").click()
            page.get_by_role("menuitemcheckbox", name="last used").click()
            page.keyboard.press("Escape")
            expect(table.get_by_role("columnheader", name="last used")).to_have_count(0)
            page.get_by_role("button", name="columns and CSV of tokens").click()
            page.get_by_role("menuitem", name="Copy as CSV").click()
            # The toast stands for four seconds, which a busy machine may spend on drawing; what counts is the clipboard.
            page.wait_for_function("() => navigator.clipboard.readText().then((text) => text.startsWith('token,'))")
            copied = page.evaluate("() => navigator.clipboard.readText()")
            self.assertEqual(copied.splitlines()[0], "token,role,endpoints,a second,made,by,state")
            self.assertEqual(len(copied.splitlines()), MANY + 1)

    def test_few_and_very_many_endpoints(self) -> None:
        for count in (5, 50, 3_000):
            with self.subTest(count), self.page("/") as page:

                def many(route: Route, *, count: int = count) -> None:
                    answer = route.fetch().json()
                    one = answer["shown"][0]
                    answer["shown"] = [{**one, "name": f"endpoint-{at:04d}"} for at in range(min(count, 200))]
                    answer |= {"endpoints": count, "found": count, "states": {"serving": count - 2, "asleep": 2}}
                    route.fulfill(json=answer)

                page.route("**/api/overview*", many)
                page.goto(self.service.address + "/")
                expect(page.get_by_text(f"{count:,} endpoints, {count - 2:,} serving, 2 asleep.")).to_be_visible()
                table = page.get_by_role("table", name="endpoints")
                expect(table).to_have_attribute("aria-rowcount", str(min(count, 200) + 1))
                self.assertLess(table.locator("tr[data-row]").count(), 120)
                expect(page.get_by_text("200 of 3,000: first those")).to_have_count(int(count > 200))
                expect(page.get_by_text("2,940 more: press /")).to_have_count(int(count > 200))
                self.inside(page)
                page.unroute_all(behavior="ignoreErrors")  # the page asks again and again, also while it is closed

    def test_a_viewer_is_offered_nothing_that_is_refused(self) -> None:
        with self.service.client() as client:
            secret = client.fetch("POST", "/api/tokens", {"name": "onlooker", "role": "viewer"})["secret"]
        with self.page(None) as page:
            page.goto(self.service.address)
            page.get_by_label("Token").fill(secret)
            page.get_by_label("Token").press("Enter")
            expect(page.get_by_role("heading", name="Endpoints")).to_be_visible()
            expect(page.get_by_role("link", name="Tokens")).to_have_count(0)
            page.goto(self.service.address + "/endpoints/outage-risk")
            expect(page.get_by_role("heading", name="outage-risk")).to_be_visible()
            for name in ("Go back", "Serve another version", "change how it runs", "have it again"):
                expect(page.get_by_role("button", name=re.compile(name))).to_have_count(0)
            page.goto(self.service.address + "/tokens")
            expect(page.get_by_role("alert")).to_contain_text("may not tokens")

    def test_a_service_that_is_away_is_said_and_come_back_to(self) -> None:
        with self.page("/endpoints/outage-risk") as page:
            expect(page.get_by_text("served by")).to_be_visible()
            page.route("**/api/**", lambda route: route.abort())
            page.get_by_role("link", name="Traffic").click()
            expect(page.get_by_role("alert")).to_contain_text("The service cannot be reached")
            expect(page.get_by_text("Not up to date")).to_be_visible()
            expect(page.get_by_role("heading", name="outage-risk")).to_be_visible()
            page.unroute("**/api/**")
            page.get_by_role("button", name="Try again").first.click()
            expect(page.get_by_text("Not up to date")).to_have_count(0)
            page.get_by_role("button", name="Try again").or_(page.get_by_role("slider", name="Calls over time")).first.click()
            expect(page.get_by_role("slider", name="Calls over time")).to_be_visible()
