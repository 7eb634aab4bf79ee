"""``lamppost serve --to``: lamp files that a node serves on its own, whose calls a hub records under its own names of versions."""

import shutil
from pathlib import Path
from typing import Any

import lamppost
from lamppost.core.errors import Conflict
from tests.end_to_end.test_lamp_files_served import Serving
from tests.support.outposts import WithHub
from tests.support.service import until
from tests.support.versions import times_lamp


class OwnFileReports(WithHub):
    def add(self, name: str, *may_report: str) -> Path:
        """An outpost at the hub; the file with its token."""
        with self.hub.client() as client:
            secret = client.fetch("POST", "/api/outposts", {"name": name, "may_report": list(may_report)})["secret"]
        token = self.hub.folder / f"{name}.token"
        token.write_text(secret)
        return token

    def serve(self, lamp: Path, name: str, token: Path) -> Serving:
        words = ["--to", self.hub.address, "--name", name, "--hub-token-file", str(token)]
        serving = Serving(str(lamp), *words)
        self.addCleanup(shutil.rmtree, serving.folder, True)
        self.addCleanup(serving.end)
        until(serving.ready, what="the service")
        return serving

    def ask(self, serving: Serving, rows: int) -> list[str]:
        """The ids of calls."""
        with lamppost.Client(serving.address, serving.token) as client:
            return [client.predict("times", {"x": float(x)}).request_id for x in range(rows)]

    def test_calls_are_recorded_under_the_names_of_the_hub(self) -> None:
        token = self.add("shed", "times")
        folder = self.hub.folder / "lamps"
        folder.mkdir()
        shutil.copy(times_lamp(3), folder / "times.lamp")
        serving = self.serve(folder, "shed", token)
        ids = self.ask(serving, 10)
        until(lambda: {call["request_id"] for call in self.recorded()} >= set(ids), what="the records")
        recorded = [call for call in self.recorded() if call["request_id"] in ids]
        self.assertEqual({(call["version"], call["brought_by"]) for call in recorded}, {("times@2", "outpost shed")})
        with lamppost.Client(serving.address, serving.token) as client:
            truths = [{"request_id": one, "truth": 3.0 * x} for x, one in enumerate(ids)]
            client.fetch("POST", "/api/endpoints/times/outcomes", {"outcomes": truths})

        def quality(**at: str) -> list[dict[str, Any]]:
            with self.hub.client() as client:
                return list(client.fetch("GET", "/api/endpoints/times/quality", **at)["versions"])

        until(lambda: [one["known"] for one in quality(at="shed")] == [10], what="the outcomes")
        with self.hub.client() as client:
            (drift,) = client.fetch("GET", "/api/outposts/shed/drift")
        self.assertEqual((drift["endpoint"], drift["version"], drift["rows"]), ("times", "times@2", 10))
        about = self.about("shed")
        self.assertEqual((about["state"], about["own_files"]), ("serving", True))
        self.assertEqual([(one["endpoint"], one["wanted"], one["served"]) for one in about["endpoints"]], [("times", None, "times@2")])
        self.assertIn("times@2 of its own for times", self.hub.run("outpost", "list").stdout)
        with self.assertRaisesRegex(Conflict, "shed serves lamp files of its own"):
            self.point("times@1", "shed")
        shutil.copy(times_lamp(4), folder / "new.part")
        (folder / "new.part").replace(folder / "times.lamp")
        until(lambda: serving.served()["times"]["version"] == "times@2", what="the new file")
        later = self.ask(serving, 5)
        until(lambda: {call["request_id"] for call in self.recorded()} >= set(later), what="the records of the new file")
        self.assertEqual({call["version"] for call in self.recorded() if call["request_id"] in later}, {"times@3"})
        self.assertEqual(serving.end(), 0)
        again = self.serve(folder, "shed", token)
        self.assertEqual(len(self.ask(again, 1)), 1, "the name is not taken by the process before")

    def test_what_the_hub_does_not_take(self) -> None:
        serving = self.serve(times_lamp(7), "stranger", self.add("stranger", "times"))
        self.ask(serving, 3)
        until(lambda: "does not have the package that times serves here" in serving.log.read_text(), what="the hub does not know it")
        reasons = self.about("stranger")["reasons"]
        self.assertEqual(reasons, ["calls of times are not recorded: push the lamp file that stranger serves"])
        other = self.serve(times_lamp(3), "unasked", self.add("unasked"))
        self.ask(other, 3)
        until(lambda: "lamppost outpost new unasked --may-report times" in other.log.read_text(), what="the endpoint is not taken")
        for name in ("stranger", "unasked"):
            until(lambda at=name: self.about(at)["records_waiting"] == 0, 60, "nothing waits for ever")
        self.assertEqual([call for call in self.recorded() if call["brought_by"] in ("outpost stranger", "outpost unasked")], [])

    def test_options_that_do_not_go_together(self) -> None:
        lamp = str(times_lamp(3))
        for words, said in (
            (("--name", "shed"), "give its address with --to"),
            (("--to", self.hub.address), "--to needs the name"),
            (("--to", "hub", "--name", "shed", "--hub-token-file", str(self.add("typo"))), "is no address of a hub"),
            (("--to", self.hub.address, "--name", "shed"), "LAMPPOST_OUTPOST_TOKEN"),
        ):
            refused = self.hub.run("serve", lamp, *words)
            self.assertEqual(refused.returncode, 1, refused.stdout)
            self.assertIn(said, " ".join(refused.stderr.split()))
