"""Changing what is served: going back, shares, shadows, reviews, retirement, the trail, the declared state; by command and client."""

import json
import unittest
from collections import Counter
from typing import Any

import psycopg

from lamppost.core.errors import BadRequest, Conflict, LampPostError, NotAllowed
from tests.support.service import Service, until
from tests.support.versions import times_lamp


class WithVersions(unittest.TestCase):
    """One service for all classes of this module; every test has an endpoint of its own."""

    service: Service
    tight: str

    @classmethod
    def setUpClass(cls) -> None:
        if hasattr(WithVersions, "service"):
            return
        WithVersions.service = Service().start()
        unittest.addModuleCleanup(cls.service.remove)
        with cls.service.client() as client:
            for factor in (1, 2, 3, 4):
                client.push(times_lamp(factor))
            WithVersions.tight = client.push(times_lamp(5, tight=True))["version"]

    def setUp(self) -> None:
        self.client = self.service.client()
        self.addCleanup(self.client.close)
        self.endpoint = self._testMethodName.replace("_", "-")[:40].strip("-")

    def y(self, x: float = 1.0, **headers: str) -> float:
        return round(float(self.client.predict(self.endpoint, {"x": x}, headers=headers).answer["y"]), 6)

    def page(self) -> dict[str, Any]:
        page: dict[str, Any] = self.client.fetch("GET", f"/api/endpoints/{self.endpoint}")
        return page

    def token(self, name: str, role: str) -> str:
        return str(self.client.fetch("POST", "/api/tokens", {"name": name, "role": role})["secret"])


class GoingBack(WithVersions):
    def test_back_and_back_again(self) -> None:
        for number in (1, 2, 3):
            self.client.point(self.endpoint, f"times@{number}")
        self.assertEqual(self.page()["back"]["summary"], "times@2")
        lanes = {lane["version"] for lane in self.client.fetch("GET", "/api/lanes")["lanes"]}
        self.assertIn("times@2", lanes, "what going back returns to stays open")
        first = self.client.rollback(self.endpoint, "it was odd")
        self.assertEqual((first["version"], first["stored"], self.y()), ("times@2", True, 2.0))
        self.assertEqual(first["summary"], f"{self.endpoint} is back at times@2; it served times@3 before.")
        lanes = {lane["version"] for lane in self.client.fetch("GET", "/api/lanes")["lanes"]}
        self.assertLessEqual({"times@1", "times@2", "times@3"}, lanes | {"times@1"}, "and so does what was left, for going there again")
        done = self.service.run("rollback", self.endpoint)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("is back at times@1; it served times@2 before", done.stdout)
        self.assertEqual(self.y(), 1.0)
        with self.assertRaisesRegex(Conflict, "has served nothing before times@1"):
            self.client.rollback(self.endpoint)
        undo = done.stdout.split("undo: lamppost ")[1].split()
        self.assertEqual(self.service.run(*undo).returncode, 0)
        self.assertEqual(self.y(), 2.0)
        self.client.point(self.endpoint, "times@4")
        self.assertEqual(self.page()["back"]["summary"], "times@2", "what was passed on the way back is not what was served before")

    def test_callers_that_would_break_are_counted_before_anything_happens(self) -> None:
        self.client.point(self.endpoint, "times@1")
        for x in (10.0, 60.0, 70.0):
            self.y(x)
        until(lambda: self.page()["last_hour"]["calls"] >= 3, what="the calls in the records")
        with self.assertRaises(Conflict) as caught:
            self.client.point(self.endpoint, self.tight)
        self.assertIn(f"{self.tight} would refuse 2 of 3 calls that were answered in the last hour: x is ", caught.exception.detail)
        self.assertEqual(caught.exception.extra["refused"], 2)
        self.assertEqual(self.y(60.0), 60.0, "nothing was changed")
        done = self.service.run("point", self.endpoint, self.tight)
        self.assertEqual((done.returncode, "--anyway" in done.stderr), (1, True))
        self.assertEqual(self.service.run("point", self.endpoint, self.tight, "--anyway").returncode, 0)
        with self.assertRaises(BadRequest):
            self.y(60.0)
        self.client.rollback(self.endpoint)
        self.assertEqual(self.y(60.0), 60.0)


class Sharing(WithVersions):
    def split(self, *words: str) -> None:
        done = self.service.run("split", self.endpoint, *words)
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_shares_are_exact_and_sticky_callers_move_one_way(self) -> None:
        self.client.point(self.endpoint, "times@1")
        self.split("times@1=75", "times@2=25")
        got = Counter(self.y() for _ in range(200))
        self.assertLessEqual(abs(got[2.0] - 50), 3)
        self.assertEqual(sum(got.values()), got[1.0] + got[2.0])
        self.split("times@1=75", "times@2=25", "--sticky", "header:Customer")
        first = {key: self.y(customer=key) for key in map(str, range(60))}
        self.assertEqual(first, {key: self.y(customer=key) for key in first})
        self.assertEqual(set(first.values()), {1.0, 2.0})
        self.split("times@1=30", "times@2=70", "--sticky", "header:Customer")
        later = {key: self.y(customer=key) for key in first}
        self.assertFalse([key for key in first if first[key] == 2.0 and later[key] == 1.0], "nobody who was moved moves back")
        self.assertGreater(list(later.values()).count(2.0), list(first.values()).count(2.0))
        self.assertEqual(self.page()["summary"], "times@1 30 %, times@2 70 %")

    def test_sticky_by_a_field_that_only_chooses(self) -> None:
        shares = {"of": {"times@1": 50, "times@2": 50}, "sticky": {"by": "field", "name": "lamp"}}
        self.client.set_up(self.endpoint, {"shares": shares})
        rows = [{"x": 1.0, "lamp": f"lamp-{number}"} for number in range(40)]
        said = self.client.predict(self.endpoint, rows).answers
        self.assertEqual({answer["version"] for answer in said}, {"times@1", "times@2"})
        for answer in said:
            self.assertAlmostEqual(answer["y"], float(answer["version"][-1]))
        again = self.client.predict(self.endpoint, rows[::-1]).answers[::-1]
        self.assertEqual([one["version"] for one in again], [one["version"] for one in said])

    def test_versions_with_other_limits_share_what_both_take(self) -> None:
        self.client.set_up(self.endpoint, {"shares": {"of": {"times@1": 50, self.tight: 50}}})
        self.assertEqual({self.y(10.0) for _ in range(6)}, {10.0, 50.0})
        for _ in range(4):
            with self.assertRaises(BadRequest):
                self.y(60.0)

    def test_shares_that_make_no_sense_change_nothing(self) -> None:
        self.client.point(self.endpoint, "times@1")
        for words, summary in (
            (("times@1=75", "times@2=20"), "add up to 95 %"),
            (("times@1=75", "times@99=25"), "there is no times@99"),
            (("times@1=75", "times=25"), "is not a version"),
            (("times@1=75", "times@2=few"), "is not MODEL@N=SHARE"),
            (("times@1=50", "times@2=50", "--sticky", "mood"), "is not header:NAME"),
        ):
            done = self.service.run("split", self.endpoint, *words)
            self.assertEqual(done.returncode, 1, words)
            self.assertIn(summary, done.stderr)
        self.assertEqual(self.page()["revision"], 1)

    def test_a_shadow_is_recorded_and_never_given(self) -> None:
        self.client.point(self.endpoint, "times@1")
        self.assertEqual(self.service.run("shadow", self.endpoint, "times@3", "--share", "50").returncode, 0)
        until(lambda: self.page()["shadows"][0]["open"], what="the shadow's lane")
        self.assertEqual({self.y() for _ in range(40)}, {1.0})
        shadow = until(lambda: (one := self.page()["shadows"][0])["answered"] >= 18 and one, what="the shadow's answers")
        self.assertLessEqual(shadow["answered"], 22)
        hour = until(lambda: (page := self.page())["last_hour"]["calls"] >= 40 and page["last_hour"], what="the records")
        self.assertEqual(hour["calls"], 40, "copies are no calls")
        postgres = self.service.database()
        with psycopg.connect(postgres) as connection:
            query = (
                "SELECT l.answer, s.answer FROM calls l JOIN calls s USING (request_id)"
                " WHERE s.shadow AND NOT l.shadow AND s.version = 'times@3' AND l.endpoint = %s"
            )
            pairs = until(lambda: len(found := connection.execute(query, (self.endpoint,)).fetchall()) >= 18 and found)
        for live, copy in pairs:
            self.assertAlmostEqual(copy["answers"][0]["y"], 3 * live["answer"]["y"])
        self.assertEqual(self.service.run("shadow", self.endpoint, "times@3", "--share", "0").returncode, 0)
        self.assertEqual(self.page()["shadows"], [])

    def test_one_call_is_found_again_and_asked_again(self) -> None:
        self.client.set_up(self.endpoint, {"version": "times@1", "shadows": [{"version": "times@2"}]})
        until(lambda: self.page()["shadows"][0]["open"], what="the shadow's lane")
        said = self.client.predict(self.endpoint, {"x": 21.0})
        with self.assertRaises(BadRequest):
            self.y("much")  # type: ignore[arg-type]
        page = until(lambda: self.call(said.request_id), what="the call and its shadow")
        self.assertEqual((page["input"], page["answer"]["answer"], page["version"]), ({"x": 21.0}, {"y": 21.0}, "times@1"))
        self.assertAlmostEqual(page["shadows"][0]["answer"]["answers"][0]["y"], 42.0)
        done = self.service.run("call", said.request_id, "--replay", "times@3")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("status 200, by times@1 for admin", done.stdout)
        self.assertRegex(done.stdout.splitlines()[-1], r"0 +other +.*21\.0.*63\.0")
        refused = until(lambda: self.service.run("tail", self.endpoint, "--status", "400", "--json").stdout, what="the refused call")
        self.assertEqual([json.loads(line)["status"] for line in refused.splitlines()], [422])
        self.assertIn("There are no such calls", self.service.run("tail", self.endpoint, "--slower", "60000").stdout)
        lost = self.service.run("call", "00000000-0000-0000-0000-000000000007")
        self.assertEqual((lost.returncode, "there is no call" in lost.stderr), (1, True))

    def call(self, request_id: str) -> dict[str, Any] | None:
        try:
            page: dict[str, Any] = self.client.fetch("GET", f"/api/calls/{request_id}")
        except LampPostError:
            return None
        return page if page["shadows"] else None

    def test_two_versions_on_the_same_rows(self) -> None:
        self.client.point(self.endpoint, "times@1")
        for x in range(30):
            self.y(float(x))
        until(lambda: self.page()["last_hour"]["calls"] >= 30, what="the records")
        wanted = {"before": "times@1", "after": "times@2", "endpoint": self.endpoint}
        said = self.client.fetch("POST", "/api/compare/answers", wanted)
        self.assertEqual((said["rows"], said["refused"], said["most"]), (30, 0, 29.0))
        self.assertEqual(said["worst"][0]["row"], {"x": 29.0})
        done = self.service.run("compare", "times@1", "times@2")
        self.assertIn("rows of the proof of times@1", done.stdout)
        file = self.service.folder / "rows.csv"
        file.write_text("x\n1.5\n60\n")
        done = self.service.run("compare", "times@1", self.tight, "--file", str(file), "--json")
        said = json.loads(done.stdout)
        self.assertEqual((said["rows"], said["refused"], said["worst"][0]["after"]["y"]), (1, 1, 7.5))


class Reviewing(WithVersions):
    def test_a_version_needs_others_before_it_serves(self) -> None:
        operator, reviewer = self.token("dusk", "operator"), self.token("dawn", "reviewer")
        self.client.point(self.endpoint, "times@1")
        self.assertEqual(self.service.run("review", "demand", self.endpoint, "1").returncode, 0)
        with self.service.client(operator) as dusk, self.service.client(reviewer) as dawn:
            with self.assertRaisesRegex(NotAllowed, "may not tokens"):
                dusk.fetch("PUT", f"/api/endpoints/{self.endpoint}/approvals", {"approvals": 0})
            for change in (
                lambda: dusk.point(self.endpoint, "times@2"),
                lambda: dusk.set_up(self.endpoint, {"shares": {"of": {"times@1": 99, "times@2": 1}}}),
                lambda: dusk.roll_out(self.endpoint, "times@2"),
            ):
                with self.assertRaisesRegex(Conflict, "demands 1 approval before times@2 serves it; ask for"):
                    change()
            asked = dusk.fetch("POST", "/api/reviews", {"endpoint": self.endpoint, "version": "times@2", "note": "twice as much"})
            number = asked["number"]
            with self.assertRaisesRegex(Conflict, "is open"):
                dusk.fetch("POST", "/api/reviews", {"endpoint": self.endpoint, "version": "times@2", "note": "again"})
            with self.assertRaisesRegex(NotAllowed, "may not review"):
                dusk.fetch("POST", f"/api/reviews/{number}/verdict", {"approves": True, "reason": "mine"})
            with self.assertRaisesRegex(NotAllowed, "pushed times@2, and somebody else has to decide"):
                self.client.fetch("POST", f"/api/reviews/{number}/verdict", {"approves": True, "reason": "mine"})
            with self.assertRaises(NotAllowed):
                dusk.point(self.endpoint, "times@2", override="it burns")
            said = dawn.fetch("POST", f"/api/reviews/{number}/verdict", {"approves": True, "reason": "compared on the proof"})
            self.assertEqual(said["state"], "approved")
            dusk.point(self.endpoint, "times@2")
            self.assertEqual(self.y(), 2.0)
            dusk.rollback(self.endpoint)
            dusk.point(self.endpoint, "times@2")
            refused = dusk.fetch("POST", "/api/reviews", {"endpoint": self.endpoint, "version": "times@3", "note": "three"})["number"]
            dawn.fetch("POST", f"/api/reviews/{refused}/verdict", {"approves": False, "reason": "too much"})
            with self.assertRaisesRegex(Conflict, "demands 1 approval"):
                dusk.point(self.endpoint, "times@3")
        done = self.service.run("point", self.endpoint, "times@3", "--override", "the other one burns lamps")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("WITHOUT REVIEW: the other one burns lamps", self.service.log.read_text())
        loud = self.client.fetch("GET", "/api/trail", subject=self.endpoint, action="overrode review")
        self.assertEqual((len(loud), loud[0]["note"], loud[0]["address"]), (1, "the other one burns lamps", "127.0.0.1"))
        listed = self.service.run("review", "list", self.endpoint).stdout
        self.assertIn("dawn: too much", listed)


class Keeping(WithVersions):
    def test_a_retired_version_serves_no_more_and_is_kept(self) -> None:
        self.client.point(self.endpoint, "times@4")
        with self.assertRaisesRegex(Conflict, f"cannot be retired while .*{self.endpoint}.* serves it"):
            self.client.fetch("POST", "/api/models/times/versions/4/retire", {})
        self.client.point(self.endpoint, "times@1")
        others = [one["name"] for one in self.client.fetch("GET", "/api/endpoints") if "times@4" in one["versions"]]
        for name in others:
            self.client.point(name, "times@1")
        self.assertEqual(self.service.run("retire", "times@4").returncode, 0)
        with self.assertRaisesRegex(Conflict, "times@4 is retired"):
            self.client.point(self.endpoint, "times@4")
        page = self.client.fetch("GET", "/api/models/times/versions/4")
        self.assertIsNotNone(page["retired_at"])
        self.assertIn(self.endpoint, page["served"])
        self.assertEqual(self.service.run("retire", "times@4", "--undo").returncode, 0)
        self.client.point(self.endpoint, "times@4")

    def test_models_have_an_owner_and_a_purpose(self) -> None:
        done = self.service.run("about", "times", "--owner", "lighting-department", "--purpose", "to multiply")
        self.assertIn("answered for by lighting-department", done.stdout)
        self.assertEqual(self.client.fetch("GET", "/api/models/times/versions/1")["purpose"], "to multiply")

    def test_the_trail_says_who_and_cannot_be_changed(self) -> None:
        self.client.point(self.endpoint, "times@1")
        self.client.point(self.endpoint, "times@2")
        self.client.rollback(self.endpoint, "100 % sure_thing")
        found = self.client.fetch("GET", "/api/trail", subject=self.endpoint)
        self.assertEqual([one["action"] for one in found], ["went back", "pointed", "pointed"])
        self.assertEqual((found[0]["before"], found[0]["after"]), ({"version": "times@2"}, {"version": "times@1"}))
        self.assertEqual(len(self.client.fetch("GET", "/api/trail", search="% sure_thing")), 1)
        self.assertEqual(self.client.fetch("GET", "/api/trail", search="%sure_thing"), [])
        lines = self.service.run("trail", self.endpoint, "--ndjson").stdout.splitlines()
        self.assertEqual([json.loads(line)["number"] for line in lines], [one["number"] for one in found])
        self.assertIn("pointed", self.service.run("trail", self.endpoint).stdout)
        with psycopg.connect(self.service.database(), autocommit=True) as connection:
            for statement in (b"UPDATE trail SET token = 'nobody'", b"DELETE FROM trail", b"TRUNCATE trail"):
                with self.assertRaisesRegex(psycopg.DatabaseError, "the trail is only ever added to"):
                    connection.execute(statement)
            connection.execute(b"SET ROLE lamppost_service")
            for statement in (
                b"UPDATE trail SET token = ''",
                b"ALTER TABLE trail DISABLE TRIGGER ALL",
                b"DROP TABLE trail",
                b"INSERT INTO trail (token, action, subject) VALUES ('a', 'b', 'c')",
            ):
                with self.assertRaises(psycopg.errors.InsufficientPrivilege):
                    connection.execute(statement)


class Declaring(WithVersions):
    def test_endpoints_are_declared_compared_carried_out_and_then_nothing_is_left_to_do(self) -> None:
        self.client.point(self.endpoint, "times@1")
        file = self.service.folder / "town.toml"
        self.assertEqual(self.service.run("declare", "--to", str(file)).returncode, 0)
        self.assertIn("Every endpoint serves this already", self.service.run("declare", str(file)).stdout)
        other = f"{self.endpoint[:30]}-b"
        text = f'[endpoints.{self.endpoint}]\napprovals = 1\nversion = "times@1"\n[endpoints.{self.endpoint}.lane]\nmax_rows = 7\n'
        text += f'[endpoints.{other}.shares.of]\n"times@1" = 60\n"times@2" = 40\n'
        file.write_text(text)
        planned = self.service.run("declare", str(file)).stdout
        self.assertIn(f"{other} is new", planned)
        self.assertIn(f"{self.endpoint}  lane.max_rows: – → 7", planned)
        against = planned.split("--against ")[1].split()[0]
        before = self.page()["revision"]
        self.client.set_up(self.endpoint, {"version": "times@2"})
        late = self.service.run("declare", str(file), "--carry-out", "--against", against)
        self.assertEqual(late.returncode, 1)
        self.assertIn("the differences were shown against", late.stderr)
        self.assertEqual(self.page()["revision"], before + 1, "nothing half-done")
        done = self.service.run("declare", str(file), "--carry-out")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("changed 2 endpoints", done.stdout)
        self.assertEqual((self.page()["approvals"], self.y()), (1, 1.0))
        again = self.service.run("declare", str(file), "--carry-out")
        self.assertIn("Every endpoint serves this already", again.stdout)
        self.assertEqual(self.page()["revision"], before + 2)
        self.endpoint = other
        self.assertEqual({self.y() for _ in range(8)}, {1.0, 2.0})

    def test_all_or_nothing(self) -> None:
        self.client.point(self.endpoint, "times@1")
        file = self.service.folder / "broken.toml"
        for text, summary in (
            (f'[endpoints.{self.endpoint}]\nversion = "times@2"\n[endpoints.zz]\nversion = "times@99"\n', "there is no times@99"),
            (f'[endpoints.{self.endpoint}]\nversion = "times@2"\n[endpoints.zz.shares.of]\n"times@1" = 10\n', "add up to 10 %"),
            (f'[endpoints.{self.endpoint}]\nversion = "times@2"\nshares = {{of = {{"times@1" = 100}}}}\n', "say exactly one"),
            ('[endpoint.x]\nversion = "times@1"\n', r"\[endpoints.NAME\]"),
            (f'[endpoints.{self.endpoint}]\nversion = "times@2"\napprovals = 12\n', "goes from 0 to 9"),
        ):
            file.write_text(text)
            done = self.service.run("declare", str(file), "--carry-out")
            self.assertEqual(done.returncode, 1, text)
            self.assertRegex(done.stderr, summary)
        self.assertEqual((self.y(), self.page()["revision"]), (1.0, 1))
        with self.assertRaises(LampPostError):
            self.client.fetch("GET", "/api/endpoints/zz")
