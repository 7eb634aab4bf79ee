"""The pages about sweeps in a real browser: one is begun, read, picked from with another limit, and used."""

import json
import re

import psycopg
from playwright.sync_api import expect

from lamppost.core.sweep.measurement import Measurement, write_measurement
from lamppost.core.sweep.sweep_plan import SweepSetting
from tests.end_to_end.test_console import InBrowser
from tests.support.lamps import outage_lamp
from tests.support.service import until

FAST, SLOW = SweepSetting("outage-risk@1", max_rows=256, copies=2), SweepSetting("outage-risk@1", max_rows=16)


class SweepPages(InBrowser):
    @classmethod
    def setUpClass(cls) -> None:
        super().setUpClass()
        cls.service.serve(outage_lamp())

    def keep_sweep(self, name: str) -> None:
        """A sweep that has ended, with figures that do not depend on this machine."""
        with self.service.client() as client:
            plan = {"versions": ["outage-risk@1"], "limits": ["p99=50ms"], "whole_s": 1, "seconds": 0.2, "clients": 1, "copies": [1]}
            client.fetch("POST", "/api/sweeps", {"plan": plan, "name": name})
            until(lambda: client.fetch("GET", f"/api/sweeps/{name}")["ended_at"], 60, "the end of the sweep")
        phases = {"queue": (1.0, 2.0), "worker": (2.0, 3.0)}
        measured = [
            Measurement(setting, at, throughput + at, p50, p50, p99, p99, p99, memory, 20.0, 100, 0, 8.0, phases)
            for at in (1, 2, 3)
            for setting, throughput, p50, p99, memory in ((FAST, 2_000.0, 10.0, 40.0, 4e8), (SLOW, 1_000.0, 4.0, 8.0, 1e8))
        ]
        with psycopg.connect(self.service.database(), autocommit=True) as connection:
            connection.execute("SET search_path = lamppost")
            connection.execute("DELETE FROM sweep_measurements WHERE sweep = %s", (name,))
            for number, one in enumerate(measured):
                document = json.dumps(write_measurement(one))
                connection.execute("INSERT INTO sweep_measurements (sweep, number, measured) VALUES (%s, %s, %s)", (name, number, document))

    def test_another_limit_moves_the_pick_at_once_and_the_pick_is_used(self) -> None:
        self.keep_sweep("looked-at")
        with self.page("/sweeps") as page:
            page.get_by_role("link", name="looked-at").click()
            lead = page.get_by_text("with p99 at most 50 ms")
            expect(lead.first).to_contain_text("256 rows a batch, 2 copies")
            expect(page.get_by_role("region", name="Where the time goes")).to_contain_text("worker")
            handle = page.get_by_role("slider", name="p99 at most, ms")
            handle.focus()
            for _ in range(60):  # each step is a half of a percent of the axis
                handle.press("ArrowDown")
            expect(page.get_by_text("16 rows a batch, 1 copy").first).to_be_visible()
            expect(page).to_have_url(re.compile("limits=p99"))
            limit = page.get_by_label("p99 at most, ms", exact=True).last
            limit.fill("1")
            limit.press("Enter")
            expect(page.get_by_text("No setting has p99 at most 1 ms").first).to_be_visible()
            limit.fill("20")
            limit.press("Enter")
            expect(page.get_by_text("Without limits: compiled, 256 rows a batch, 2 copies")).to_be_visible()
            page.get_by_role("button", name="Use the pick").click()
            dialog = page.get_by_role("alertdialog")
            expect(dialog).to_contain_text("lane.max_rows: – → 16")
            dialog.get_by_role("button", name="Use it").click()
            expect(page.get_by_role("button", name="In use")).to_be_disabled()
            with self.service.client() as client:
                lane = client.fetch("GET", "/api/endpoints/outage-risk")["setup"]["lane"]
                self.assertEqual((lane["max_rows"], lane["copies_most"]), (16, 1))
            page.get_by_role("button", name="Undo").click()
            expect(page.get_by_role("button", name="Use the pick")).to_be_enabled()

    def test_a_sweep_is_begun_followed_and_stopped(self) -> None:
        with self.page("/sweeps") as page:
            page.get_by_role("button", name="Begin one").click()
            form = page.get_by_role("form", name="begin a sweep")
            form.get_by_label("version").fill("outage-risk@1")
            form.get_by_label("clients").fill("4")
            expect(form).to_contain_text("lamppost sweep outage-risk@1 --clients 4 --limit p99=50ms --for 5min")
            form.get_by_role("button", name="Begin").click()
            expect(page.get_by_text("measurement").first).to_be_visible()
            page.get_by_role("button", name="Stop").click()
            expect(page.get_by_role("button", name="Measure on")).to_be_visible(timeout=60_000)
            page.get_by_role("button", name="Forget").click()
            page.get_by_role("alertdialog").get_by_role("button", name="Forget").click()
            expect(page.get_by_role("heading", name="Sweeps")).to_be_visible()

    def test_a_version_that_is_not_there_is_named_in_the_form(self) -> None:
        with self.page("/sweeps") as page:
            page.get_by_role("button", name="Begin one").click()
            form = page.get_by_role("form", name="begin a sweep")
            form.get_by_label("version").fill("outage-risk@77")
            form.get_by_role("button", name="Begin").click()
            expect(form).to_contain_text("outage-risk@77")
            expect(form.get_by_role("alert")).to_be_visible()
