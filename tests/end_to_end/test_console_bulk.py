"""The pages about bulk runs, and the desk, in a real browser: with a mouse, with keys, and on a telephone."""

import csv
import io
from pathlib import Path
from typing import ClassVar

import pandas as pd
from playwright.sync_api import Page, expect

from demo.lamps import make_lamps
from tests.end_to_end.test_console import InBrowser
from tests.support.lamps import outage_lamp

SETTINGS = {
    "title": "Will this lamp fail?",
    "introduction": "For the lighting office.",
    "use": "To plan visits, and for nothing else.",
    "fields": {"age_years": {"label": "Age", "hint": "years since it was put up"}, "under_trees": {"label": "Stands under trees"}},
    "answers": {"fails": {"text": "Send somebody", "state": "act"}, "holds": {"text": "Nothing to do", "state": "fine"}},
}


def lamps(rows: int, seed: int = 5) -> pd.DataFrame:
    frame = make_lamps(rows, seed).drop(columns="failed")
    frame.insert(0, "lamp", range(1, rows + 1))
    return frame


class BulkPages(InBrowser):
    link: ClassVar[str]

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        files = cls.service.folder / "files"
        files.mkdir()
        cls.service.stop()
        cls.service.options = (*cls.service.options, "--folder", f"files={files}")
        cls.service.start()
        cls.files = files
        cls.service.serve(outage_lamp())
        lamps(4_000).to_parquet(files / "lamps.parquet")
        with cls.service.client() as client:
            client.fetch("PUT", "/api/desks/outage-risk", SETTINGS)
            cls.link = client.fetch("POST", "/api/desks/outage-risk/links", {"name": "office"})["link"]

    def fill_form(self, page: Page) -> None:
        for name, option in (("district", 0), ("lamp_type", 0)):
            page.get_by_label(name, exact=True).click()
            page.get_by_role("option").nth(option).click()
        for name, value in (("Age", "31"), ("height_m", "8"), ("nights_since_visit", "500")):
            page.get_by_label(name, exact=True).fill(value)
        page.get_by_role("radio", name="yes").click()

    # -- bulk runs ----------------------------------------------------------------------------------------------------

    def test_a_run_is_started_followed_and_read(self) -> None:
        with self.service.client() as client:
            client.bulk("outage-risk", "files:lamps.parquet", name="first-run", keep=["lamp"]).wait()
            client.bulk("outage-risk", "files:lamps.parquet", name="second-run", keep=["lamp"]).wait()
        with self.page("/bulk") as page:
            page.get_by_role("link", name="second-run").click()
            expect(page.get_by_role("heading", name="second-run")).to_be_visible()
            answers = page.get_by_role("region", name="Answers", exact=True)
            expect(answers.get_by_role("row")).to_have_count(3)
            expect(answers).to_contain_text("first-run")
            expect(page.get_by_role("region", name="Answers: scores.fails")).to_contain_text("the median is")
            expect(page.get_by_role("region", name="What is different")).to_contain_text("steady")
            with page.expect_popup() as opened:
                page.get_by_role("link", name="HTML").click()
            expect(opened.value.get_by_role("heading", name="Like training?")).to_be_visible()

    def test_loads_stand_on_the_page_of_the_traffic(self) -> None:
        with self.service.client() as client:
            plan = {"endpoints": ["outage-risk"], "clients": [4], "seconds": 1}
            begun = client.fetch("POST", "/api/loads", {"plan": plan, "name": "seen-load"})
            with self.page("/endpoints/outage-risk") as page:
                expect(page.get_by_role("status").filter(has_text="seen-load")).to_contain_text("left out of traffic")
            slices = [{"calls": 90, "errors": 0, "latency": {"230": 90}}]
            step = {"clients": 4, "seconds": 1.0, "slices": slices, "errors": {"503": 2}, "most_us": 12_000}
            client.fetch("PUT", f"/api/loads/{begun['name']}/result", {"steps": [step]})
        with self.page("/endpoints/outage-risk/traffic") as page:
            row = page.get_by_role("table", name="loads").get_by_role("row").filter(has_text="seen-load")
            expect(row).to_contain_text("90")
            expect(row).to_contain_text("outage-risk@1")

    # -- the desk -------------------------------------------------------------------------------------------------------

    def test_somebody_asks_one_question_and_why(self) -> None:
        with self.page(None) as page:
            page.goto(self.link)
            expect(page.get_by_role("heading", name="Will this lamp fail?")).to_be_visible()
            self.assertNotIn("link=", page.url)
            expect(page.get_by_text("To plan visits, and for nothing else.")).to_be_visible()
            page.get_by_role("button", name="Ask").click()
            expect(page.get_by_role("alert")).to_contain_text("missing or do not fit")
            self.fill_form(page)
            page.get_by_label("Age", exact=True).press("Enter")
            answer = page.get_by_role("region", name="the answer")
            expect(answer).to_contain_text("Send somebody")
            self.assertNotIn("outage-risk@", page.locator("body").inner_text())
            answer.get_by_role("button", name="Why?").click()
            expect(answer.get_by_role("region", name="why")).to_contain_text("speaks")
            page.get_by_label("Age", exact=True).fill("2")
            expect(answer).to_contain_text("The form was changed since")

    def test_a_file_is_matched_answered_sorted_and_taken_home(self) -> None:
        frame = lamps(300).rename(columns={"age_years": "AGE"})
        frame["AGE"] = frame["AGE"].astype(object)
        frame.loc[7, "AGE"] = "old"
        file = Path(self.service.folder / "round.csv")
        frame.to_csv(file, index=False, sep=";")
        with self.page(None) as page:
            page.goto(self.link)
            page.get_by_role("link", name="A whole file").click()
            page.set_input_files("input[type=file]", file)
            expect(page.get_by_label("column of Age")).to_contain_text("AGE")
            before = page.get_by_role("region", name="before it starts")
            expect(before).to_contain_text("1 would stay without an answer")
            expect(before.get_by_role("table")).to_contain_text("Age")
            before.get_by_role("button", name="Answer 299 rows").click()
            rows = page.get_by_role("region", name="rows", exact=True)
            expect(rows).to_contain_text("299 of 299 rows")
            page.get_by_role("region", name="answers").get_by_role("button").first.click()
            expect(rows).to_contain_text("with “")
            rows.get_by_role("button", name="AGE").click()
            expect(rows.get_by_role("columnheader", name="AGE")).to_have_attribute("aria-sort", "ascending")
            rows.get_by_role("row").nth(1).click()
            page.keyboard.press("ArrowDown")
            expect(rows.get_by_role("row").nth(2)).to_be_focused()
            rows.get_by_label("search in all columns").fill("no such thing")
            expect(rows).to_contain_text("no row is like that")
            with page.expect_download() as taken:
                page.get_by_role("link", name="CSV").click()
            home = list(csv.DictReader(io.StringIO(Path(taken.value.path()).read_text(encoding="utf-8-sig"))))
            self.assertEqual(len(home), 299)
            address = page.url
        with self.page(None) as page:  # the address alone opens nothing; the link does
            page.goto(address)
            expect(page.get_by_role("heading", name="The desk is closed here")).to_be_visible()

    def test_a_desk_fits_a_telephone(self) -> None:
        context = self.browser.new_context(viewport={"width": 360, "height": 740})
        self.addCleanup(context.close)
        page = context.new_page()
        page.goto(self.link)
        expect(page.get_by_role("button", name="Ask")).to_be_visible()
        for path in ("", "/file"):
            page.goto(f"{self.service.address}/desk/outage-risk{path}")
            expect(page.get_by_role("heading", name="Will this lamp fail?")).to_be_visible()
            self.assertEqual(page.evaluate("document.documentElement.scrollWidth"), 360)

    def test_the_owner_sets_a_desk_and_makes_and_ends_a_link(self) -> None:
        with self.page("/endpoints/outage-risk/desk") as page:
            page.get_by_label("what fails is called").fill("Look at it soon")
            page.get_by_role("button", name="Set", exact=True).click()
            expect(page.get_by_label("what fails is called")).to_have_value("Look at it soon")
            page.get_by_label("for whom").fill("night-shift")
            page.get_by_role("button", name="Make a link").click()
            note = page.get_by_role("status").filter(has_text="opens the desk")
            expect(note).to_contain_text("/desk/outage-risk#link=lamp_")
            row = page.get_by_role("table", name="links").get_by_role("row").filter(has_text="night-shift")
            row.get_by_role("button", name="Revoke").click()
            page.get_by_role("alertdialog").get_by_role("button", name="Revoke").click()
            expect(row).to_have_count(0)
        with self.service.client() as client:
            client.fetch("PUT", "/api/desks/outage-risk", SETTINGS)
