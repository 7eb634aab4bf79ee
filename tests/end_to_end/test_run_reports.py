"""Reports about finished runs: what they say, to whom they go, and what happens when they cannot go."""

import email
import email.policy
import json
from email.message import EmailMessage
from typing import Any, ClassVar

from demo.mailbox import Mailbox
from lamppost.core.errors import BadRequest
from tests.support.bulk import ROWS, WithBulkRuns
from tests.support.service import free_port, until


class RunReports(WithBulkRuns):
    mail_port: ClassVar[int]

    @classmethod
    def setUpClass(cls) -> None:
        port = cls.mail_port = free_port()
        cls.more_options = ("--smtp", f"127.0.0.1:{port}", "--mail-from", "lamps@tallowby.example")
        super().setUpClass()
        with cls.service.client() as client:
            client.fetch("POST", "/api/channels/office", {"kind": "mail", "target": "office@tallowby.example"})
            client.fetch("POST", "/api/channels/hook", {"kind": "webhook", "target": "http://127.0.0.1:9/hook"})

    def setUp(self) -> None:
        self.open_mailbox()

    def open_mailbox(self) -> None:
        self.mailbox = Mailbox(self.mail_port)
        self.mailbox.start()
        self.addCleanup(self.mailbox.stop)

    def mail(self, run: str) -> EmailMessage:
        def look() -> EmailMessage | None:
            for text in self.mailbox.got:
                found = email.message_from_string(text, policy=email.policy.default)
                if run in str(found["Subject"]):
                    return found  # type: ignore[return-value]
            return None

        return until(look, 60, f"the report of {run}")

    def test_a_report_tells_somebody_who_never_opens_the_service_what_came_out(self) -> None:
        self.start("--from", "files:lamps.parquet", "--to", "files:first.parquet", "--keep", "lamp_id", "--name", "report-first")
        frame = self.frame.copy()
        frame.loc[frame.index[:7], "age_years"] = 200.0
        frame.to_parquet(self.files / "some-bad.parquet")
        text = self.service.folder / "text.jinja"
        text.write_text("{{ answered }} lamps were judged on {{ date }}.\n\n{{ answers['fails'] }} fail & {{ '<b>' }} {{ run_before }}.")
        self.start(
            *("--from", "files:some-bad.parquet", "--to", "files:second.parquet", "--keep", "lamp_id", "--name", "report-second"),
            *("--report", "office", "--report-where", "label = fails", "--report-where", "scores.fails >= 0.5"),
            *("--report-sort=-scores.fails", "--report-rows", "5", "--report-text", str(text)),
        )
        mail = self.mail("report-second")
        self.assertEqual((mail["To"], mail["From"]), ("office@tallowby.example", "lamps@tallowby.example"))
        self.assertIn(f"outage-risk: {ROWS - 7:,} rows of report-second, 7 rejected", mail["Subject"])
        page = mail.get_body(("html",))
        assert page is not None
        html = page.get_content()
        facts = self.facts("report-second")
        fails = facts["answers"]["label"]["fails"]
        self.assertIn(f"{ROWS - 7} lamps were judged on", html)
        self.assertIn(f"{fails} fail &amp; &lt;b&gt; report-first.", html)
        for part in (
            "Since report-first",
            "5 of ",
            "rows with label = fails and scores.fails &gt;= 0.5",
            "second.rejects.ndjson",
            "age_years",
        ):
            self.assertIn(part, html)
        best = self.output_rows("second.parquet")
        wanted = sorted(
            (row for row in best if row["label"] == "fails" and row["scores.fails"] >= 0.5), key=lambda row: -row["scores.fails"]
        )
        self.assertIn(f"5 of {len(wanted):,} rows", html)
        self.assertIn(f'<td class="n">{wanted[0]["scores.fails"]:,.4g}</td>', html)
        (paper,) = [part for part in mail.iter_attachments() if part.get_content_type() == "application/pdf"]
        self.assertTrue(paper.get_content().startswith(b"%PDF"))
        until(lambda: self.facts("report-second")["report"]["sent_at"], 20, "the note that it was sent")
        for name in ("r.html", "r.pdf"):
            self.assertEqual(self.service.run("bulk", "report", "report-second", "--to", name).returncode, 0)
        self.assertIn("lamps were judged", (self.service.folder / "r.html").read_text())

    def output_rows(self, name: str) -> list[dict[str, Any]]:
        import pyarrow.parquet as pq

        rows: list[dict[str, Any]] = pq.read_table(self.files / name).to_pylist()
        return rows

    def test_a_report_that_cannot_be_sent_says_why_and_is_tried_again(self) -> None:
        self.mailbox.stop()
        self.start("--from", "files:lamps.parquet", "--name", "report-late", "--report", "office")
        fault = until(lambda: self.facts("report-late")["report"]["fault"], 40, "the fault")
        self.assertIn("refused", fault.lower())
        self.open_mailbox()
        self.mail("report-late")
        until(lambda: self.facts("report-late")["report"]["fault"] is None, 20, "the note that it was sent")

    def test_what_no_report_can_be_made_of_is_refused_before_anything_is_scored(self) -> None:
        template = self.service.folder / "bad.jinja"
        template.write_text("{% if %}")
        source = ("--from", "files:lamps.parquet")
        for words, part in (
            (("--report", "offices"), "no mail channel 'offices' to send the report to; did you mean office?"),
            (("--report", "hook"), "hook is a webhook"),
            (("--report-where", "labels = fails"), "no column 'labels'; did you mean 'label'?"),
            (("--report-where", "scores.fails > many"), "holds numbers, and 'many' is none"),
            (("--report-where", "label"), "is no condition"),
            (("--report-sort", "risk"), "no column 'risk'"),
            (("--report-text", str(template)), "line 1 of the report's text is no template"),
        ):
            with self.subTest(words):
                self.assertIn(part, self.refused(*source, *words))

    def test_a_template_that_fails_or_reaches_out_does_not_keep_the_report_back(self) -> None:
        for name, text in (
            ("zero", "{{ 1 // 0 }}"),
            ("out", "{{ ''.__class__.__mro__[1].__subclasses__() }}"),
            ("gone", "{{ nothing.at.all }}"),
        ):
            with self.service.client() as client:
                run = client.bulk("outage-risk", "files:lamps.parquet", name=f"template-{name}", report={"text": text}).wait()
                page = client.fetch_bytes(f"/api/bulk/{run.name}/report", form="html").decode()
            self.assertIn("could not be written", page)
            self.assertIn("Like training?", page)

    def test_a_schedule_keeps_its_report_and_refuses_one_for_nobody(self) -> None:
        words = ("schedule", "add", "nightly", "--every", "0 5 * * *", "--yes", "--", "bulk", "start", "outage-risk")
        words += ("--from", "files:lamps.parquet", "--report")
        self.assertIn("no mail channel", self.service.run(*words, "nobody").stderr)
        done = self.service.run(*words, "office", "--report-where", "label = fails")
        self.assertEqual(done.returncode, 0, done.stderr)
        shown = json.loads(self.service.run("schedule", "show", "nightly", "--json").stdout)
        self.assertEqual((shown["run"]["report"]["to"], shown["run"]["report"]["where"]), (["office"], ["label = fails"]))
        with self.service.client() as client, self.assertRaises(BadRequest):
            client.fetch("PUT", "/api/schedules/other", {"every": "0 5 * * *", "run": {**shown["run"], "report": {"to": ["nobody"]}}})
