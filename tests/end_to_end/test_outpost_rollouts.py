"""Rollouts over outposts: one outpost after the other under guards, and back."""

import threading
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import Any

import lamppost
from lamppost.core.errors import BadRequest, Conflict, LampPostError
from tests.support.lamps import moody_lamp
from tests.support.models import Companion, Moody
from tests.support.outposts import Outpost, WithHub
from tests.support.service import until

CALM = {"answers": None, "p99": None}
"""Guards under which versions may answer otherwise, on a machine that is busy with tests."""


class OutpostRollouts(WithHub):
    def set_up(self, endpoint: str, *names: str, version: str = "times@1") -> list[Outpost]:
        """Outposts with the label group=ENDPOINT, for which a version is set."""
        with self.hub.client() as client:
            client.set_up(endpoint, {"version": version})
        self.point(version, f"group={endpoint}", endpoint)
        return [self.outpost(name, labels=[f"group={endpoint}"]) for name in names]

    def begin(self, endpoint: str, version: str, share: float, calls: int, guards: dict[str, Any]) -> dict[str, Any]:
        plan = {"step": {"share": share, "calls": calls}, "guards": guards}
        with self.hub.client() as client:
            body = {"at": f"group={endpoint}", "version": version, "plan": plan}
            return dict(client.fetch("POST", f"/api/endpoints/{endpoint}/outposts/rollout", body))

    def act(self, endpoint: str, what: str) -> dict[str, Any]:
        with self.hub.client() as client:
            return dict(client.fetch("POST", f"/api/endpoints/{endpoint}/outposts/rollout/{what}"))

    def latest(self, endpoint: str) -> dict[str, Any]:
        with self.hub.client() as client:
            return dict(client.fetch("GET", "/api/outpost-rollouts", endpoint=endpoint)[0])

    @contextmanager
    def asking(self, outposts: Sequence[Outpost], endpoint: str) -> Iterator[Counter[str]]:
        """Calls to every outpost until the end of the block; the versions that answered, and calls that were lost as "lost"."""
        ended, answered = threading.Event(), Counter[str]()

        def ask(outpost: Outpost) -> None:
            with lamppost.Client(outpost.address, self.hub.token, repeats=0) as client:
                for at in range(4_000):
                    try:
                        answered[client.predict(endpoint, {"x": float(at % 40)}).version] += 1
                    except LampPostError:
                        answered["lost"] += 1
                    if ended.wait(0.02):
                        return

        threads = [threading.Thread(target=ask, args=(outpost,)) for outpost in outposts]
        for thread in threads:
            thread.start()
        try:
            yield answered
        finally:
            ended.set()
            for thread in threads:
                thread.join()

    def test_one_outpost_after_the_other_and_none_that_is_away(self) -> None:
        east, north, _ = outposts = self.set_up("rolled", "east", "north", "away")
        for outpost in (east, north):
            outpost.start()
        begun = self.begin("rolled", "times@2", 40, 15, CALM)
        self.assertEqual([turn["outpost"] for turn in begun["turns"]], ["away", "east", "north"])
        self.assertEqual(begun["reason"], "times@2 goes to east")
        with self.assertRaisesRegex(Conflict, "goes on already"):
            self.begin("rolled", "times@3", 40, 15, CALM)
        with self.asking((east, north), "rolled") as answered:
            until(lambda: self.about("east")["endpoints"][0]["rollout_percent"] == 40, what="the turn of east")
            self.assertIsNone(self.about("north")["endpoints"][0]["rollout_percent"])
            until(lambda: "waits for away" in self.latest("rolled")["reason"], what="both turns")
        self.assertEqual(answered["lost"], 0)
        until(lambda: [outpost.ask(10, "rolled") for outpost in (east, north)] == [(30, "times@2")] * 2, what="the new version alone")
        turns = {turn["outpost"]: turn for turn in self.latest("rolled")["turns"]}
        self.assertEqual([turns[name]["state"] for name in ("away", "east", "north")], ["waits", "done", "done"])
        for name in ("east", "north"):
            old, new = turns[name]["calls"]
            self.assertGreaterEqual(new, 15)
            self.assertAlmostEqual(new / (old + new), 0.4, delta=0.1)
        away = outposts[2].start()
        self.assertEqual(away.ask(10, "rolled"), (20, "times@1"), "its turn begins when it is there")
        with self.asking((away,), "rolled"):
            until(lambda: self.latest("rolled")["state"] == "done", what="the end of the rollout")
        until(lambda: away.ask(10, "rolled") == (30, "times@2"), what="the new version alone")
        with self.hub.client() as client:
            pointed = next(one for one in client.fetch("GET", "/api/trail") if one["action"] == "finished rollout over outposts")
            with self.assertRaisesRegex(Conflict, "cannot be retired while it is set for rolled at group=rolled \\(set"):
                client.retire("times@2")
        self.assertEqual(pointed["after"], {"at": "group=rolled", "version": "times@2"})

    def test_a_crossed_guard_takes_all_of_them_back(self) -> None:
        west, south = self.set_up("guarded", "west", "south")
        west.start(), south.start()
        with self.asking((west, south), "guarded") as answered:
            said = self.hub.run("rollout", "guarded", "times@3", "--at", "group=guarded", "--share", "50", "--calls", "2000", "--follow")
        self.assertEqual(said.returncode, 1, said.stdout + said.stderr)
        self.assertIn("went back to times@1 at south: times@3 answers otherwise", " ".join(said.stdout.split()))
        self.assertEqual(answered["lost"], 0)
        until(lambda: south.ask(10, "guarded") == (20, "times@1"), what="the old version")
        self.assertEqual(self.latest("guarded")["turns"][1]["state"], "waits", "west never had its turn")
        shown = self.hub.run("rollout", "guarded", "--at", "group=guarded").stdout
        self.assertIn("guarded at group=guarded: times@1 → times@3, back", shown)
        self.assertIn("answers", shown)

    def test_a_version_that_one_outpost_cannot_serve_goes_back(self) -> None:
        with self.hub.client() as client:
            client.point("refusing", client.push(moody_lamp("moody-there", Moody()))["version"])
            bad = client.push(moody_lamp("companion-there", Companion()))["version"]
        (outpost,) = self.set_up("refusing", "ford", version="moody-there@1")
        outpost.options = ("--allow-pickle",)
        outpost.start()
        self.begin("refusing", bad, 20, 10, CALM)
        until(lambda: self.latest("refusing")["state"] == "back", what="the way back")
        self.assertIn(f"ford cannot serve {bad}: ", self.latest("refusing")["reason"])
        with lamppost.Client(outpost.address, self.hub.token) as client:
            self.assertEqual(client.predict("refusing", {"x": 2.0}).version, "moody-there@1")
        until(lambda: self.about("ford")["state"] == "serving", what="no trouble is left")

    def test_people_pause_resume_finish_and_set_something_else(self) -> None:
        (outpost,) = self.set_up("steered", "quay")
        outpost.start()
        self.begin("steered", "times@2", 50, 100_000, CALM)
        until(lambda: "has 50 % at quay" in self.latest("steered")["reason"], what="its turn")
        self.assertEqual(self.act("steered", "pause")["state"], "paused")
        self.assertEqual(self.act("steered", "resume")["reason"].partition(" by ")[0], "resumed")
        self.assertEqual(self.act("steered", "finish")["state"], "done")
        until(lambda: outpost.ask(10, "steered") == (30, "times@2"), what="the new version alone")
        with self.assertRaisesRegex(LampPostError, "no rollout of steered over outposts goes on"):
            self.act("steered", "back")
        self.begin("steered", "times@1", 50, 100_000, CALM)
        self.point("times@3", "group=steered", "steered")
        ended = self.latest("steered")
        self.assertEqual((ended["state"], ended["reason"].partition(" ")[2]), ("ended", "set times@3 for group=steered"))
        until(lambda: outpost.ask(10, "steered") == (40, "times@3"), what="what was set")

    def test_an_endpoint_of_the_name_of_a_deleted_one_has_none_of_its_past(self) -> None:
        (outpost,) = self.set_up("gone", "ghost")
        outpost.start()
        self.begin("gone", "times@2", 50, 100_000, CALM)
        with self.hub.client() as client:
            client.delete_endpoint("gone")
            self.assertIn("deleted gone", client.fetch("GET", "/api/outpost-rollouts")[0]["reason"])
            with self.assertRaisesRegex(Conflict, "which was deleted, can still be given back with it at group=gone"):
                client.delete_version("times@1")
            client.delete_endpoint("gone", for_good=True)
            client.set_up("gone", {"version": "times@3"})
        until(lambda: self.about("ghost")["endpoints"] == [], what="the end of what it served")

    def test_what_cannot_be_rolled_out(self) -> None:
        with self.hub.client() as client:
            client.set_up("still", {"version": "times@1"})
        with self.assertRaisesRegex(BadRequest, "nothing is set for still at group=still"):
            self.begin("still", "times@2", 20, 10, {})
        self.point("times@1", "group=still", "still")
        with self.assertRaisesRegex(Conflict, "no outpost serves what is set for group=still"):
            self.begin("still", "times@2", 20, 10, {})
        self.outpost("lone", labels=["group=still"])
        with self.assertRaisesRegex(Conflict, "is set for group=still already"):
            self.begin("still", "times@1", 20, 10, {})
        with self.assertRaisesRegex(BadRequest, "the guard disagreement needs"):
            self.begin("still", "times@2", 20, 10, {"disagreement": 0.1})
        with self.assertRaisesRegex(LampPostError, "times@9"):
            self.begin("still", "times@9", 20, 10, {})
        said = self.hub.run("rollout", "still", "times@2", "--share", "20")
        self.assertEqual(said.returncode, 1)
        self.assertIn("--at", said.stderr)
