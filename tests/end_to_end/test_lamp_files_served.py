"""``lamppost serve``: lamp files behind addresses without a database; a folder is followed."""

import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from typing import Any

import lamppost
from lamppost.core import errors
from tests.support import http
from tests.support.lamps import outage_lamp, run_folder
from tests.support.service import free_port, take_interrupts, until
from tests.support.versions import times_lamp


class Serving:
    """A running ``lamppost serve``."""

    def __init__(self, *words: str, token: str | None = "a-secret-of-callers") -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="serve-", dir=run_folder()))
        self.port = free_port()
        self.address = f"http://127.0.0.1:{self.port}"
        self.log = self.folder / "log"
        options = ["--no-token"]
        if token is not None:
            (self.folder / "token").write_text(token)
            options = ["--token-file", str(self.folder / "token")]
        command = [sys.executable, "-m", "lamppost", "serve", *words, "--port", str(self.port), *options]
        with self.log.open("wb") as log:
            self.process = subprocess.Popen(command, stdout=log, stderr=log, preexec_fn=take_interrupts)
        self.token = token

    def ready(self) -> bool:
        if self.process.poll() is not None:
            raise AssertionError(self.log.read_text())
        try:
            return http.get(f"{self.address}/health/ready").status_code == 200
        except Exception:
            return False

    def served(self) -> dict[str, dict[str, Any]]:
        answer = http.get(f"{self.address}/api/endpoints", headers={"authorization": f"Bearer {self.token}"} if self.token else {})
        return {endpoint["name"]: endpoint for endpoint in answer.json()}

    def end(self) -> int:
        self.process.terminate()
        return self.process.wait(30)


class LampFilesServed(unittest.TestCase):
    def serve(self, *words: str, token: str | None = "a-secret-of-callers") -> Serving:
        serving = Serving(*words, token=token)
        self.addCleanup(shutil.rmtree, serving.folder, True)
        self.addCleanup(serving.end)
        until(serving.ready, what="the service")
        return serving

    def folder(self) -> Path:
        folder = Path(tempfile.mkdtemp(prefix="lamps-", dir=run_folder()))
        self.addCleanup(shutil.rmtree, folder, True)
        return folder

    def test_files_answer_as_at_any_other_service(self) -> None:
        serving = self.serve(str(outage_lamp()), f"doubled={times_lamp(2)}")
        self.assertEqual(
            {name: one["version"] for name, one in serving.served().items()}, {"outage-risk": "outage-risk@1", "doubled": "times@1"}
        )
        with lamppost.Client(serving.address, serving.token) as client:
            self.assertEqual(client.predict("doubled", {"x": 21}).answers, [{"y": 42.0}])
            example = client.fetch("GET", "/api/endpoints/outage-risk")["example"]
            self.assertIn(client.predict("outage-risk", example).answers[0]["label"], ("holds", "fails"))
            with self.assertRaises(errors.InvalidRows):
                client.predict("doubled", {"x": "much"})
            many = client.predict("doubled", [{"x": at} for at in range(2_000)])
            self.assertEqual([answer["y"] for answer in many.answers], [2.0 * at for at in range(2_000)])
        self.assertEqual(http.post(f"{serving.address}/predict/doubled", json={"x": 1}).status_code, 401)
        refused = 'lamppost_calls_total{endpoint="doubled",status="422",version="times@1"} 1.0'
        allowed = {"authorization": f"Bearer {serving.token}"}
        until(lambda: refused in http.get(f"{serving.address}/metrics", headers=allowed).text, what="the count of the refusal")
        paths = http.get(f"{serving.address}/openapi.json", headers={"authorization": f"Bearer {serving.token}"}).json()["paths"]
        self.assertIn("/predict/doubled", paths)
        self.assertNotIn("/api/calls", paths)
        self.assertEqual(serving.end(), 0)

    def test_a_folder_is_followed_without_a_lost_call(self) -> None:
        folder = self.folder()
        shutil.copy(times_lamp(2), folder / "times.lamp")
        serving = self.serve(str(folder))
        answered: list[float] = []
        with lamppost.Client(serving.address, serving.token, repeats=0) as client:

            def ask() -> float:
                answered.append(round(client.predict("times", {"x": 10}).answers[0]["y"], 6))
                return answered[-1]

            self.assertEqual(ask(), 20)
            shutil.copy(times_lamp(3), folder / "times.part")
            (folder / "times.part").rename(folder / "times.lamp")
            until(lambda: ask() == 30, what="the other file")
            self.assertEqual(serving.served()["times"]["version"], "times@2")
            whole = times_lamp(4).read_bytes()
            (folder / "times.lamp").write_bytes(whole[: len(whole) // 2])
            until(lambda: "times goes on with what it serves" in serving.log.read_text(), what="the refusal of half a file")
            self.assertEqual(ask(), 30)
            (folder / "times.lamp").write_bytes(whole)
            until(lambda: ask() == 40, what="the whole file")
            shutil.copy(outage_lamp(), folder / "outage.lamp")
            until(lambda: "outage-risk" in serving.served(), what="a new file")
            (folder / "outage.lamp").unlink()
            until(lambda: "outage-risk" not in serving.served(), what="the end of its endpoint")
            self.assertEqual(ask(), 40)
        self.assertEqual([one for at, one in enumerate(answered) if at and one != answered[at - 1]], [30, 40])

    def test_a_file_that_another_serves_already_and_files_that_cannot_be_served(self) -> None:
        folder = self.folder()
        shutil.copy(times_lamp(2), folder / "a.lamp")
        shutil.copy(times_lamp(3), folder / "b.lamp")
        serving = self.serve(str(folder))
        self.assertIn("are both of times", serving.log.read_text())
        self.assertEqual(set(serving.served()), {"times"})
        damaged = folder / "damaged.lamp"
        damaged.write_bytes(b"no lamp")
        for words, said in (
            ((str(damaged),), "damaged.lamp is no lamp file"),
            ((str(folder / "nothing.lamp"),), "nothing.lamp is not there"),
            ((f"No Name={times_lamp(2)}",), "No Name"),
            ((str(times_lamp(2)), "--no-token", "--host", "0.0.0.0"), "--no-token lets everybody ask"),
        ):
            with self.subTest(said):
                command = [sys.executable, "-m", "lamppost", "serve", "--port", str(free_port()), *words]
                done = subprocess.run(command, capture_output=True, text=True, timeout=60)
                self.assertEqual(done.returncode, 1, done.stderr)
                self.assertIn(said, " ".join((done.stdout + done.stderr).split()))
                self.assertNotIn("Traceback", done.stderr)

    def test_without_a_token_this_machine_may_ask_and_no_page_of_another_origin(self) -> None:
        serving = self.serve(str(times_lamp(2)), token=None)
        url = f"{serving.address}/predict/times"
        self.assertEqual(http.post(url, json={"x": 2}).json()["answer"], {"y": 4.0})
        for headers in ({"origin": "https://lamps.example"}, {"host": "lamps.example"}):
            self.assertIn(http.post(url, json={"x": 2}, headers=headers).status_code, (403, 421), headers)
        self.assertEqual(http.post(url, json={"x": 2}, headers={"authorization": "Bearer guessed"}).status_code, 401)

    def test_what_is_killed_leaves_no_process(self) -> None:
        serving = self.serve(str(times_lamp(2)))
        serving.process.kill()
        serving.process.wait()
        time.sleep(0.5)
        until(lambda: not self.processes_of(serving), 10, "the end of its processes")

    @staticmethod
    def processes_of(serving: Serving) -> list[str]:
        found = []
        for entry in Path("/proc").iterdir():
            try:
                environment = (entry / "cmdline").read_bytes().decode(errors="replace")
            except OSError:
                continue
            if f"--port\0{serving.port}\0" in environment:
                found.append(environment)
        return found
