"""Versions in the console: serve another, go back, roll out, share, review, look along the trail."""

import re

from playwright.sync_api import Page, expect

from tests.end_to_end.test_console import InBrowser, choose
from tests.support.lamps import outage_lamp
from tests.support.service import until
from tests.support.versions import times_lamp


class Versions(InBrowser):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        with cls.service.client() as client:
            for factor in (1, 2, 3):
                client.push(times_lamp(factor))

    def serve(self, endpoint: str, *versions: str) -> str:
        with self.service.client() as client:
            for version in versions:
                client.point(endpoint, version)
        return f"/endpoints/{endpoint}"

    def choose(self, page: Page, version: str, way: str) -> None:
        page.get_by_role("button", name="Serve another version").click()
        choose(page, "version", version)
        page.get_by_role("radio", name=way, exact=True).click()

    def test_serve_another_then_go_back(self) -> None:
        with self.page(self.serve("one", "times@1")) as page:
            expect(page.get_by_role("button", name="Go back")).to_be_disabled()
            self.choose(page, "times@2", "point")
            expect(page.get_by_text("lamppost point one times@2")).to_be_visible()
            page.get_by_role("button", name="Serve times@2").click()
            expect(page.get_by_role("banner").or_(page.locator("header")).first).to_contain_text("served by times@2")
            page.get_by_role("button", name="Go back to times@1").click()
            dialog = page.get_by_role("alertdialog")
            expect(dialog).to_contain_text("within a second")
            expect(dialog).to_contain_text("lamppost rollback one")
            dialog.get_by_role("button", name="Go back").click()
            self.expect_toast(page, "one is back at times@1; it served times@2 before.")
            served = page.get_by_role("region", name="Served")
            expect(served.get_by_role("listitem")).to_have_count(3)
            expect(served.get_by_role("listitem").first).to_contain_text("went back to revision 1")
            served.get_by_role("button", name="have it again").first.click()
            page.get_by_role("button", name="Serve it again").click()
            expect(page.locator("header").first).to_contain_text("served by times@2")

    def test_a_rollout_is_begun_paused_and_taken_back(self) -> None:
        with self.page(self.serve("two", "times@1")) as page:
            self.choose(page, "times@3", "roll out")
            page.get_by_role("button", name="Roll times@3 out").click()
            rollout = page.get_by_role("region", name="Rollout")
            expect(rollout).to_contain_text("goes on.")
            expect(rollout.get_by_role("img", name="at 1 % of 1, 5, 25, 100 %")).to_be_visible()
            expect(rollout.get_by_role("row").filter(has_text="answers apart")).to_be_visible()
            rollout.get_by_role("button", name="Pause at 1 %").click()
            expect(rollout).to_contain_text("paused by admin at 1 %")
            rollout.get_by_role("button", name="Take it back").click()
            last = page.get_by_role("region", name="Last rollout")
            expect(last).to_contain_text("taken back by admin at 1 %")

    def test_shares_can_be_taken_hold_of(self) -> None:
        with self.page(self.serve("three", "times@1")) as page:
            self.choose(page, "times@2", "share")
            page.get_by_role("button", name="Give it 10 %").click()
            shares = page.get_by_role("region", name="Shares")
            expect(shares.get_by_role("img", name="times@1 90 %, times@2 10 %")).to_be_visible()
            thumb = shares.get_by_role("slider")
            thumb.focus()
            for _ in range(5):
                thumb.press("ArrowRight")
            expect(shares).to_contain_text("lamppost split three times@1=85 times@2=15")
            shares.get_by_role("button", name="Change the shares").click()
            expect(page.locator("header").first).to_contain_text(re.compile("times@1 85 %, times@2 15 %"))
            self.choose(page, "times@3", "shadow")
            page.get_by_role("button", name="Copy 10 % to it").click()
            expect(shares).to_contain_text("Shadow times@3 gets copies of 10 % of calls")

    def test_a_review_is_asked_for_and_decided_by_somebody_else(self) -> None:
        path = self.serve("four", "times@1")
        with self.service.client() as client:
            client.fetch("PUT", "/api/endpoints/four/approvals", {"approvals": 1})
            reviewer = client.fetch("POST", "/api/tokens", {"name": "dawn", "role": "reviewer"})["secret"]
        with self.page(path) as page:
            self.choose(page, "times@2", "point")
            page.get_by_label("What changed, and why should it?").fill("twice as much light")
            page.get_by_role("button", name="Ask for review").click()
            expect(page.get_by_text("it needs an approval by somebody else")).to_be_visible()
            page.get_by_role("link", name="See reviews").click()
            expect(page.get_by_text("You asked for it, so somebody else decides.")).to_be_visible()
        with self.page(None) as page:
            page.goto(self.service.address)
            page.get_by_label("Token").fill(reviewer)
            page.get_by_label("Token").press("Enter")
            page.get_by_role("link", name="Reviews").click()
            expect(page.get_by_text("1 version waits for approval.")).to_be_visible()
            expect(page.get_by_text("twice as much light")).to_be_visible()
            page.get_by_label("what did you look at?").fill("the proof, and the last calls")
            page.get_by_role("button", name="Approve").click()
            expect(page.get_by_text("Nothing waits for approval.")).to_be_visible()
        with self.page(path) as page:
            self.choose(page, "times@2", "point")
            page.get_by_role("button", name="Serve times@2").click()
            expect(page.locator("header").first).to_contain_text("served by times@2")
            page.get_by_role("link", name="Trail").click()
            page.get_by_label("search the trail").fill("last calls")
            expect(page.get_by_role("row")).to_have_count(2)
            expect(page.get_by_role("row").nth(1)).to_contain_text("approved")

    def test_two_versions_on_the_same_rows(self) -> None:
        with self.page("/compare?before=times@1&after=times@2") as page:
            rows = page.get_by_role("region", name="On the same rows")
            rows.get_by_role("button", name="Ask both").click()
            expect(rows).to_contain_text(re.compile(r"times@1 and times@2 on the \d+ rows of the proof of times@1"))
            expect(rows).to_contain_text("Rows that differ most")

    def test_what_a_version_has_learned(self) -> None:
        with self.service.client() as client:
            name = client.push(outage_lamp())["version"]
            card = client.fetch_bytes(f"/api/models/outage-risk/versions/{name.partition('@')[2]}/card", form="pdf")
        self.assertTrue(card.startswith(b"%PDF"))
        with self.page(f"/models/{name.replace('@', '/')}") as page:
            expect(page.get_by_role("table", name="importance of fields").get_by_role("row")).not_to_have_count(0)
            expect(page.get_by_role("table", name="confusion")).to_be_visible()
            expect(page.get_by_text("that it was fitted on: fresh rows go worse")).to_be_visible()
            expect(page.get_by_role("link", name="its card")).to_be_visible()

    def test_an_endpoint_is_deleted_with_its_callers_said_and_given_back(self) -> None:
        path = self.serve("five", "times@1", "times@2")
        with self.service.client() as client:
            secret = client.make_token("meter-app", "caller")["secret"]
            with self.service.client(str(secret)) as app:
                app.predict("five", {"x": 1.0})
            until(lambda: client.callers("five"), what="the record of the call")
        with self.page(path) as page:
            for button in ("Give it back", "Undo"):
                page.get_by_role("button", name="Delete the endpoint").click()
                dialog = page.get_by_role("alertdialog")
                expect(dialog.get_by_role("row")).to_contain_text(re.compile("meter-app.*1 call"))
                expect(dialog).to_contain_text("lamppost delete endpoint five --anyway")
                dialog.get_by_role("button", name="Delete it").click()
                self.expect_toast(page, "five is deleted; it served times@2.")
                deleted = page.get_by_role("region", name="Deleted within the last day")
                expect(deleted.get_by_role("row").filter(has_text="five")).to_contain_text("times@2")
                if button == "Undo":
                    page.locator("li[data-state=open]").get_by_role("button", name="Give it back").last.click()
                else:
                    deleted.get_by_role("button", name=button).click()
                self.expect_toast(page, "five is back, and serves times@2.")
                expect(deleted).to_have_count(0)
                page.goto(self.service.address + path)

    def test_a_version_is_replaced_retired_and_deleted(self) -> None:
        with self.service.client() as client:
            for factor in (8, 9):
                client.push(times_lamp(factor), model="spare")
            client.point("spare", "spare@1")
        with self.page("/models/spare/1") as page:
            page.get_by_role("button", name="Replace and retire it").click()
            dialog = page.get_by_role("alertdialog")
            expect(dialog).to_contain_text("lamppost retire spare@1 --replace-with spare@2")
            dialog.get_by_role("button", name="Retire it").click()
            self.expect_toast(page, "spare@1 is retired; spare@2 has taken its place in spare")
            page.get_by_role("button", name="Delete it").click()
            dialog.get_by_role("button", name="Delete it").click()
            expect(dialog).to_contain_text("spare would go back to spare@1 with its next rollback")
            dialog.get_by_role("button", name="Leave it").click()
            with self.service.client() as client:
                client.delete_endpoint("spare", for_good=True)
            page.get_by_role("button", name="Delete it").click()
            dialog.get_by_role("button", name="Delete it").click()
            self.expect_toast(page, "spare@1 is deleted.")
            spare = page.get_by_role("region", name="spare", exact=True)
            expect(spare.get_by_role("row").filter(has_text="spare@1")).to_have_count(0)
            spare.get_by_role("button", name="delete spare").click()
            dialog.get_by_role("button", name="Delete it").click()
            self.expect_toast(page, "spare@2 is deleted.")
            expect(spare).to_have_count(0)

    def test_endpoints_are_changed_as_one_document(self) -> None:
        self.serve("six", "times@1")
        with self.page("/declared") as page:
            document = page.get_by_role("textbox", name="the document")
            page.get_by_role("button", name="What would change?").click()
            expect(page.get_by_text("Nothing: every endpoint serves this already.")).to_be_visible()
            document.fill('[endpoints.six]\nversion = "times@2"\n')
            page.get_by_role("button", name="What would change?").click()
            expect(page.get_by_text('six version: "times@1" → "times@2"')).to_be_visible()
            page.get_by_role("button", name="Carry out for 1 endpoint").click()
            expect(document).to_have_value(re.compile('endpoints.six]\nversion = "times@2"'))

    def test_a_call_has_a_page_and_can_be_asked_again(self) -> None:
        path = self.serve("seven", "times@1")
        with self.service.client() as client:
            client.predict("seven", {"x": 7.0})
        with self.page(path) as page:
            calls = page.get_by_role("region", name="Last calls")
            calls.get_by_role("row").nth(1).click()
            calls.get_by_role("link").last.click()
            expect(page.get_by_role("region", name="Where the time went")).to_contain_text("worker")
            expect(page.get_by_role("region", name="What went in")).to_contain_text('"x": 7')
            choose(page, "version to ask", "times@3")
            page.get_by_role("button", name="Ask it").click()
            expect(page.get_by_role("region", name="The same, asked of another version")).to_contain_text(
                re.compile(r"times@3 says, in .* ms")
            )
