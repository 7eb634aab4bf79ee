"""The service over plain HTTP: what it answers, what it refuses and how, and who may."""

import json
import re
import tempfile
import zipfile
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from uuid import UUID

import httpx

from demo.lamps import make_traffic
from lamppost.core.roles import MAY, ROLES
from lamppost.package.read import read_lamp
from tests.support import http
from tests.support.lamps import moody_lamp, outage_lamp
from tests.support.models import Moody
from tests.support.service import WithService, until

ROW = make_traffic(1, seed=3)[0] | {"voltage_v": 230.5, "maker": "Duskworks", "flicker_per_night": 0.5}


NAMES = {
    "endpoint": "outage-risk",
    "model": "outage-risk",
    "number": 1,
    "name": "no-such-token",
    "sha256": "0" * 64,
    "digest": "0" * 64,
    "act": "pause",
    "review": 999_999,
    "alert": 999_999,
    "figure": "age_years",
    "request_id": UUID(int=7),
    "run": "no-such-run",
    "upload": UUID(int=8),
    "file": UUID(int=9),
    "other": "no-such-load",
}
# every route, the permission that it needs ("nobody" for no token at all, "anybody" for any token), and a body that does no harm
OUTPOST_REPORT = {
    "instance": "one",
    "clock": "2026-05-01T00:00:00Z",
    "software": "0.2.0",
    "address": "http://127.0.0.1:1",
    "served": {},
    "refused": {},
    "records_waiting": 0,
    "payloads_left_out": 0,
    "disk_free_bytes": 0,
}
ROUTES: list[tuple[str, str, Any]] = [
    ("POST /predict/{endpoint}", "predict", ROW),
    ("GET /api/endpoints", "view", None),
    ("GET /api/overview", "view", None),
    ("GET /api/endpoints/{endpoint}", "view", None),
    ("POST /api/endpoints/{endpoint}/point", "point", {"version": "outage-risk@1"}),
    ("PUT /api/endpoints/{endpoint}/setup", "point", {"setup": {"version": "outage-risk@1"}}),
    ("POST /api/endpoints/{endpoint}/rollback", "point", {}),
    ("POST /api/endpoints/{endpoint}/rollout", "point", {"version": "outage-risk@99"}),
    ("GET /api/endpoints/{endpoint}/rollouts", "view", None),
    ("POST /api/endpoints/{endpoint}/rollout/{act}", "point", None),
    ("PUT /api/endpoints/{endpoint}/approvals", "tokens", {"approvals": 0}),
    ("GET /api/declared", "view", None),
    ("POST /api/declared/difference", "view", {"endpoints": {}}),
    ("PUT /api/declared", "point", {"endpoints": {}}),
    ("GET /api/reviews", "view", None),
    ("POST /api/reviews", "push", {"endpoint": "outage-risk", "version": "outage-risk@1", "note": "n"}),
    ("POST /api/reviews/{review}/verdict", "review", {"approves": True, "reason": "r"}),
    ("DELETE /api/reviews/{review}", "push", None),
    ("GET /api/trail", "view", None),
    ("GET /api/trail.ndjson", "view", None),
    ("GET /api/models", "view", None),
    ("PUT /api/models/{model}", "push", {}),
    ("POST /api/models/{model}/versions/{number}/retire", "point", {"undo": True}),
    ("DELETE /api/models/{model}/versions/{number}", "point", None),
    ("DELETE /api/models/{model}", "point", None),
    ("GET /api/models/{model}/versions/{number}/package", "push", None),
    ("GET /api/models/{model}/versions/{number}/export", "push", None),
    ("GET /api/models/{model}/versions/{number}/card", "view", None),
    ("GET /api/endpoints/{endpoint}/callers", "view", None),
    ("DELETE /api/endpoints/{endpoint}", "point", None),
    ("POST /api/endpoints/{endpoint}/restore", "point", None),  # right behind: what was deleted is needed
    ("GET /api/deleted-endpoints", "view", None),
    ("POST /api/endpoints/{endpoint}/explain", "predict", {"row": ROW, "rows": 50}),
    ("POST /api/endpoints/{endpoint}/explain/curve", "predict", {"row": ROW, "field": "age_years", "rows": 5}),
    ("GET /api/endpoints/{endpoint}/explanations", "view", None),
    ("GET /api/bulk", "view", None),
    ("POST /api/bulk", "point", {"questions": [{"of": "outage-risk"}], "source": "nowhere:lamps.csv"}),
    ("POST /api/bulk/check", "point", {"questions": [{"of": "outage-risk"}], "source": "nowhere:lamps.csv"}),
    ("GET /api/bulk/places", "point", None),
    ("GET /api/bulk/{run}", "view", None),
    ("GET /api/bulk/{run}/progress", "view", None),
    ("GET /api/bulk/{run}/events", "view", None),
    ("POST /api/bulk/{run}/stop", "point", None),
    ("POST /api/bulk/{run}/resume", "point", {}),
    ("POST /api/bulk/{run}/repeat", "point", {}),
    ("GET /api/bulk/{run}/output", "point", None),
    ("GET /api/bulk/{run}/rejects", "point", None),
    ("GET /api/bulk/{run}/report", "point", None),
    ("DELETE /api/bulk/{run}", "point", None),
    ("POST /api/uploads", "point", {"file_name": "lamps.csv"}),
    ("PUT /api/uploads/{upload}", "point", None),
    ("GET /api/loads", "view", None),
    ("POST /api/loads", "point", {"plan": {"endpoints": ["nowhere"]}}),
    ("GET /api/loads/rows", "point", None),
    ("GET /api/loads/{name}", "view", None),
    ("GET /api/loads/{name}/against/{other}", "view", None),
    ("PUT /api/loads/{name}/result", "point", {"steps": []}),
    ("DELETE /api/loads/{name}", "point", None),
    ("GET /api/sweeps", "view", None),
    ("POST /api/sweeps", "point", {"plan": {"versions": ["nowhere@1"]}}),
    ("GET /api/sweeps/{name}", "view", None),
    ("GET /api/sweeps/{name}/pick", "view", None),
    ("GET /api/sweeps/{name}/report", "view", None),
    ("POST /api/sweeps/{name}/stop", "point", None),
    ("POST /api/sweeps/{name}/resume", "point", {}),
    ("DELETE /api/sweeps/{name}", "point", None),
    ("GET /api/desks", "view", None),
    ("GET /api/desks/{endpoint}", "view", None),
    ("PUT /api/desks/{endpoint}", "point", {"title": "Lamps"}),
    ("POST /api/desk/{endpoint}/session", "nobody", {}),
    ("GET /api/desk/{endpoint}", "desk", None),
    ("POST /api/desk/{endpoint}/ask", "desk", {"row": ROW}),
    ("POST /api/desk/{endpoint}/why", "desk", {"row": {}}),
    ("POST /api/desk/{endpoint}/files", "desk", {"file_name": "lamps.csv"}),
    ("PUT /api/desk/{endpoint}/files/{file}", "desk", None),
    ("POST /api/desk/{endpoint}/files/{file}/match", "desk", {}),
    ("POST /api/desk/{endpoint}/results", "desk", {"file": str(UUID(int=1))}),
    ("GET /api/desk/{endpoint}/results", "desk", None),
    ("GET /api/desk/{endpoint}/results/{name}", "desk", None),
    ("GET /api/desk/{endpoint}/results/{name}/rows", "desk", None),
    ("GET /api/desk/{endpoint}/results/{name}/file", "desk", None),
    ("DELETE /api/desk/{endpoint}/results/{name}", "desk", None),
    ("DELETE /api/desk/{endpoint}/session", "desk", None),
    ("POST /api/desks/{endpoint}/links", "point", {"for_s": 1}),
    ("DELETE /api/desks/{endpoint}/links/{name}", "point", None),
    ("DELETE /api/desks/{endpoint}", "point", None),
    ("GET /api/schedules", "view", None),
    ("POST /api/schedules/next", "view", {"every": "0 5 * * *"}),
    (
        "PUT /api/schedules/{name}",
        "point",
        {"every": "0 5 1 1 *", "run": {"questions": [{"of": "outage-risk"}], "source": "nowhere:lamps.csv"}},
    ),
    ("GET /api/schedules/{name}/times", "view", None),
    ("POST /api/schedules/{name}/pause", "point", None),
    ("POST /api/schedules/{name}/resume", "point", None),
    ("POST /api/schedules/{name}/run", "point", None),
    ("DELETE /api/schedules/{name}", "point", None),
    ("POST /api/compare/answers", "predict and view", {"before": "outage-risk@1", "after": "outage-risk@1", "proof": True}),
    ("GET /api/calls", "view", None),
    ("GET /api/calls/{request_id}", "view", None),
    ("GET /api/endpoints/{endpoint}/drift", "view", None),
    ("GET /api/endpoints/{endpoint}/drift/{figure}", "view", None),
    ("GET /api/endpoints/{endpoint}/traffic", "view", None),
    ("GET /api/endpoints/{endpoint}/quality", "view", None),
    ("GET /api/endpoints/{endpoint}/report", "view", None),
    ("POST /api/endpoints/{endpoint}/outcomes", "predict", {"outcomes": [{"truth": 1}]}),
    ("POST /api/endpoints/{endpoint}/calls", "point", {}),
    ("PUT /api/endpoints/{endpoint}/mute", "point", {"minutes": 0}),
    ("GET /api/alerts", "view", None),
    ("POST /api/alerts/{alert}/acknowledge", "point", {}),
    ("GET /api/mutes", "view", None),
    ("GET /api/channels", "view", None),
    ("POST /api/channels/{name}", "tokens", {"kind": "mail", "target": "nowhere"}),
    ("DELETE /api/channels/{name}", "tokens", None),
    ("GET /api/notices", "view", None),
    ("GET /metrics", "view", None),
    ("GET /api/lanes", "view", None),
    ("GET /api/versions", "view", None),
    ("GET /api/compare", "view", None),
    ("GET /api/models/{model}/versions/{number}", "view", None),
    ("POST /api/models/{model}/versions/{number}/ask", "predict and view", ROW),
    ("POST /api/packages", "push", None),
    ("POST /api/packages/chunks", "push", {"chunks": ["0" * 64]}),
    ("PUT /api/packages/chunks/{sha256}", "push", None),
    ("POST /api/packages/assembled", "push", {"chunks": ["0" * 64]}),
    ("GET /api/tokens", "tokens", None),
    ("POST /api/tokens", "tokens", {"name": "Not A Name", "role": "caller"}),
    ("POST /api/tokens/{name}/rotate", "tokens", {}),
    ("DELETE /api/tokens/{name}", "tokens", None),
    ("GET /api/backup/about", "tokens", None),
    ("GET /api/backup/database", "tokens", None),
    ("GET /api/logs", "push", None),
    ("GET /api/nodes", "push", None),
    ("GET /api/session", "anybody", None),
    ("POST /api/session", "nobody", {}),
    ("POST /api/session/link", "anybody", None),
    ("DELETE /api/session", "anybody", None),
    ("GET /api/node", "view", None),
    ("GET /api/records/set-aside", "view", None),
    ("POST /api/records/set-aside/retry", "point", None),
    ("GET /health/live", "nobody", None),
    ("GET /health/ready", "nobody", None),
    ("GET /api/outposts", "view", None),
    ("POST /api/outposts", "tokens", {"name": "Not A Name"}),
    ("GET /api/outposts/{name}", "view", None),
    ("GET /api/outposts/{name}/drift", "view", None),
    ("PUT /api/outposts/{name}/labels", "point", {"labels": []}),
    ("POST /api/outposts/{name}/bar", "tokens", None),
    ("PUT /api/endpoints/{endpoint}/outposts", "point", {"at": "nowhere", "version": "nothing@1"}),
    ("POST /api/endpoints/{endpoint}/outposts/rollout", "point", {"at": "nowhere", "version": "nothing@1"}),
    ("POST /api/endpoints/{endpoint}/outposts/rollout/{act}", "point", None),
    ("GET /api/outpost-rollouts", "view", None),
    ("POST /api/outposts/{name}/report", "outpost", OUTPOST_REPORT),
    ("GET /api/outposts/{name}/packages/{digest}/chunks", "outpost", None),
    ("GET /api/outposts/{name}/packages/{digest}/chunks/{sha256}", "outpost", None),
    ("POST /api/outposts/{name}/records", "outpost", {}),
    ("POST /api/outposts/{name}/outcomes", "outpost", {}),
]


class Asking(WithService):
    def ask(self, body: Any, **headers: str) -> httpx.Response:
        return self.service.post("/predict/outage-risk", json.dumps(body) if isinstance(body, dict) else body, **headers)

    def problem(self, response: httpx.Response, status: int, code: str) -> dict[str, Any]:
        self.assertEqual((response.status_code, response.headers["content-type"]), (status, "application/problem+json"), response.text)
        said: dict[str, Any] = response.json()
        self.assertEqual((said["type"], said["status"]), (f"urn:lamppost:{code}", status))
        self.assertTrue(said["title"] and said["detail"])
        return said


class Answering(Asking):
    def test_one_row_gets_label_scores_version_and_request_id(self) -> None:
        response = self.ask(ROW)
        said = response.json()
        self.assertEqual((response.status_code, said["version"]), (200, "outage-risk@1"))
        self.assertEqual(set(said["answer"]["scores"]), {"holds", "fails"})
        self.assertAlmostEqual(sum(said["answer"]["scores"].values()), 1.0)
        self.assertEqual(said["answer"]["label"], max(said["answer"]["scores"], key=said["answer"]["scores"].get))
        self.assertEqual(UUID(said["request_id"]).version, 7)
        self.assertEqual(response.headers["request-id"], said["request_id"])
        phases = [part.split(";")[0] for part in response.headers["server-timing"].split(", ")]
        self.assertEqual(phases, ["token", "read", "validate", "queue", "worker", "answer", "total"])

    def test_the_served_answers_are_those_of_training(self) -> None:
        proof = read_lamp(outage_lamp()).proof
        answers = self.ask({"rows": proof.rows}).json()["answers"]
        self.assertEqual([a["label"] for a in answers], [a["label"] for a in proof.answers])
        for served, trained in zip(answers, proof.answers, strict=True):
            self.assertAlmostEqual(served["scores"]["fails"], trained["scores"]["fails"], places=12)

    def test_concurrent_callers_each_get_their_own_answer(self) -> None:
        rows = make_traffic(120, seed=9)
        together = self.ask({"rows": rows}).json()["answers"]
        with ThreadPoolExecutor(24) as pool, self.service.client() as client:
            alone = list(pool.map(lambda row: client.predict("outage-risk", row).answer, rows))
        self.assertEqual([a["label"] for a in alone], [a["label"] for a in together])
        for one, other in zip(alone, together, strict=True):
            self.assertAlmostEqual(one["scores"]["fails"], other["scores"]["fails"], places=12)

    def test_a_choice_never_seen_is_accepted_or_refused_as_the_schema_says(self) -> None:
        self.assertEqual(self.ask(ROW | {"maker": "Somebody New"}).status_code, 200)
        said = self.problem(self.ask(ROW | {"district": "harbor"}), 422, "invalid-rows")
        self.assertEqual(said["faults"][0]["hint"], "did you mean harbour?")

    def test_calls_are_recorded_with_input_answer_and_phases(self) -> None:
        said = self.ask(ROW).json()
        refused = self.ask(b'{"age_years": NaN}').json()

        def recorded() -> dict[str, Any] | None:
            found = http.get(
                self.service.address + "/api/calls?endpoint=outage-risk&limit=50", headers={"authorization": f"Bearer {self.service.token}"}
            ).json()
            calls = {call["request_id"]: call for call in found}
            return calls if said["request_id"] in calls and refused["request_id"] in calls else None

        calls = until(recorded, 60, "the records")
        call = calls[said["request_id"]]
        self.assertEqual(
            (call["status"], call["rows"], call["version"], call["token"], call["input"]), (200, 1, "outage-risk@1", "admin", ROW)
        )
        self.assertEqual(call["answer"]["answer"], said["answer"])
        self.assertLessEqual({"token", "read", "validate", "queue", "worker", "answer"}, call["phases_us"].keys())
        self.assertEqual(calls[refused["request_id"]]["input"], '{"age_years": NaN}')
        self.assertEqual(calls[refused["request_id"]]["status"], 422)
        hour = http.get(
            self.service.address + "/api/endpoints/outage-risk", headers={"authorization": f"Bearer {self.service.token}"}
        ).json()["last_hour"]
        self.assertGreaterEqual(hour["calls"], 2)
        self.assertGreater(hour["p99_ms"], 0)


class Refusing(Asking):
    def test_bodies_that_cannot_be_read(self) -> None:
        for body in (b'{"age_years": 1,', b"", b"[]", b"\xff\x00"):
            problem = self.problem(self.ask(body), 400, "bad-json")
            self.assertEqual(self.ask(problem["example"]).status_code, 200, "the example in a problem is valid")

    def test_values_that_break_the_schema(self) -> None:
        text = json.dumps(ROW)
        for body, field, given in (
            (ROW | {"age_years": "12"}, "age_years", '"12"'),
            (text.replace("230.5", "NaN"), "voltage_v", "NaN"),
            (text.replace("230.5", "1e400"), "voltage_v", "Infinity"),
            (ROW | {"nights_since_visit": 2**63}, "nights_since_visit", str(2**63)),
            ({k: v for k, v in ROW.items() if k != "height_m"}, "height_m", "nothing"),
            (ROW | {"heigth_m": 5}, "heigth_m", "5"),
            (ROW | {"under_trees": 1}, "under_trees", "1"),
            (ROW | {"age_years": -1}, "age_years", "-1"),
        ):
            said = self.problem(self.ask(body), 422, "invalid-rows")
            self.assertEqual([(f["row"], f["field"], f["given"]) for f in said["faults"]], [(0, field, given)])
            self.assertTrue(said["faults"][0]["expected"])
        self.problem(self.ask({"rows": []}), 422, "invalid-rows")

    def test_content_type_size_and_count(self) -> None:
        self.problem(self.ask("district=harbour", content_type="application/x-www-form-urlencoded"), 415, "wrong-content-type")
        self.assertEqual(self.ask(ROW, content_type="application/json; charset=utf-8").status_code, 200)
        large = b'{"x": "' + b"a" * (10 * 2**20) + b'"}'
        self.problem(self.ask(large), 413, "body-too-large")
        self.problem(self.ask(iter([large[: 2**20]] * 11)), 413, "body-too-large")
        self.problem(self.ask({"rows": [{}] * 10_001}), 413, "too-many-rows")

    def test_names_and_methods(self) -> None:
        self.problem(self.service.post("/predict/outage-rsk", "{}"), 404, "not-found")
        response = http.get(self.service.address + "/predict/outage-risk")
        self.assertEqual((response.status_code, response.headers["allow"]), (405, "OPTIONS, POST"))
        self.problem(self.service.post("/api/nothing", "{}"), 404, "not-found")
        self.problem(self.service.post("/api/endpoints/outage-risk/point", '{"version": "outage-risk"}'), 400, "bad-request")
        self.problem(self.service.post("/api/endpoints/outage-risk/point", '{"version": "outage-risk@9"}'), 404, "not-found")
        self.problem(self.service.post("/api/endpoints/Bad Name/point", '{"version": "outage-risk@1"}'), 400, "bad-request")
        self.problem(self.service.post("/api/endpoints/outage-risk/point", '{"versio": 1}'), 422, "bad-request")

    def test_after_all_that_it_still_answers(self) -> None:
        with ThreadPoolExecutor(8) as pool:
            list(pool.map(lambda n: self.ask([b"{", b'{"rows": 1}', json.dumps(ROW)][n % 3]), range(60)))
        self.assertEqual(self.ask(ROW).status_code, 200)


class Packages(Asking):
    def versions(self) -> list[str]:
        with self.service.client() as client:
            return [version["name"] for version in client.fetch("GET", "/api/versions")]

    def test_broken_lamp_files_are_refused_and_nothing_is_stored(self) -> None:
        before = self.versions()
        good = outage_lamp().read_bytes()
        with tempfile.TemporaryDirectory() as folder:
            bad = Path(folder) / "bad.lamp"
            with zipfile.ZipFile(bad, "w") as archive:
                archive.writestr("../evil", "x")
            for content in (b"no zip", b"", good[:-200], good[: len(good) // 2], bad.read_bytes()):
                said = self.problem(self.service.post("/api/packages", content, content_type="application/zip"), 422, "package-refused")
                self.assertNotIn("\n", said["detail"])
                self.assertNotIn("/tmp", said["detail"])
        self.assertEqual(self.versions(), before)
        self.assertEqual(list((self.service.data / "incoming").iterdir()), [])

    def test_a_pickle_is_refused_unless_the_server_allows_it(self) -> None:
        content = moody_lamp("moody", Moody()).read_bytes()
        said = self.problem(self.service.post("/api/packages", content, content_type="application/zip"), 422, "package-refused")
        self.assertIn("--allow-pickle", said["detail"])

    def test_from_push_to_the_first_answer_and_the_same_package_again(self) -> None:
        with self.service.client() as client:
            first = client.push(outage_lamp(), "second-model")
            pointed = client.point("second", first["version"])
            client.predict("second", ROW)
            again = client.push(outage_lamp(), "second-model")
            self.assertEqual(
                (first["version"], first["new"], again["version"], again["new"]), ("second-model@1", True, "second-model@1", False)
            )
            self.assertEqual(pointed["summary"], "second is serving second-model@1; it is a new endpoint.")
            moved = client.point("second", "outage-risk@1")
            self.assertEqual((moved["before"], moved["undo"]), ("second-model@1", "lamppost rollback second"))
            self.assertEqual(client.predict("second", ROW).version, "outage-risk@1")


class WhoMay(Asking):
    own_service = True

    def test_no_token_no_answer_except_health(self) -> None:
        for path in ("/health/live", "/health/ready"):
            self.assertEqual(http.get(self.service.address + path).status_code, 200)
        for method, path in (("POST", "/predict/outage-risk"), ("GET", "/api/endpoints"), ("POST", "/api/packages"), ("GET", "/api/calls")):
            for headers in ({}, {"authorization": "Bearer lamp_wrong"}, {"authorization": "Basic abc"}, {"cookie": "lamppost_session=x"}):
                response = http.request(method, self.service.address + path, headers=headers)
                self.problem(response, 401, "not-signed-in")
                self.assertEqual(response.headers["www-authenticate"], "Bearer")

    def test_each_role_may_what_the_table_says_on_every_route(self) -> None:
        document = http.get(f"{self.service.address}/openapi.json").json()
        routes = {f"{method.upper()} {path}" for path, methods in document["paths"].items() for method in methods}
        self.assertEqual(routes, {route for route, _, _ in ROUTES if "/predict/" not in route}, "every route stands in the table")
        with self.service.client() as admin:
            for role in ROLES:
                if role == "desk":  # the token of a desk is its link
                    secret = admin.fetch("POST", "/api/desks/outage-risk/links", {"name": "role-desk"})["link"].partition("#link=")[2]
                elif role == "outpost":
                    secret = admin.fetch("POST", "/api/outposts", {"name": "role-outpost"})["secret"]
                else:
                    secret = admin.fetch("POST", "/api/tokens", {"name": f"role-{role}", "role": role})["secret"]
                for route, permission, body in ROUTES:
                    method, path = route.split(" ")
                    address = self.service.address + path.format(**NAMES)
                    headers = {"authorization": f"Bearer {secret}"}
                    response = http.request(method, address, json=body, headers=headers, timeout=30)
                    with self.subTest(role=role, route=route):
                        if permission in ("nobody", "anybody") or set(permission.split(" and ")) <= MAY[role]:
                            self.assertNotIn(response.status_code, (401, 403, 500))
                        else:
                            self.assertIn(f"role {role}", self.problem(response, 403, "not-allowed")["detail"])
        for route, permission, body in ROUTES:
            method, path = route.split(" ")
            response = http.request(method, self.service.address + path.format(**NAMES), json=body)
            with self.subTest(route=route, role="no token"):
                self.assertEqual(response.status_code == 401, permission != "nobody", response.text)

    def test_a_token_may_expire_and_has_its_own_pace(self) -> None:
        soon = (datetime.now(UTC) + timedelta(seconds=1.5)).isoformat()
        with self.service.client() as admin:
            made = admin.fetch("POST", "/api/tokens", {"name": "short", "role": "caller", "expires_at": soon})
            short = {"authorization": f"Bearer {made['secret']}"}
            self.assertEqual(self.ask(ROW, **short).status_code, 200)
            slow = admin.fetch("POST", "/api/tokens", {"name": "slow", "role": "caller", "rate_per_s": 2})["secret"]
            with ThreadPoolExecutor(12) as pool:
                answers = list(pool.map(lambda _: self.ask(ROW, authorization=f"Bearer {slow}"), range(12)))
            refused = [answer for answer in answers if answer.status_code == 429]
            self.assertGreaterEqual(len(refused), 2)
            said = self.problem(refused[0], 429, "too-often")
            self.assertEqual((refused[0].headers["retry-after"], "2 times a second" in said["detail"]), ("1", True))
            until(lambda: self.ask(ROW, authorization=f"Bearer {slow}").status_code == 200, what="the bucket filling")
            expired = until(lambda: answer if (answer := self.ask(ROW, **short)).status_code == 401 else None, what="the expiry")
            self.assertIn("expired at", self.problem(expired, 401, "not-signed-in")["detail"])
            for wrong in ({"expires_at": "2020-01-01T00:00:00Z"}, {"expires_at": "2999-01-01T00:00:00"}, {"rate_per_s": 0}):
                refused = http.post(
                    f"{self.service.address}/api/tokens",
                    json={"name": "wrong", "role": "caller", **wrong},
                    headers={"authorization": f"Bearer {self.service.token}"},
                )
                self.assertIn(refused.status_code, (400, 422), wrong)

            def used() -> bool:
                found = {token["name"]: token for token in admin.fetch("GET", "/api/tokens")}
                return found["slow"]["last_used_at"] is not None and found["slow"]["rate_per_s"] == 2

            until(used, 25, "last used")

    def test_a_caller_is_kept_to_its_endpoints_until_it_is_revoked(self) -> None:
        with self.service.client() as admin:
            made = admin.fetch("POST", "/api/tokens", {"name": "billing", "role": "caller", "endpoints": ["evening-load"]})
            self.problem(self.ask(ROW, authorization=f"Bearer {made['secret']}"), 403, "not-allowed")
            made = admin.fetch("POST", "/api/tokens", {"name": "lighting", "role": "caller", "endpoints": ["outage-risk"]})
            self.assertEqual(self.ask(ROW, authorization=f"Bearer {made['secret']}").status_code, 200)
            admin.fetch("DELETE", "/api/tokens/lighting")
            self.problem(self.ask(ROW, authorization=f"Bearer {made['secret']}"), 401, "not-signed-in")
            self.assertNotIn("secret", str(admin.fetch("GET", "/api/tokens")))

    def test_a_browser_session_is_a_strict_cookie_that_foreign_pages_cannot_use(self) -> None:
        with http.client(base_url=self.service.address) as browser:
            self.assertEqual(browser.post("/api/session", json={"token": "lamp_wrong"}).status_code, 401)
            response = browser.post("/api/session", json={"token": self.service.token})
            cookie = response.headers["set-cookie"].lower()
            self.assertTrue("httponly" in cookie and "samesite=strict" in cookie and self.service.token.lower() not in cookie)
            self.assertEqual(
                browser.get("/api/session").json(),
                {"token": "admin", "role": "admin", "may": ["desk", "point", "predict", "push", "review", "tokens", "view"]},
            )
            self.assertEqual(browser.post("/predict/outage-risk", json=ROW, headers={"origin": self.service.address}).status_code, 200)
            foreign = browser.post("/predict/outage-risk", json=ROW, headers={"origin": "http://127.0.0.1:1"})
            self.problem(foreign, 403, "not-allowed")
            link = browser.post("/api/session/link").json()["link"].partition("#link=")[2]
            self.assertEqual(browser.delete("/api/session").status_code, 204)
            self.assertEqual(browser.get("/api/session").status_code, 401)
            self.assertEqual(
                [http.post(self.service.address + "/api/session", json={"link": link}).status_code for _ in range(2)], [200, 401]
            )


class Documents(Asking):
    def test_the_api_describes_itself_and_the_console_loads_nothing_from_elsewhere(self) -> None:
        openapi = http.get(self.service.address + "/openapi.json").json()
        self.assertEqual(openapi["openapi"][:3], "3.1")
        page = http.get(self.service.address + "/endpoints/outage-risk")
        self.assertEqual((page.status_code, page.headers["content-type"]), (200, "text/html; charset=utf-8"))
        self.assertIn("default-src 'self'", page.headers["content-security-policy"])
        self.assertEqual(http.get(self.service.address + "/assets/none.js").status_code, 404)
        (script,) = re.findall(r'src="\.(/assets/index-[^"]+\.js)"', page.text)
        for encoding in ("gzip", "identity"):
            answer = http.get(self.service.address + script, headers={"accept-encoding": encoding})
            self.assertEqual(answer.headers.get("content-encoding"), "gzip" if encoding == "gzip" else None)
            self.assertIn("immutable", answer.headers["cache-control"])
            self.assertIn("javascript", answer.headers["content-type"])
            self.assertGreater(len(answer.content), 100_000)
        schema = http.get(
            self.service.address + "/api/endpoints/outage-risk", headers={"authorization": f"Bearer {self.service.token}"}
        ).json()["json_schema"]
        self.assertEqual(schema["$schema"], "https://json-schema.org/draft/2020-12/schema")
        self.assertEqual(schema["properties"]["district"]["enum"][0], "harbour")
