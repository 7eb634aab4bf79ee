"""Outposts: nodes without a database that serve what their hub says, go on without it, and bring their records home once."""

import contextlib
import os
import shutil
import subprocess
import time
import unittest
from collections import Counter
from datetime import UTC, datetime, timedelta
from typing import Any

import lamppost
from lamppost.core.errors import BadRequest
from lamppost.core.payload.outpost_records import CONTENT_TYPE, SentFrame, SentRecords, SentWindow, write_records
from lamppost.package.read import read_lamp
from lamppost.store.call_records import CallRecord, pack_calls
from tests.support import http
from tests.support.lamps import moody_lamp
from tests.support.models import Companion, Moody
from tests.support.outposts import Outpost
from tests.support.service import Service, until
from tests.support.versions import times_lamp


class Outposts(unittest.TestCase):
    hub: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.hub = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.hub.remove)
        with cls.hub.client() as client:
            for factor in (2, 3, 4):
                client.push(times_lamp(factor))
            client.set_up("times", {"version": "times@1"})

    def outpost(self, name: str, **more: Any) -> Outpost:
        with self.hub.client() as client:
            added = client.fetch("POST", "/api/outposts", {"name": name, **more})
        outpost = Outpost(self.hub, name, added["secret"])
        self.addCleanup(shutil.rmtree, outpost.folder, True)
        self.addCleanup(outpost.end)
        return outpost

    def point(self, version: str | None, at: str, endpoint: str = "times") -> dict[str, Any]:
        with self.hub.client() as client:
            return dict(client.fetch("PUT", f"/api/endpoints/{endpoint}/outposts", {"at": at, "version": version}))

    def about(self, name: str) -> dict[str, Any]:
        with self.hub.client() as client:
            return dict(client.fetch("GET", f"/api/outposts/{name}"))

    def recorded(self, **params: Any) -> list[dict[str, Any]]:
        with self.hub.client() as client:
            return list(client.fetch("GET", "/api/calls", **{"endpoint": "times", "limit": 1_000, **params}))

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

    def test_inputs_and_answers_fit_the_budget_and_counts_are_whole(self) -> None:
        outpost = self.outpost("mill", payload_bytes_per_day=3_000)
        with self.hub.client() as client:
            client.set_up("milled", {"version": "times@1"})
        self.point("times@1", "mill", "milled")
        outpost.start()
        with lamppost.Client(outpost.address, self.hub.token) as client:
            ids = {client.predict("milled", {"x": float(at % 40)}).request_id for at in range(200)}

        def mine() -> list[dict[str, Any]]:
            return [call for call in self.recorded(endpoint="milled") if call["request_id"] in ids]

        until(lambda: len(mine()) == 200, what="the records")
        kept = [call for call in mine() if call["input"] is not None]
        sent = sum(len(str(call["input"])) + len(str(call["answer"])) for call in kept)
        self.assertTrue(0 < sent < 6_000, f"{len(kept)} calls with {sent} characters")
        until(lambda: self.about("mill")["payloads_left_out"] == 200 - len(kept), 60, "the hub knows what was left out")
        with self.hub.client() as client:
            windows = client.fetch("GET", "/api/endpoints/milled/drift", version="times@1")["windows"]
        self.assertEqual(sum(window["rows"] for window in windows), 200)

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

    def test_drift_is_told_of_each_outpost_by_itself(self) -> None:
        with self.hub.client() as client:
            client.set_up("measured", {"version": "times@1"})
        outposts = {name: self.outpost(name) for name in ("upstream", "downstream")}
        for name, outpost in outposts.items():
            self.point("times@1", name, "measured")
            outpost.start()
        reference = read_lamp(times_lamp(2)).reference
        assert reference is not None
        usual = [row["x"] for row in reference.sample] * 6
        for name, outpost in outposts.items():
            rows = [{"x": x + (0.0 if name == "upstream" else 4 * max(usual))} for x in usual]
            with lamppost.Client(outpost.address, self.hub.token) as client:
                client.predict("measured", rows)

        def told() -> dict[str, Any] | None:
            with self.hub.client() as client:
                found = {name: client.fetch("GET", f"/api/outposts/{name}/drift")[0] for name in outposts}
            return found if all(one["rows"] for one in found.values()) else None

        found = until(told, what="counts from both")
        states = {name: (one["state"], one["rows"]) for name, one in found.items()}
        self.assertEqual(states, {"upstream": ("steady", len(usual)), "downstream": ("drifted", len(usual))})
        self.assertEqual(found["downstream"]["figures"][0]["name"], "x")
        said = self.hub.run("outpost", "drift", "downstream")
        self.assertIn(f"times@1: {len(usual)} rows in 24 h", said.stdout)
        self.assertIn("x: ", said.stdout)
        self.assertIn("there is no outpost", self.hub.run("outpost", "drift", "nowhere").stderr)

    def test_outcomes_that_are_reported_here_come_home_behind_their_records(self) -> None:
        hub = Service().start()
        self.addCleanup(hub.remove)
        with hub.client() as client:
            client.push(times_lamp(2))
            for endpoint in ("times", "others"):
                client.set_up(endpoint, {"version": "times@1"})
            secret = client.fetch("POST", "/api/outposts", {"name": "meter"})["secret"]
            client.fetch("PUT", "/api/endpoints/times/outposts", {"at": "meter", "version": "times@1"})
        outpost = Outpost(hub, "meter", secret)
        self.addCleanup(outpost.end)
        outpost.start()
        hub.kill()
        with lamppost.Client(outpost.address, hub.token) as there:
            ids = [there.predict("times", {"x": float(x)}).request_id for x in (1, 2, 3)]
            truths = {"outcomes": [{"request_id": one, "truth": truth} for one, truth in zip(ids, (2.0, 4.0, 7.0), strict=True)]}
            kept = there.fetch("POST", "/api/endpoints/times/outcomes", truths)
            self.assertEqual((kept["kept"], "are kept" in kept["summary"]), (3, True))
            with self.assertRaises(BadRequest):
                there.fetch("POST", "/api/endpoints/times/outcomes", {"outcomes": [{"truth": 1.0}]})
        outpost.end()
        waiting = outpost.folder / "data" / "outcomes"
        self.assertEqual(len(list(waiting.glob("*.json"))), 1, "they are kept over the end")
        hub.start()
        outpost.start()
        until(lambda: not list(waiting.glob("*.json")), 120, "the outcomes")
        with hub.client() as client:
            (version,) = client.fetch("GET", "/api/endpoints/times/quality")["versions"]
        self.assertEqual(version["known"], 3)
        headers = {"authorization": f"Bearer {secret}"}
        foreign = {"endpoint": "others", "by": "admin", "reported": truths}
        refused = http.post(f"{hub.address}/api/outposts/meter/outcomes", json=foreign, headers=headers)
        self.assertEqual((refused.status_code, "was never to serve" in refused.json()["detail"]), (400, True))

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

    def bring(self, name: str, token: str, segment: str, frames: list[tuple[int, list[CallRecord]]], clock: datetime | None = None) -> Any:
        records = SentRecords(segment, [SentFrame(number, "calls", pack_calls(calls)) for number, calls in frames], [], {})
        headers = {"authorization": f"Bearer {token}", "content-type": CONTENT_TYPE, "clock": (clock or datetime.now(UTC)).isoformat()}
        return http.post(f"{self.hub.address}/api/outposts/{name}/records", content=write_records(records), headers=headers)

    def call(self, number: int, at: datetime, endpoint: str = "times") -> CallRecord:
        request_id = f"01a20000-0000-7000-8000-{number:012d}"
        rows = b'{"x": 1.0}', b'{"answer": {"y": 2.0}}'
        return CallRecord(at.timestamp(), request_id, endpoint, "times@1", "admin", 200, 1, 1, 900, {}, *rows)

    def test_the_hub_stores_frames_once_corrects_clocks_and_refuses_what_is_not_theirs(self) -> None:
        with self.hub.client() as client:
            secrets = {name: client.fetch("POST", "/api/outposts", {"name": name})["secret"] for name in ("first", "second")}
            client.set_up("others", {"version": "times@1"})
        never = self.bring("first", secrets["first"], "f" * 32, [(1, [self.call(7, datetime.now(UTC))])])
        self.assertEqual((never.status_code, "was never to serve" in never.json()["detail"]), (400, True))
        for name, secret in secrets.items():
            self.hub.run("point", "times", "times@1", "--at", name)
            headers = {"authorization": f"Bearer {secret}"}
            report = {
                "instance": name,
                "clock": datetime.now(UTC).isoformat(),
                "software": "test",
                "address": "",
                "served": {},
                "refused": {},
            }
            report |= {"records_waiting": 0, "payloads_left_out": 0, "disk_free_bytes": 0}
            told = http.post(f"{self.hub.address}/api/outposts/{name}/report", json=report, headers=headers)
            self.assertEqual(list(told.json()["state"]["endpoints"]), ["times"])
        now, segment = datetime.now(UTC), "a" * 32
        first, second = [self.call(1, now)], [self.call(2, now)]
        for _ in range(2):
            self.assertEqual(self.bring("first", secrets["first"], segment, [(1, first)]).json(), {"lost": 0})
        both = self.bring("first", secrets["first"], segment, [(1, first), (2, second)])
        self.assertEqual((both.status_code, both.json()["through"]), (409, 1))
        self.assertEqual(self.bring("first", secrets["first"], segment, [(2, second)]).json(), {"lost": 0})
        self.assertEqual(self.bring("second", secrets["second"], segment, [(1, [self.call(3, now)])]).json(), {"lost": 0})
        self.assertEqual(self.bring("second", secrets["first"], segment, [(2, [self.call(9, now)])]).status_code, 403)
        ahead = now + timedelta(days=365)
        self.assertEqual(self.bring("first", secrets["first"], "b" * 32, [(1, [self.call(4, ahead)])], ahead).json(), {"lost": 0})
        ids = Counter(call["request_id"][-1] for call in self.recorded() if call["request_id"].startswith("01a20000-"))
        self.assertEqual(ids, Counter("1234"))
        times = [datetime.fromisoformat(call["at"]) for call in self.recorded() if call["request_id"].startswith("01a20000-")]
        self.assertLess(max(times) - now, timedelta(minutes=1))
        foreign = self.bring("first", secrets["first"], "c" * 32, [(1, [self.call(5, now, "elsewhere")])])
        self.assertEqual(foreign.status_code, 400)
        another = self.bring("first", secrets["first"], "c" * 32, [(1, [self.call(5, now, "others")])])
        self.assertIn("'others', which the outpost first was never to serve", another.json()["detail"])
        late = self.bring("first", secrets["first"], "d" * 32, [(1, [self.call(6, now + timedelta(days=400))])])
        self.assertEqual((late.status_code, "a day ahead" in late.json()["detail"]), (400, True))
        far = SentRecords("e" * 32, [SentFrame(1, "calls", pack_calls([]))], [SentWindow("times", "times@1", 1e300, 1, 0, b"x")], {})
        for body in (
            write_records(far),
            b"",
            b"\x00\x00\x00\x05{}",
            write_records(SentRecords("../x", [SentFrame(1, "calls", b"")], [], {})),
            os.urandom(400),
        ):
            headers = {"authorization": f"Bearer {secrets['first']}", "content-type": CONTENT_TYPE, "clock": now.isoformat()}
            answer = http.post(f"{self.hub.address}/api/outposts/first/records", content=body, headers=headers)
            self.assertEqual((answer.status_code, answer.json()["type"]), (400, "urn:lamppost:bad-body"), body)

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
