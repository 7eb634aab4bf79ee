"""Outposts: nodes without a database that serve what their hub says, go on without it, and bring their records home once."""

import contextlib
import shutil
import subprocess
import time
from collections import Counter
from typing import Any

import lamppost
from tests.support.lamps import moody_lamp
from tests.support.models import Companion, Moody
from tests.support.outposts import Outpost, WithHub
from tests.support.service import Service, until
from tests.support.versions import times_lamp


class Outposts(WithHub):
    def test_it_serves_what_the_hub_says_and_swaps_without_a_lost_call(self) -> None:
        outpost = self.outpost("harbour", labels=["region=coast"])
        self.assertEqual(self.point("times@2", "region=coast")["outposts"], ["harbour"])
        outpost.start()
        answered = [outpost.ask(10)]
        self.assertEqual(answered, [(30, "times@2")])
        self.assertEqual(self.point("times@3", "harbour")["undo"], "lamppost outpost clear times --at harbour")
        until(lambda: answered.append(outpost.ask(10)) or answered[-1][1] == "times@3", what="the version of its own")
        self.assertEqual(set(answered), {(30, "times@2"), (40, "times@3")})
        until(lambda: self.about("harbour")["endpoints"][0]["served"] == "times@3", what="what the hub knows of it")
        self.assertEqual(self.about("harbour")["state"], "serving")
        self.point(None, "harbour")
        until(lambda: outpost.ask(10) == (30, "times@2"), what="the version of its label again")
        self.point(None, "region=coast")
        with lamppost.Client(outpost.address, self.hub.token, repeats=0) as client:
            until(lambda: client.fetch("GET", "/api/endpoints") == [], what="the end of the endpoint")

    def test_it_goes_on_without_its_hub_also_after_a_restart_and_brings_each_record_once(self) -> None:
        hub = Service().start()
        self.addCleanup(hub.remove)
        with hub.client() as client:
            client.push(times_lamp(2))
            client.set_up("times", {"version": "times@1"})
            secret = client.fetch("POST", "/api/outposts", {"name": "pier"})["secret"]
            client.fetch("PUT", "/api/endpoints/times/outposts", {"at": "pier", "version": "times@1"})
        outpost = Outpost(hub, "pier", secret)
        self.addCleanup(outpost.end)
        outpost.start()
        asked = 0
        for _ in range(20):
            outpost.ask(asked)
            asked += 1
        hub.kill()
        for end in (outpost.end, outpost.kill):
            for _ in range(20):
                self.assertEqual(outpost.ask(asked), (2.0 * asked, "times@1"))
                asked += 1
            if end == outpost.kill:  # what is killed loses the last tenth of a second
                until(lambda: self.waiting(outpost) >= 0 and not self.in_memory(outpost), what="the spool")
            end()
            outpost.start()
        self.assertIn("this outpost goes on with what it has", outpost.log.read_text())
        hub.start()

        def values() -> Counter[float]:
            with hub.client() as client:
                calls = client.fetch("GET", "/api/calls", endpoint="times", limit=1_000)
            return Counter(call["input"]["x"] for call in calls)

        until(lambda: sum(values().values()) >= asked, 120, "all records")
        self.assertEqual(values(), Counter(range(asked)))

    def waiting(self, outpost: Outpost) -> int:
        with lamppost.Client(outpost.address, outpost.hub.token) as client:
            return int(client.fetch("GET", "/api/node")["records_waiting"])

    def in_memory(self, outpost: Outpost) -> bool:
        def spooled() -> int:
            return sum(path.stat().st_size for path in (outpost.folder / "data" / "spool").glob("*.spool"))

        before = spooled()
        time.sleep(0.3)
        return before != spooled()

    def test_a_version_that_fails_its_proof_is_refused_there_and_what_answers_goes_on(self) -> None:
        outpost = self.outpost("weir")
        outpost.options = ("--allow-pickle",)
        with self.hub.client() as client:
            client.point("doubler", client.push(moody_lamp("moody", Moody()))["version"])
            bad = client.push(moody_lamp("companion", Companion()))["version"]
        self.point("moody@1", "weir", "doubler")
        outpost.start()
        self.point(bad, "weir", "doubler")
        until(lambda: self.about("weir")["endpoints"][0]["refused"], what="the refusal")
        about = self.about("weir")
        self.assertEqual((about["state"], about["endpoints"][0]["served"], about["endpoints"][0]["wanted"]), ("degraded", "moody@1", bad))
        self.assertIn("does not reproduce its training", about["endpoints"][0]["refused"])
        with lamppost.Client(outpost.address, self.hub.token) as client:
            self.assertEqual(client.predict("doubler", {"x": 2.0}).version, "moody@1")
        with self.hub.client() as client:
            until(lambda: "outpost weir" in str(client.fetch("GET", "/api/alerts", endpoint="doubler")), what="the alert")
        self.point("moody@1", "weir", "doubler")
        until(lambda: self.about("weir")["state"] == "serving", what="the end of its trouble")
        with self.hub.client() as client:

            def alerts() -> list[dict[str, Any]]:
                return [one for one in client.fetch("GET", "/api/alerts", endpoint="doubler") if one["rule"] == "outpost weir"]

            until(lambda: [one["state"] for one in alerts()] == ["resolved"], what="the end of the alert")
            time.sleep(11)  # the leader evaluates every five seconds
            self.assertEqual(len(alerts()), 1, "an alert that has ended is not told again")

    def test_a_second_outpost_of_a_name_and_one_that_is_barred(self) -> None:
        outpost = self.outpost("lock")
        self.point("times@1", "lock")
        outpost.start()
        second = Outpost(self.hub, "lock", (outpost.folder / "token").read_text())
        self.addCleanup(shutil.rmtree, second.folder, True)
        second.run()
        assert second.process is not None
        self.assertEqual(second.process.wait(60), 1)
        self.assertIn("another outpost reports as lock", second.log.read_text())
        stranger = Outpost(self.hub, "lock", self.hub.token)
        stranger.run()
        assert stranger.process is not None
        self.assertEqual(stranger.process.wait(60), 4)
        self.assertIn("may not outpost", stranger.log.read_text())
        with self.hub.client() as client:
            client.fetch("POST", "/api/outposts/lock/bar")
        until(lambda: "the hub refuses this outpost" in outpost.log.read_text(), 60, "the bar")
        self.assertEqual(self.about("lock")["state"], "barred")
        self.assertEqual(outpost.ask(3), (6, "times@1"), "what is on its disk goes on")

    def test_a_hub_that_is_away_at_the_first_start(self) -> None:
        nowhere = Service()
        self.addCleanup(shutil.rmtree, nowhere.folder, True)
        outpost = Outpost(nowhere, "early", "a-secret")
        self.addCleanup(shutil.rmtree, outpost.folder, True)
        outpost.run()
        assert outpost.process is not None
        self.assertEqual(outpost.process.wait(60), 1)
        self.assertIn("this outpost has never joined", " ".join(outpost.log.read_text().split()))
        self.assertNotIn("Traceback", outpost.log.read_text())

    def test_a_full_disk_keeps_what_answers_and_is_told_until_there_is_room(self) -> None:
        outpost = self.outpost("cupboard")
        data = outpost.folder / "data"
        data.mkdir()
        mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=8m", "none", str(data)], capture_output=True, check=False)
        if mounted.returncode:
            self.skipTest("no small file system can be mounted here")
        self.addCleanup(subprocess.run, ["umount", "--lazy", str(data)], check=True)
        self.addCleanup(outpost.end)
        self.point("times@1", "cupboard")
        outpost.start()
        self.assertEqual(outpost.ask(3), (6, "times@1"))
        filler = data / "filler"
        with contextlib.suppress(OSError), filler.open("wb") as file:
            while True:
                file.write(b"x" * 4_096)
                file.flush()
        self.point("times@2", "cupboard")
        until(lambda: self.about("cupboard")["state"] == "degraded", 90, "the disk that is full")
        (served,) = self.about("cupboard")["endpoints"]
        self.assertEqual((served["wanted"], served["served"]), ("times@2", "times@1"))
        self.assertIn("No space left on device", served["refused"])
        self.assertEqual(outpost.ask(5), (10, "times@1"), "what answered goes on")
        filler.unlink()
        until(lambda: outpost.ask(5) == (15, "times@2"), 90, "room again")
        until(lambda: self.about("cupboard")["state"] == "serving", 60, "what the hub knows of it")

    def test_a_sealed_outpost_keeps_its_packages_in_cipher(self) -> None:
        outpost = self.outpost("sealed")
        outpost.options = ("--sealed",)
        self.point("times@1", "sealed")
        outpost.start()
        self.assertEqual(outpost.ask(3), (6, "times@1"))
        (kept,) = (outpost.folder / "data" / "sealed").iterdir()
        written = kept.read_bytes()
        open_files = [path for path in outpost.folder.rglob("*") if path.is_file() and path.read_bytes()[:4] == b"PK\x03\x04"]
        self.assertEqual(open_files, [], "no lamp file lies open on the disk")
        self.assertEqual(list(outpost.folder.rglob("*.onnx")), [], "nor what is in it")
        self.assertEqual(outpost.end(), 0)
        outpost.start()
        self.assertEqual((outpost.ask(4), kept.read_bytes()), ((8, "times@1"), written), "it was opened again, and not fetched")
        outpost.kill()
        with self.hub.client() as client:
            client.fetch("POST", "/api/outposts/sealed/bar")
        outpost.run()
        assert outpost.process is not None
        self.assertNotEqual(outpost.process.wait(60), 0)
        self.assertNotIn("Traceback", outpost.log.read_text())

    # -- the hub's side ------------------------------------------------------------------------------------------------------

    def test_commands(self) -> None:
        added = self.hub.run("outpost", "new", "gate", "--label", "region=hill", "--bytes-per-day", "1000")
        self.assertIn("lamppost outpost join", added.stdout)
        pointed = self.hub.run("point", "times", "times@2", "--at", "region=hill")
        self.assertIn("times serves times@2 at region=hill: gate", pointed.stdout)
        self.assertIn("not joined", self.hub.run("outpost", "list").stdout)
        self.assertIn("region=hill", self.hub.run("outpost", "show", "gate").stdout)
        self.assertIn("region=sea", self.hub.run("outpost", "label", "gate", "--label", "region=sea").stdout)
        self.assertIn("no outpost yet", self.hub.run("outpost", "clear", "times", "--at", "region=hill").stdout)
        self.assertIn("barred", self.hub.run("outpost", "bar", "gate").stdout)
        for words, said in (
            (("outpost", "new", "gate"), "choose another name"),
            (("outpost", "show", "gatte"), "did you mean gate?"),
            (("point", "times", "times@9", "--at", "gate"), "there is no times@9"),
            (("point", "nothing", "times@1", "--at", "gate"), "there is no endpoint"),
            (("outpost", "label", "gate", "--label", "Region"), "is no label"),
        ):
            with self.subTest(said):
                done = self.hub.run(*words)
                self.assertEqual(done.returncode, 1)
                self.assertIn(said, done.stderr)
