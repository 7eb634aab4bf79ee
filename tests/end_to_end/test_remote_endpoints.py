"""Endpoints of other services that take part in an answer: a gateway, the service that it asks, and what goes wrong between them."""

import base64
import shutil
import signal
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import orjson
import pandas as pd
from sklearn.linear_model import LinearRegression, LogisticRegression

import lamppost
from demo.poles import make_photos
from lamppost.core.errors import BadRequest, Conflict, InvalidRows, ModelFault, Unavailable
from lamppost.package.read import read_lamp
from lamppost.packing.build import build_package
from lamppost.packing.recipe import Recipe
from lamppost.packing.splitting import SplitPackage, split_package
from lamppost.store.postgres import PrivateServer
from tests.end_to_end.test_proxies import make_certificate
from tests.end_to_end.test_setups import frame
from tests.support.lamps import made_once, run_folder
from tests.support.other_lamps import photo_lamp
from tests.support.service import Service, free_port, until

TRACE = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01"


def split_photo() -> SplitPackage:
    lamp = read_lamp(photo_lamp())
    files = [run_folder() / f"remote-{half}.lamp" for half in ("first", "second")]
    return split_package(lamp, "pixels", files[0], files[1], ("pole-eye", "pole-net"), frozenset({"skops"}))


def linear_lamp(name: str, high: float) -> Path:
    data, path = frame(len(name), high), run_folder() / f"remote-{name}.lamp"
    model = LogisticRegression().fit(data[["age", "load"]], data["label"])
    build_package(model, data, Recipe(name, "label", fields={"age": {"low": 0, "high": high}}), path)
    return path


def stack_lamp() -> Path:
    def make(path: Path) -> None:
        parts = pd.DataFrame(np.random.default_rng(1).uniform(0, 1, (200, 2)), columns=["n.scores.fails", "s.scores.fails"])
        parts["risk"] = parts.mean(axis=1)
        build_package(LinearRegression().fit(parts.iloc[:, :2], parts["risk"]), parts, Recipe("stack", "risk"), path)

    return made_once("remote-stack.lamp", make)


class RemoteParts(unittest.TestCase):
    """``models`` are two nodes of one service, which the gateway knows by both addresses."""

    gateway: Service
    models: list[Service]

    @classmethod
    def setUpClass(cls) -> None:
        named = tempfile.TemporaryDirectory(dir=run_folder())
        cls.addClassCleanup(named.cleanup)
        folder = Path(named.name)
        folder.chmod(0o755)
        cls.token_file, back = folder / "token", folder / "token-back"
        back.write_text("not yet")
        cls.token_file.write_text("not yet")
        postgres = PrivateServer(folder / "postgres", durable=False)
        cls.addClassCleanup(postgres.stop)
        url, gateway_port, ports = postgres.start(), free_port(), [free_port(), free_port()]
        cls.models = []
        for port in ports:
            to_gateway = f"gateway=grpc://127.0.0.1:{gateway_port}?token={back}"
            node = Service("--database", url, "--grpc-port", str(port), "--remote", to_gateway)
            cls.addClassCleanup(node.remove)
            cls.models.append(node.start(ready=False))
        split = split_photo()
        for lamp, endpoint in ((split.second.path, "pole-net"), (linear_lamp("south", 40.0), "south")):
            cls.models[0].serve(lamp, endpoint)
        with cls.models[0].client() as client:
            cls.token_file.write_text(client.fetch("POST", "/api/tokens", {"name": "gateway", "role": "caller"})["secret"])
        hosts = ",".join(f"127.0.0.1:{port}" for port in ports)
        cls.gateway = Service(
            *("--grpc-port", str(gateway_port), "--remote", f"models=grpc://{hosts}?token={cls.token_file}"),
            *("--remote", f"grpc://127.0.0.1:{ports[0]}", "--remote", f"myself=grpc://127.0.0.1:{gateway_port}?token={back}"),
            *("--remote", f"nobody=grpc://127.0.0.1:{free_port()}"),
        ).start()
        cls.addClassCleanup(cls.gateway.remove)
        back.write_text(cls.gateway.token)
        cls.gateway.serve(photo_lamp(), "pole-photo")
        cls.gateway.serve(linear_lamp("north", 80.0), "north")
        with cls.gateway.client() as client:
            client.push_all([stack_lamp(), split.first.path])
            client.set_up("post", {"together": {"parts": {"eye": "pole-eye@1"}, "combine": "grpc://models/pole-net"}})
            client.set_up("both", cls.both("grpc://models/south"))

    @staticmethod
    def both(south: str) -> dict[str, Any]:
        return {"together": {"parts": {"n": "north@1", "s": south}, "combine": "stack@1"}}

    def state(self, endpoint: str) -> tuple[str, str]:
        try:
            with self.gateway.client() as client:
                found = client.fetch("GET", f"/api/endpoints/{endpoint}")
        except Unavailable as error:  # the node is starting
            return "starting", error.detail
        return found["state"], "; ".join(found["reasons"])

    def assert_alike(self, answers: list[dict[str, Any]], expected: list[dict[str, Any]]) -> None:
        """The same labels, and scores to the last digits, which depend on what is computed together."""
        self.assertEqual([answer["label"] for answer in answers], [answer["label"] for answer in expected])
        for answer, wanted in zip(answers, expected, strict=True):
            for name, score in wanted["scores"].items():
                self.assertAlmostEqual(answer["scores"][name], score, places=12)

    def test_two_halves_answer_as_the_whole_does(self) -> None:
        photos = list(make_photos(40, seed=9)["photo"])
        rows = [{"photo": photo} for photo in photos]
        with self.gateway.client() as client, self.models[0].client() as there:
            whole, split = client.predict("pole-photo", rows), client.predict("post", rows)
            self.assert_alike(split.answers, whole.answers)
            self.assertEqual(split.version, "pole-net@1 (models), pole-eye@1")
            with ThreadPoolExecutor(16) as pool:
                single = list(pool.map(lambda row: client.predict("post", row).answer, rows))
            self.assert_alike(single, whole.answers)
            response = self.gateway.post("/predict/post", orjson.dumps({"photo": photos[0]}, default=base64_text), traceparent=TRACE)
            self.assertEqual(response.status_code, 200, response.text)

            def recorded() -> list[dict[str, Any]]:
                return [call for call in there.fetch("GET", "/api/calls", endpoint="pole-net", limit=200) if call["rows"]]

            calls = until(lambda: (found := recorded()) and sum(call["rows"] for call in found) >= 81 and found, what="records there")
            traced = [there.fetch("GET", f"/api/calls/{call['request_id']}") for call in calls]
            self.assertIn(TRACE.split("-")[1], [call.get("trace") for call in traced])
            record = until(lambda: client.fetch("GET", "/api/calls", endpoint="post") or None, what="the record here")[0]
            self.assertEqual(record["version"], "pole-net@1 (models), pole-eye@1")

    def test_a_remote_part_is_combined_here(self) -> None:
        row = {"age": 20.0, "load": 0.5}
        with self.gateway.client() as client, self.models[0].client() as there:
            risk = client.predict("both", row).answer["risk"]
            expected = (client.predict("north", row).answer["scores"]["fails"] + there.predict("south", row).answer["scores"]["fails"]) / 2
            self.assertAlmostEqual(risk, expected, places=6)
            with self.assertRaisesRegex(InvalidRows, "row 0, age: given 70, expected a number from 0 to 40"):
                client.predict("both", {"age": 70, "load": 0.5})
            page = client.fetch("GET", "/api/endpoints/both")
            self.assertEqual((page["versions"], page["summary"]), (["stack@1", "north@1"], "stack@1 over north@1, grpc://models/south"))
            shown = self.gateway.run("setup", "both").stdout
            self.assertIn('s = "grpc://models/south"', shown)
            self.assertNotIn("described", shown)
            document = client.fetch("GET", "/openapi.json")
            self.assertEqual(document["components"]["schemas"]["BothRow"]["properties"]["age"]["maximum"], 40)

    def test_a_file_is_scored_with_a_remote_part(self) -> None:
        rows = [{"age": float(at % 40), "load": at / 3_000} for at in range(3_000)]
        source, target = self.gateway.folder / "rows.csv", self.gateway.folder / "scored.csv"
        pd.DataFrame(rows).to_csv(source, index=False)
        done = self.gateway.run("bulk", "start", "both", "--from", str(source), "--to", str(target))
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        scored = pd.read_csv(target)
        with self.gateway.client() as client:
            expected = [answer["risk"] for answer in client.predict("both", rows[:500]).answers]
        self.assertEqual(len(scored), 3_000)
        np.testing.assert_allclose(scored["risk"][:500], expected, atol=1e-9)

    def test_the_gateway_goes_on_while_one_node_is_gone_and_says_so_when_all_are(self) -> None:
        row = {"age": 20.0, "load": 0.5}
        with self.gateway.client() as client:
            self.models[1].kill()
            for _ in range(40):
                client.predict("both", row)
            _, reason = until(lambda: (found := self.state("both"))[0] == "degraded" and found, 30, "the state")
            self.assertIn("models: no answer from 127.0.0.1:", reason)
            self.models[0].kill()
            with self.assertRaisesRegex(Unavailable, "models cannot answer"):
                client.predict("both", row)
            until(lambda: self.state("both")[0] == "down", 30, "the state")
            client.set_up("both", self.both("grpc://models/south") | {"lenient": True})  # what it promised is known
            self.gateway.stop()
            self.gateway.start(ready=False)
            until(lambda: self.state("both")[0] == "down", 60, "the state after a restart")
            for node in self.models:
                node.start(ready=False)
            until(lambda: self.state("both")[0] == "serving", 60, "the state")
            client.predict("both", row)

    def test_what_has_changed_there_is_not_asked_until_it_is_set_up_again(self) -> None:
        wide, narrow = linear_lamp("wide", 60.0), linear_lamp("narrow", 10.0)
        self.models[0].serve(wide, "changing")
        row = {"age": 5.0, "load": 0.5}
        with self.gateway.client() as client, self.models[0].client() as there:
            client.set_up("follows", self.both("grpc://models/changing"))
            client.predict("follows", row)
            there.push(narrow)
            there.point("changing", "narrow@1", break_callers=True)
            _, reason = until(lambda: (found := self.state("follows"))[0] == "down" and found, 30, "the state")
            self.assertIn("it takes age as a number from 0 to 10, and it was a number from 0 to 60", reason)
            with self.assertRaisesRegex(ModelFault, "has changed since this endpoint was set up: it takes age as"):
                client.predict("follows", row)
            client.set_up("follows", self.both("grpc://models/changing"), break_callers=True)
            client.predict("follows", row)
            there.point("changing", "wide@1")  # takes all that narrow takes
            until(lambda: there.predict("changing", {"age": 50.0, "load": 0.5}), what="the wider one")
            time.sleep(4)
            self.assertEqual(self.state("follows")[0], "serving")
            client.predict("follows", row)

    def test_a_circle_is_found_when_it_would_be_closed(self) -> None:
        with self.gateway.client() as client, self.models[0].client() as there:
            client.point("inner", "north@1")
            there.push(stack_lamp())
            there.set_up("outer", {"together": {"parts": {"n": "south@1", "s": "grpc://gateway/inner"}, "combine": "stack@1"}})
            self.assertIn("risk", there.predict("outer", {"age": 20.0, "load": 0.5}).answer)
            with self.assertRaisesRegex(Conflict, "inner would ask itself"):
                client.set_up("inner", self.both("grpc://models/outer"), break_callers=True)
            with self.assertRaisesRegex(Conflict, "inner would ask itself"):
                client.set_up("inner", self.both("grpc://myself/inner"), break_callers=True)
            self.assertEqual(client.predict("inner", {"age": 20.0, "load": 0.5}).version, "north@1")
            there.point("asked", "south@1")
            client.set_up("asking", self.both("grpc://models/asked"))
            wrong = {"together": {"parts": {"n": "south@1", "s": "grpc://gateway/asking"}, "combine": "stack@1"}}
            with self.models[1].client(self.models[0].token) as other, self.assertRaisesRegex(Conflict, "asked would ask itself"):
                other.set_up("asked", wrong, break_callers=True)  # whichever of the two nodes the question comes back to

    def test_slow_answers_and_what_is_not_there(self) -> None:
        with self.gateway.client() as client:
            for part, wrong in (
                ("grpc://modles/south", "this node has no service 'modles'; did you mean models"),
                ("grpc://models/soth", "grpc://models/soth: .*there is no endpoint 'soth'"),
                ("grpc://nobody/south", "nobody cannot answer"),
                (f"{self.gateway.options[5]}/south", "does not let this service in"),
            ):
                with self.subTest(part), self.assertRaisesRegex((Conflict, Unavailable), wrong):
                    client.set_up("never", self.both(part))
            with self.assertRaisesRegex(BadRequest, "all parts are remote"):
                client.set_up("never", {"together": {"parts": {"s": "grpc://models/south"}, "combine": "grpc://models/pole-net"}})
            with self.assertRaisesRegex(Conflict, "takes no answer of a part"):
                client.set_up("never", {"together": {"parts": {"n": "north@1"}, "combine": "grpc://models/pole-net"}})
            for signal_of, status in ((signal.SIGSTOP, 504), (signal.SIGCONT, 200)):
                for node in self.models:
                    assert node.process is not None
                    node.process.send_signal(signal_of)
                began = time.monotonic()
                within = "0.3" if status == 504 else "30"
                said = self.gateway.post("/predict/both", orjson.dumps({"age": 20.0, "load": 0.5}), answer_within=within)
                self.assertEqual(said.status_code, status, said.text)
                if status == 504:
                    self.assertLess(time.monotonic() - began, 1.5)
                    self.assertIn("sooner than grpc://models/south gave it", said.json()["detail"])


class OverTls(unittest.TestCase):
    def test_a_service_is_asked_over_tls_with_its_own_certificates_and_a_new_token(self) -> None:
        models, port = Service(), free_port()
        self.addCleanup(models.remove)
        (certificate, key), (other, _) = (make_certificate(models.folder, name) for name in ("models", "other"))
        models.address = f"https://localhost:{models.port}"
        tls = ("--tls-cert", str(certificate), "--tls-key", str(key))
        models.options = ("--host", "localhost", "--grpc-port", str(port), *tls)
        models.start(ready=False)
        token, row = models.folder / "token", {"age": 20.0, "load": 0.5}
        with lamppost.Client(models.address, models.token, ca=certificate) as there:
            there.point("south", there.push(linear_lamp("south", 40.0)))
            token.write_text("wrong")
            address = f"grpcs://localhost:{port}?token={token}&ca="
            gateway = Service("--remote", f"models={address}{certificate}", "--remote", f"strange={address}{other}").start()
            self.addCleanup(gateway.remove)
            gateway.serve(linear_lamp("north", 80.0), "north")
            with gateway.client() as client:
                client.push(stack_lamp())
                with self.assertRaisesRegex(Unavailable, "models does not let this service in"):
                    client.set_up("both", RemoteParts.both("grpc://models/south"))
                with self.assertRaisesRegex(Unavailable, "strange cannot answer"):
                    client.set_up("both", RemoteParts.both("grpc://strange/south"))
                token.write_text(there.fetch("POST", "/api/tokens", {"name": "gateway", "role": "caller"})["secret"])
                client.set_up("both", RemoteParts.both("grpc://models/south"))
                self.assertIn("risk", client.predict("both", row).answer)

    def test_a_service_that_is_named_wrongly_is_refused_at_the_start(self) -> None:
        service = Service()
        self.addCleanup(shutil.rmtree, service.folder, ignore_errors=True)
        for remote, wrong in (
            ("models=http://a:1", "names no service; write NAME=grpc://HOST:PORT"),
            ("models=grpc://a", "names no service"),
            ("models=grpc://a:1?key=x", "names no service"),
            ("models=grpc://a:1?ca=/etc/passwd", "grpc:// does not use them; write grpcs://"),
            ("models=grpc://a:1?token=/nowhere", "there is no file /nowhere"),
        ):
            with self.subTest(remote):
                done = service.run("up", "--data", str(service.data), "--remote", remote)
                self.assertNotEqual(done.returncode, 0)
                self.assertIn(wrong, " ".join((done.stdout + done.stderr).split()))


def base64_text(data: bytes) -> str:
    return base64.b64encode(data).decode()
