"""The console in a real browser: sign in, ask, read the answer; and what goes wrong."""

import json
import os
import re
import shutil
import unittest
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
from playwright.sync_api import Browser, Page, expect, sync_playwright

from demo.lamps import make_traffic
from demo.poles import draw_post
from lamppost.core.errors import NotSignedIn
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from tests.support.lamps import made_once, outage_lamp
from tests.support.models import OUTAGE, small_outage_model
from tests.support.other_lamps import photo_lamp, several_lamp
from tests.support.service import Language, Service, until

ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


ROW = make_traffic(1, seed=3)[0]
SNIPPETS: dict[str, Language] = {"curl": "bash", "Command": "bash", "Python": "python", "requests": "python", "fetch": "node"}


@unittest.skipUnless(shutil.which("chromium") or os.environ.get("CI"), "chromium is not installed")
class InBrowser(unittest.TestCase):
    service: Service
    browser: Browser

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service().start()
        cls.addClassCleanup(cls.service.remove)
        expect.set_options(timeout=60_000)
        driver = sync_playwright().start()
        cls.addClassCleanup(driver.stop)
        cls.browser = driver.chromium.launch(executable_path=shutil.which("chromium"), args=ARGUMENTS)
        cls.addClassCleanup(cls.browser.close)

    @contextmanager
    def page(self, path: str | None = "/") -> Iterator[Page]:
        """A page in a browser nobody used before, signed in by a one-time link; no fault in it and no foreign address is let pass."""
        errors: list[str] = []
        addresses: list[str] = []
        context = self.browser.new_context(viewport={"width": 1280, "height": 800})
        context.grant_permissions(["clipboard-read", "clipboard-write"])
        page = context.new_page()
        page.set_default_timeout(60_000)
        page.context.set_default_timeout(60_000)
        page.on("pageerror", lambda error: errors.append(str(error)))
        page.on("request", lambda request: addresses.append(request.url))
        try:
            if path is not None:
                with self.service.client() as client:
                    page.goto(client.fetch("POST", "/api/session/link")["link"])
                expect(page.get_by_role("heading", name="Endpoints")).to_be_visible()
                if path != "/":
                    page.goto(self.service.address + path)
            yield page
        finally:
            context.close()
        self.assertEqual(errors, [])
        self.assertEqual([url for url in addresses if not url.startswith((self.service.address, "data:"))], [])

    def expect_toast(self, page: Page, text: str) -> None:
        """What was done is told in a corner."""
        expect(page.locator("li[data-state=open]").filter(has_text=text)).to_be_visible()


class Console(InBrowser):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.service.serve(outage_lamp())

    def test_sign_in_open_the_endpoint_press_the_button_read_the_label(self) -> None:
        with self.page(None) as page:
            page.goto(self.service.address)
            page.get_by_label("Token").fill("lamp_wrong")
            page.get_by_role("button", name="Sign in").click()
            expect(page.get_by_role("alert")).to_contain_text("A token is needed")
            page.get_by_label("Token").fill(self.service.token)
            page.get_by_label("Token").press("Enter")
            expect(page.get_by_text("One endpoint, serving.")).to_be_visible()
            page.get_by_role("table").get_by_role("link", name="outage-risk", exact=True).click()
            expect(page.get_by_role("heading", name="outage-risk")).to_be_visible()
            page.get_by_role("button", name="Ask", exact=True).click()
            label = page.get_by_test_id("label")
            expect(label).to_have_text(re.compile("holds|fails"))
            answer = page.get_by_role("region", name="Answer")
            expect(answer).to_contain_text("outage-risk@1")
            expect(answer).to_contain_text(re.compile(r"\d ms"))
            self.assertEqual(answer.get_by_role("row").count(), 2)
            calls = page.get_by_role("region", name="Last calls")
            expect(calls.get_by_role("row").nth(1)).to_contain_text(label.inner_text())
            calls.get_by_role("row").nth(1).click()
            expect(calls).to_contain_text("what went in")
            page.get_by_role("button", name="sign out").click()
            expect(page.get_by_label("Token")).to_be_visible()

    def test_a_refused_value_is_shown_at_its_field_and_can_be_mended(self) -> None:
        with self.page("/endpoints/outage-risk") as page:
            age = page.get_by_role("form").get_by_label("age_years")
            was = age.input_value()
            age.fill("old")
            page.get_by_label("nights_since_visit").fill("-3")
            age.press("Enter")
            expect(page.get_by_role("alert")).to_contain_text("2 fields need a look.")
            expect(age).to_have_attribute("aria-invalid", "true")
            expect(age).to_be_focused()
            expect(page.get_by_text("expected a number from 0 to 80 (years)")).to_be_visible()
            page.get_by_role("button", name="back to the example").click()
            self.assertEqual(age.input_value(), was)
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_test_id("label")).to_be_visible()
            expect(age).to_have_attribute("aria-invalid", "false")

    def test_rules_are_checked_while_typing(self) -> None:
        with self.page("/endpoints/outage-risk") as page:
            age = page.get_by_role("form").get_by_label("age_years")
            for typed, wrong in (("81", "true"), ("8", "false"), ("08", "true"), ("1e1", "false"), ("", "true")):
                age.fill(typed)
                expect(age).to_have_attribute("aria-invalid", wrong)
            expect(page.get_by_text("expected a number from 0 to 80 (years)", exact=True)).to_be_visible()

    def test_a_body_is_written_by_hand_with_the_schema_beside_it(self) -> None:
        with self.page("/endpoints/outage-risk") as page:
            page.get_by_role("form").get_by_label("age_years").fill("33")
            page.get_by_role("button", name="write the body").click()
            body = page.get_by_label("body")
            row = json.loads(body.input_value())
            self.assertEqual(row["age_years"], 33)
            expect(page.get_by_label("fields", exact=True)).to_contain_text("a number from 0 to 80 (years)")
            body.fill(json.dumps({"rows": [row, {**row, "age_years": 3}]}))
            expect(page.get_by_role("button", name="fill in the form")).to_be_disabled()
            body.press("Control+Enter")
            expect(page.get_by_text("That is the first of 2 rows.")).to_be_visible()
            body.fill(json.dumps({"rows": [row, {**row, "age_years": "x", "maker": 3}]}))
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_label("faults")).to_contain_text('row 1, age_years: given "x", expected a number from 0 to 80 (years)')
            body.fill("{")
            expect(page.get_by_text("Not JSON yet")).to_be_visible()
            body.fill(json.dumps({**row, "age_years": 7}))
            page.get_by_role("button", name="fill in the form").click()
            self.assertEqual(page.get_by_role("form").get_by_label("age_years").input_value(), "7")

    def test_the_same_row_to_two_versions(self) -> None:
        with self.service.client() as client:
            client.push(other_forest(), "outage-risk")
        with self.page("/endpoints/outage-risk") as page:
            choose(page, "ask too", "outage-risk@2")
            page.get_by_role("button", name="Ask", exact=True).click()
            other = page.get_by_role("region", name="What outage-risk@2 says")
            expect(other.get_by_role("row", name="scores.fails")).to_be_visible()
            expect(other).to_contain_text("not recorded")
            self.assertNotEqual(other.get_by_role("row", name="scores.fails").get_by_role("cell").nth(1).inner_text(), "the same")
            expect(page.get_by_role("region", name="Answer")).to_contain_text("outage-risk@1")

    def test_an_answer_is_explained_and_what_would_change_it_is_tried(self) -> None:
        with self.page("/endpoints/outage-risk") as page:
            why = page.get_by_role("region", name="Why")
            expect(why).to_contain_text("most of all because of")
            expect(why.get_by_role("table", name="contributions").get_by_role("row")).to_have_count(10)
            first = why.get_by_role("table", name="contributions").get_by_role("button").first
            why.get_by_role("button", name="age_years", exact=True).click()
            slider = why.get_by_role("slider", name="value of age_years")
            expect(slider).to_be_visible()
            before = slider.get_attribute("aria-valuetext")
            slider.focus()
            page.keyboard.press("End")
            expect(slider).not_to_have_attribute("aria-valuetext", str(before))
            why.get_by_role("button", name="Ask with it").first.click()
            expect(page.get_by_test_id("label")).to_be_visible()
            expect(page.get_by_role("form").get_by_label("age_years")).not_to_have_value(str(before).split(":")[0])
            expect(why.locator("[aria-busy=false]").first).to_be_visible()
            expect(first).to_be_visible()
            why.get_by_role("button", name="lamp_type", exact=True).click()
            expect(why.get_by_role("table", name="lamp_type through its values").get_by_role("row")).to_have_count(3)
            with page.expect_download() as saved:
                why.get_by_role("button", name="the rows that were tried, as CSV").click()
            lines = Path(saved.value.path()).read_text().splitlines()
            self.assertTrue(lines[0].startswith("differs,district,"), lines[0])
            self.assertGreater(len(lines), 300)

    def test_a_recorded_call_is_explained_on_its_page(self) -> None:
        with self.service.client() as client:
            request_id = client.predict("outage-risk", make_traffic(2, seed=9)).request_id
            until(lambda: any(call["request_id"] == request_id for call in client.calls("outage-risk")), what="the record")
        with self.page(f"/calls/{request_id}") as page:
            why = page.get_by_role("region", name="Why")
            expect(why).to_contain_text("outage-risk@1 was asked about")
            summary = why.locator("p").first.inner_text()
            page.get_by_role("combobox", name="row to explain").click()
            page.get_by_role("option", name="1", exact=True).click()
            expect(why.locator("p").first).not_to_have_text(summary)

    def test_choices_missing_values_and_the_snippets_follow_the_form(self) -> None:
        with self.page("/endpoints/outage-risk") as page:
            page.get_by_role("form").get_by_label("district").click()
            page.get_by_role("option", name="mill").click()
            page.get_by_role("checkbox", name="missing").nth(1).check()
            page.get_by_text("true", exact=True).click()
            body = '"district": "mill"'
            for name in ("curl", "Command", "Python"):
                page.get_by_role("tab", name=name).click()
                shown = page.get_by_role("tabpanel").inner_text()
                self.assertIn(body, shown)
                self.assertRegex(shown, '"voltage_v": None' if name == "Python" else '"voltage_v": null')
                self.assertRegex(shown, '"under_trees": True' if name == "Python" else '"under_trees": true')
                self.assertNotIn("lamp_", shown.replace("lamp_type", ""))
            page.get_by_role("region", name="The same call").get_by_role("button", name="Copy").click()
            self.assertEqual(page.evaluate("navigator.clipboard.readText()").strip(), shown.strip())
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_test_id("label")).to_be_visible()

    def test_the_copied_calls_run_as_they_stand(self) -> None:
        with self.page("/endpoints/outage-risk") as page:
            page.get_by_role("form").get_by_label("maker").fill("Farrow & O'Pole")
            snippets = {}
            for name in SNIPPETS:
                page.get_by_role("tab", name=name, exact=True).click()
                snippets[name] = page.get_by_role("tabpanel").inner_text()
        for name, text in snippets.items():
            self.assertRegex(self.service.run_text(text, SNIPPETS[name]), "fails|holds", name)

    def test_models_and_a_versions_page(self) -> None:
        with self.page("/") as page:
            page.get_by_role("link", name="Models").click()
            expect(page.get_by_text("1 model, 1 version.")).to_be_visible()
            page.get_by_role("link", name="outage-risk@1").click()
            expect(page.get_by_text("Proven: all 20 rows get the answer that training gave.")).to_be_visible()
            fields = page.get_by_role("region", name="What goes in")
            expect(fields).to_contain_text("over 2,000 rows of training")
            self.assertEqual(fields.get_by_role("row").count(), 10)
            self.assertEqual(fields.get_by_role("img").count(), 5)
            expect(page.get_by_role("region", name="How it came to be")).to_contain_text("its compiled graph serves")
            expect(page.get_by_role("region", name="Files")).to_contain_text("steps/0/compiled.onnx")

    def test_the_keyboard_goes_everywhere(self) -> None:
        with self.page("/") as page:
            page.keyboard.press("/")
            expect(page.get_by_role("dialog")).to_be_visible()
            page.keyboard.type("outage")
            expect(page.get_by_role("option", name="outage-risk")).to_be_visible()
            page.keyboard.press("Enter")
            expect(page.get_by_role("heading", name="outage-risk")).to_be_visible()
            page.keyboard.press("/")
            page.keyboard.type("outage-risk tra")
            expect(page.get_by_role("option", name="outage-risk traffic")).to_be_visible()
            page.keyboard.press("Enter")
            page.wait_for_url("**/endpoints/outage-risk/traffic")
            page.keyboard.press("/")
            page.keyboard.type("night")
            page.keyboard.press("Enter")
            until(lambda: page.evaluate("document.documentElement.dataset.theme") == "dark", what="night")
            page.reload()
            self.assertEqual(page.evaluate("document.documentElement.dataset.theme"), "dark")

    def test_a_link_signs_in_once_and_unknown_pages_and_names_say_so(self) -> None:
        with self.service.client() as client:
            link = client.fetch("POST", "/api/session/link")["link"]
        with self.page(None) as page:
            page.goto(self.service.address)
            expect(page.get_by_label("Token")).to_be_visible()
            page.goto(link)
            expect(page.get_by_role("heading", name="Endpoints")).to_be_visible()
            self.assertNotIn("link", page.url)
            page.goto(self.service.address + "/nowhere")
            expect(page.get_by_role("heading", name="There is no such page")).to_be_visible()
            page.goto(self.service.address + "/endpoints/outage-rsk")
            expect(page.get_by_role("alert")).to_contain_text("did you mean outage-risk?")
        with self.page(None) as page:
            page.goto(link)
            expect(page.get_by_role("alert")).to_contain_text("used already")

    def test_an_empty_service_teaches_and_its_first_endpoint_appears_by_itself(self) -> None:
        other = Service().start()
        self.addCleanup(other.remove)
        context = self.browser.new_context()
        self.addCleanup(context.close)
        page = context.new_page()
        with other.client() as client:
            page.goto(client.fetch("POST", "/api/session/link")["link"])
        expect(page.get_by_text("Light the first lamp")).to_be_visible()
        other.serve(outage_lamp())
        expect(page.get_by_role("table").get_by_role("link", name="outage-risk", exact=True)).to_be_visible()


def choose(page: Page, label: str, name: str) -> None:
    """Choose from a list that opens."""
    page.get_by_role("combobox", name=label, exact=True).click()
    page.get_by_role("option", name=name).first.click()


def other_forest() -> Path:
    """Another version of ``outage-risk``: the same lamps, fewer trees."""

    def make(path: Path) -> None:
        model, frame = small_outage_model(trees=3)
        build_package(model, frame, Recipe(**OUTAGE), path)

    return made_once("outage-risk-other.lamp", make)


class TokensAndInterface(InBrowser):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.service.serve(outage_lamp())

    def test_a_token_is_made_once_shown_once_and_revoked_at_once(self) -> None:
        with self.page("/tokens") as page:
            page.get_by_label("name").fill("billing-service")
            page.get_by_role("form", name="make a token").get_by_label("endpoints").fill("outage-risk")
            choose(page, "ends", "in 90 days")
            page.get_by_label("a second, at most").fill("50")
            expect(
                page.get_by_text("lamppost token new billing-service --role caller --endpoint outage-risk --expires 90d --rate 50")
            ).to_be_visible()
            page.get_by_role("button", name="Make").click()
            secret = page.get_by_role("status").locator("span.font-mono").inner_text()
            self.assertTrue(secret.startswith("lamp_"))
            row = page.get_by_role("row", name="billing-service")
            expect(row).to_contain_text("never")
            with self.service.client(secret) as client:
                self.assertIn("label", client.predict("outage-risk", ROW).answer)
                row.get_by_role("button", name="revoke").click()
                expect(page.get_by_role("alertdialog")).to_contain_text("It cannot be taken back")
                page.get_by_role("button", name="Keep it").click()
                self.assertIn("label", client.predict("outage-risk", ROW).answer)
                row.get_by_role("button", name="revoke").click()
                page.get_by_role("button", name="Revoke it").click()
                expect(row).to_contain_text("revoked just now")
                self.assertRaises(NotSignedIn, client.predict, "outage-risk", ROW)
            page.reload()
            expect(page.get_by_role("row", name="billing-service")).to_be_visible()
            self.assertNotIn(secret, page.content())
            page.get_by_label("name").fill("Not A Name")
            page.get_by_role("button", name="Make").click()
            expect(page.get_by_role("alert")).to_contain_text("not usable")

    def test_the_interface_is_documented_by_the_service_itself(self) -> None:
        with self.page("/docs") as page:
            expect(page.get_by_text("1 endpoint to ask")).to_be_visible()
            page.get_by_role("button", name="POST /predict/outage-risk").click()
            shown = page.get_by_role("region", name="Endpoints: ask a model")
            for words in (
                "application/x-ndjson",
                "age_years",
                "number from 0 to 80 years",
                "OutageRiskAnswer",
                "422 values that break the schema",
            ):
                expect(shown).to_contain_text(words)


class OtherKinds(InBrowser):
    """Pictures, texts, tensors, options, private fields; and the catalogue."""

    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.service.serve(photo_lamp(), "pole-photo")
        cls.service.serve(several_lamp(), "several")
        cls.service.serve(outage_lamp())

    def test_a_picture_is_shown_chosen_and_sent(self) -> None:
        with self.page("/endpoints/pole-photo") as page:
            shown = page.get_by_role("img", name="what was chosen for photo")
            self.assertEqual(shown.evaluate("image => [image.naturalWidth, image.naturalHeight]"), [48, 48])
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_test_id("label")).to_have_text(re.compile("leans|rusts|sound"))
            other = self.service.folder / "other post.png"
            other.write_bytes(draw_post("leans", np.random.default_rng(5)))
            page.get_by_label("file for photo").set_input_files(other)
            expect(page.get_by_text("other post.png, 48×48")).to_be_visible()
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_test_id("label")).to_have_text("leans")
            snippets = {}
            for name in SNIPPETS:
                page.get_by_role("tab", name=name, exact=True).click()
                snippets[name] = page.get_by_role("tabpanel").inner_text()
            self.assertIn("--image 'photo=other post.png'", snippets["Command"])
            page.get_by_label("file for photo").set_input_files(self.service.log)
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_role("alert")).to_contain_text("1 field needs a look.")
            page.get_by_role("button", name="back to the example").click()
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_test_id("label")).to_be_visible()
        for name, text in snippets.items():
            self.assertIn("leans", self.service.run_text(text, SNIPPETS[name], folder=self.service.folder), name)

    def test_the_regions_of_a_picture_are_drawn_over_it(self) -> None:
        with self.page("/endpoints/pole-photo") as page:
            why = page.get_by_role("region", name="Why")
            figure = why.get_by_role("figure", name="within photo")
            expect(figure.get_by_role("table").get_by_role("row")).to_have_count(25)
            expect(figure.locator("img")).to_have_count(2)
            expect(why).not_to_contain_text("iVBOR")

    def test_tensors_texts_options_and_private_fields(self) -> None:
        with self.page("/endpoints/several") as page:
            expect(page.get_by_text("not recorded")).to_be_visible()
            page.get_by_role("form").get_by_label("seq").fill("[1, 2, 3.5]")
            page.get_by_role("form").get_by_label("note").fill("by the well")
            answer = page.get_by_role("region", name="Answer")
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(answer).to_contain_text("[2, 4, 7]")
            page.get_by_role("form").get_by_label("k", exact=True).fill("10")
            self.assertIn('"options": {"k": 10}', page.get_by_role("tabpanel").inner_text())
            page.get_by_role("form").get_by_label("note").press("Enter")
            expect(answer).to_contain_text("[10, 20, 35]")
            page.get_by_role("form").get_by_label("seq").fill("[1, 2")
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_text("expected lists of numbers, any")).to_be_visible()
            page.get_by_role("form").get_by_label("seq").fill("[1]")
            page.get_by_role("form").get_by_label("k", exact=True).fill("101")
            page.get_by_role("button", name="Ask", exact=True).click()
            expect(page.get_by_text("expected a number from 0 to 100; 2 if it is left out")).to_be_visible()

    def test_the_catalogue_is_searched_and_versions_are_compared(self) -> None:
        with self.service.client() as client:
            client.push(outage_lamp(), "several")
        with self.page("/models") as page:
            expect(page.get_by_text("3 models, 4 versions.")).to_be_visible()
            page.get_by_role("button", name="kind:picture 1").click()
            expect(page.get_by_role("main").get_by_role("region")).to_have_count(1)
            expect(page.get_by_role("searchbox")).to_have_value("kind:picture")
            page.get_by_role("searchbox").fill("nothing-of-the-kind")
            page.get_by_role("button", name="Show every one").click()
            page.get_by_role("link", name="compare @1 with @2").click()
            expect(page.get_by_text("changes would break callers")).to_be_visible()
            expect(page.get_by_role("region", name="What changed")).to_contain_text(
                "seq is no input any more, and requests that send it are refused"
            )
            expect(page.get_by_role("region", name="Side by side")).to_contain_text("one row, ms")
            choose(page, "later version", "several@1")
            expect(page.get_by_text("The same package.")).to_be_visible()
            page.goto(self.service.address + "/models/several/2")
            page.get_by_role("region", name="Held against another").get_by_role("link", name="several@1").click()
            expect(page.get_by_role("region", name="In training")).to_contain_text("age_years")
