"""Rollouts with callers asking: bad versions go back by themselves, good ones end up serving, and a restart changes nothing."""

import json
import threading
import time
import unittest
from collections import Counter
from typing import Any

import numpy as np

from lamppost.core.errors import BadRequest, Conflict, LampPostError, NotFound, ServerUnreachable
from tests.support.lamps import moody_lamp
from tests.support.models import Fussy, Moody, Sleepy
from tests.support.service import Service, until
from tests.support.versions import label_lamp, times_lamp

QUICK = {"steps": [{"share": 10, "calls": 30}, {"share": 50, "calls": 60}]}


class Callers:
    """They ask in turn until the block ends. versions : who answered, in order of time."""

    def __init__(self, service: Service, endpoint: str, row: Any, count: int = 4) -> None:
        self.versions: list[str] = []
        self.refused: Counter[int] = Counter()
        self._stop = threading.Event()
        self._threads = [threading.Thread(target=self._call, args=(service, endpoint, row, at)) for at in range(count)]

    def __enter__(self) -> "Callers":
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        for thread in self._threads:
            thread.join()

    def _call(self, service: Service, endpoint: str, row: Any, seed: int) -> None:
        rng = np.random.default_rng(seed)
        with service.client() as client:
            while not self._stop.is_set():
                try:
                    self.versions.append(client.predict(endpoint, row(rng)).version)
                except ServerUnreachable:
                    time.sleep(0.05)
                except LampPostError as error:
                    self.refused[error.status] += 1


class Rollouts(unittest.TestCase):
    service: Service

    @classmethod
    def setUpClass(cls) -> None:
        cls.service = Service("--allow-pickle").start()
        cls.addClassCleanup(cls.service.remove)
        with cls.service.client() as client:
            for lamp in (label_lamp(0.8), label_lamp(0.3), label_lamp(0.79), times_lamp(1), times_lamp(2)):
                client.push(lamp)
            client.point("letter", "letter@1")
            client.point("times", "times@1")

    def setUp(self) -> None:
        self.client = self.service.client()
        self.addCleanup(self.client.close)

    def stands(self, endpoint: str) -> dict[str, Any]:
        said: dict[str, Any] = self.client.fetch("GET", f"/api/endpoints/{endpoint}/rollouts")[0]
        return said

    def over(self, endpoint: str) -> dict[str, Any]:
        return until(lambda: (said := self.stands(endpoint))["ended_at"] and said, 90, "the end of the rollout")

    def serves(self, endpoint: str) -> str:
        return str(self.client.fetch("GET", f"/api/endpoints/{endpoint}")["summary"])

    def test_one_that_answers_otherwise_goes_back_and_one_like_it_serves(self) -> None:
        with Callers(self.service, "letter", lambda rng: {"x": float(rng.random())}) as callers:
            until(lambda: len(callers.versions) > 50, what="some calls")
            self.client.roll_out("letter", "letter@2", QUICK)
            with self.assertRaisesRegex(Conflict, "a rollout of letter to letter@2 goes on already"):
                self.client.roll_out("letter", "letter@3", QUICK)
            ended = self.over("letter")
            self.assertEqual((ended["state"], ended["step"]), ("back", 0), ended["reason"])
            self.assertIn("went back to letter@1 at 10 %: letter@2 answers otherwise", ended["reason"])
            self.assertEqual(self.serves("letter"), "letter@1")
            self.client.roll_out("letter", "letter@3", QUICK)
            ended = self.over("letter")
            self.assertEqual(ended["state"], "done", ended["reason"])
            self.assertEqual(self.serves("letter"), "letter@3")
        self.assertEqual(dict(callers.refused), {})
        self.assertEqual(callers.versions[-1], "letter@3")
        self.assertEqual([step[1] >= least for step, least in zip(ended["calls"], (30, 60), strict=True)], [True, True])
        done = self.service.run("rollout", "letter")
        self.assertIn("all guards calm", done.stdout)
        self.client.rollback("letter")
        self.assertEqual(self.serves("letter"), "letter@1", "steps of a rollout are not what was served before")

    def test_a_plan_that_makes_no_sense_is_refused_with_its_place(self) -> None:
        for plan, place in (
            ({"steps": [{"share": 50, "calls": 1}], "guards": {"error": 2}}, "guards.error"),
            ({"steps": [{"share": 5}]}, "calls, minutes or both"),
            ({"steps": [{"share": "half", "calls": 1}]}, "share"),
        ):
            with self.subTest(place):
                answer = self.service.post("/api/endpoints/letter/rollout", json.dumps({"version": "letter@2", "plan": plan}))
                self.assertIn(answer.status_code, (400, 422))
                self.assertIn(place, answer.text)

    def test_one_whose_answers_turn_out_wrong_goes_back(self) -> None:
        self.client.point("told", "letter@1")
        plan = {"steps": [{"share": 50, "calls": 100_000}], "guards": {"answers": None, "disagreement": None}}
        self.client.roll_out("told", "letter@2", plan)
        rng = np.random.default_rng(3)
        ids = {"a": [], "b": []}  # what is true is what the first version says
        for x in rng.random(160):
            said = self.client.predict("told", {"x": float(x)})
            ids["a" if x < 0.8 else "b"].append(said.request_id)
        told = [{"request_id": one, "truth": truth} for truth, several in ids.items() for one in several]
        path = "/api/endpoints/told/outcomes"
        until(lambda: self.client.fetch("POST", path, {"outcomes": told})["known"] == 160, 30, "all answers in the records")
        ended = self.over("told")
        self.assertEqual(ended["state"], "back", ended["reason"])
        self.assertIn("letter@2 was wrong in", ended["reason"])

    def test_one_that_fails_goes_back(self) -> None:
        first = self.service.serve(moody_lamp("moody", Moody()), "moody")
        second = self.client.push(moody_lamp("fussy", Fussy()), "moody")["version"]
        with Callers(self.service, "moody", lambda rng: {"x": float(rng.integers(1, 5))}) as callers:
            self.client.roll_out("moody", second, QUICK)
            ended = self.over("moody")
        self.assertEqual((ended["state"], ended["step"]), ("back", 0), ended["reason"])
        self.assertRegex(ended["reason"], rf"{second} failed in \d+ of \d+ calls, and the version before it 0 of")
        self.assertEqual((set(callers.refused), self.serves("moody")), ({502}, first))

    def test_one_that_is_slow_goes_back_even_where_nobody_asked_before(self) -> None:
        first = self.service.serve(moody_lamp("brisk", Moody()), "brisk")
        second = self.client.push(moody_lamp("sleepy", Sleepy()), "brisk")["version"]
        with Callers(self.service, "brisk", lambda rng: {"x": float(rng.integers(1, 5))}):
            self.client.roll_out("brisk", second, QUICK)
            ended = self.over("brisk")
        self.assertEqual((ended["state"], ended["step"], self.serves("brisk")), ("back", 0, first), ended["reason"])
        self.assertRegex(ended["reason"], rf"{second} was slower than [\d.]+ ms in \d+ of \d+ calls")

    def test_steering_by_command_and_by_hand(self) -> None:
        def run(*words: str) -> str:
            done = self.service.run("rollout", "times", *words)
            self.assertEqual(done.returncode, 0, done.stderr)
            return done.stdout

        self.client.point("times", "times@1")
        run("times@2", "--steps", "5,20", "--minutes", "60", "--guard", "answers=", "--guard", "p99_ms=500")
        self.assertEqual(self.serves("times"), "times@1 95 %, times@2 5 %")
        self.assertIn("paused by admin", run("--pause"))
        self.assertIn("running", run("--resume"))
        self.assertIn("taken back by admin at 5 %", run("--back"))
        self.assertEqual(self.serves("times"), "times@1")
        with self.assertRaisesRegex(NotFound, "no rollout of times goes on"):
            self.client.fetch("POST", "/api/endpoints/times/rollout/finish")
        run("times@2", "--steps", "5", "--minutes", "60")
        self.assertIn("finished by admin", run("--finish"))
        self.assertEqual(self.serves("times"), "times@2")
        run("times@1", "--steps", "5", "--minutes", "60")
        self.assertIn("The rollout that went on is ended", self.client.point("times", "times@2")["summary"])
        self.assertEqual((self.stands("times")["state"], self.serves("times")), ("ended", "times@2"))
        self.assertIn("admin changed times otherwise, to times@2", self.stands("times")["reason"])
        run("times@1", "--steps", "5", "--minutes", "60")
        self.client.rollback("times")
        self.assertEqual((self.stands("times")["state"], self.serves("times")), ("ended", "times@2"))
        with self.assertRaisesRegex(Conflict, "times@2 is served already"):
            self.client.roll_out("times", "times@2")
        with self.assertRaisesRegex(BadRequest, "growing shares"):
            self.client.roll_out("times", "times@1", {"steps": [{"share": 5, "calls": 1}, {"share": 2, "calls": 1}]})
        actions = [one["action"] for one in self.client.fetch("GET", "/api/trail", subject="times", limit=12)]
        self.assertEqual(actions.count("began rollout"), 4)
        self.assertIn("took rollout back", actions)

    def test_it_survives_a_restart(self) -> None:
        self.client.point("times", "times@1")
        self.client.roll_out("times", "times@2", {"steps": [{"share": 20, "calls": 400}], "guards": {"answers": None, "p99": None}})
        with Callers(self.service, "times", lambda _: {"x": 1.0}) as callers:
            until(lambda: self.stands("times")["calls"][0][1] > 5, 30, "counts of the new version")
            before = self.stands("times")["calls"][0]
            self.service.kill()
            self.service.start()
            after = self.stands("times")["calls"][0]
            self.assertTrue(all(now >= then for now, then in zip(after, before, strict=True)), (before, after))
            self.assertEqual(self.over("times")["state"], "done")
            answered = len(callers.versions)
            until(lambda: len(callers.versions) > answered + 20, what="answers after it")  # those on their way may be the old one's
        self.assertEqual((callers.versions[-1], self.serves("times")), ("times@2", "times@2"))
        self.assertLessEqual(set(callers.refused), {503}, "while it starts it says so")

    def test_both_versions_are_asked_where_disagreement_is_guarded(self) -> None:
        self.client.point("times", "times@1")
        guards = {"errors": None, "p99": None, "answers": None, "disagreement": 0.05}
        self.client.roll_out("times", "times@2", {"steps": [{"share": 20, "calls": 5_000}], "guards": guards})
        with Callers(self.service, "times", lambda rng: {"x": float(rng.random() * 30)}):
            ended = self.over("times")
        self.assertEqual(ended["state"], "back")
        self.assertRegex(ended["reason"], r"disagrees with the version before it in \d+ of \d+ calls that both answered")
