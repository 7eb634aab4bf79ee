"""Records, counts and outcomes that outposts bring to their hub: each once, within a budget, and told of each outpost by itself."""

import os
from collections import Counter
from datetime import UTC, datetime, timedelta
from typing import Any

import lamppost
from lamppost.core.errors import BadRequest
from lamppost.core.payload.outpost_records import CONTENT_TYPE, SentFrame, SentRecords, SentWindow, write_records
from lamppost.package.read import read_lamp
from lamppost.store.call_records import CallRecord, pack_calls
from tests.support import http
from tests.support.outposts import Outpost, WithHub
from tests.support.service import Service, until
from tests.support.versions import times_lamp


class Records(WithHub):
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

    def test_quality_is_told_of_each_outpost_by_itself_and_alerts(self) -> None:
        rules = [{"on": "quality", "above": 90, "minutes": 60}]
        with self.hub.client() as client:
            client.set_up("judged", {"version": "times@1", "monitoring": {"rules": rules}})
        names = ("sound", "unsound")
        for name in names:
            outpost = self.outpost(name)
            self.point("times@1", name, "judged")
            outpost.start()
            with lamppost.Client(outpost.address, self.hub.token) as there:
                ids = [there.predict("judged", {"x": float(x)}).request_id for x in range(1, 61)]
                factor = 2.0 if name == "sound" else 9.0
                truths = [{"request_id": one, "truth": factor * x} for x, one in enumerate(ids, 1)]
                there.fetch("POST", "/api/endpoints/judged/outcomes", {"outcomes": truths})

        def right() -> dict[str, Any] | None:
            with self.hub.client() as client:
                found = {name: client.fetch("GET", "/api/endpoints/judged/quality", at=name)["versions"] for name in names}
            return found if all(versions and versions[0]["known"] == 60 for versions in found.values()) else None

        found = until(right, what="the outcomes of both")
        self.assertEqual({name: (one["known"], one["answered"]) for name, (one,) in found.items()}, dict.fromkeys(names, (60, 60)))
        self.assertEqual(found["sound"][0]["absolute_error"]["value"], 0.0)
        self.assertGreater(found["unsound"][0]["absolute_error"]["value"], 50)
        said = self.hub.run("outcomes", "judged", "--at", "unsound")
        self.assertIn("60 of 60 known", said.stdout)
        self.assertIn("there is no outpost", self.hub.run("outcomes", "judged", "--at", "nowhere").stderr)

        def alerts() -> dict[str, str]:
            with self.hub.client() as client:
                return {one["rule"]: one["state"] for one in client.fetch("GET", "/api/alerts", endpoint="judged")}

        until(lambda: alerts().get("quality at unsound") == "firing", 120, "the alert")
        self.assertNotIn("quality at sound", alerts())

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
