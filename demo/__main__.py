"""``make demo``: the service with the town of Tallowby in it, real predictions made, and a link that signs a browser in.

Ctrl-C ends all of it, PostgreSQL included.
"""

from __future__ import annotations

import argparse
import os
import signal
import socket
import subprocess
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import lamppost
from demo import feeders, notes, poles, register
from demo.desk import open_desk
from demo.lamps import FIELDS, as_sent, make_traffic
from demo.mailbox import Mailbox
from demo.nights import score_nights, write_lamps_to_check
from demo.outposts import Outposts
from demo.train import pack_refit, train_outage_risk
from demo.versions import roll_out_all
from demo.weeks import WINDOWS, play, set_window
from lamppost.client.config import find_connection
from lamppost.core.errors import LampPostError, ProofFailed
from lamppost.package.read import read_lamp

ENDPOINT = "outage-risk"
BY_NUMBER = "outage-by-number"
FILES = "files"
TO_CHECK = "lamps-to-check.csv"
LOAD, NOTE, PHOTO = "evening-load", "fault-note", "pole-photo"
PACKER = "lighting-department"
TAGS = {"owner": "lighting-department", "town": "Tallowby"}
Trained = tuple[Any, Any, dict[str, float], list[bool]]
_START_S = 90.0
_JUDGE_S = 45.0
NOTES = "Will this lamp fail within 30 days? A forest on 19,200 of Tallowby's lamps; 4,800 were held out for the metrics."


def main() -> int:
    """Run the demo until it is interrupted."""
    parser = argparse.ArgumentParser(prog="python -m demo", description="Start Lamp Post with the town of Tallowby in it.")
    parser.add_argument("--port", type=int, default=8420, help="port to listen on (default: 8420)")
    parser.add_argument("--data", type=Path, default=Path(".lamppost/demo"), help="folder to keep everything in (default: .lamppost/demo)")
    parser.add_argument("--no-weeks", action="store_true", help="leave out the weeks of simulated traffic")
    parser.add_argument("--calls", type=int, default=300, help="predictions to make (default: 300)")
    given = parser.parse_args()
    if not _is_free(given.port):
        print(f"✗ port {given.port} is taken; choose another: make demo PORT={given.port + 1}", file=sys.stderr)
        return 1
    address = f"http://127.0.0.1:{given.port}"
    town = register.Register(given.data)
    os.environ["TOWN"] = town.start()
    mails = Mailbox(_free_port(), given.data / "mails")
    mails.start()
    command = [*up(given.data, given.port), "--smtp", f"127.0.0.1:{mails.port}"]
    outposts = Outposts(given.data, given.port)
    service = subprocess.Popen(command, stdout=subprocess.DEVNULL, start_new_session=True)
    signal.signal(signal.SIGTERM, signal.default_int_handler)
    try:
        if not _wait(service, address):
            return 1
        fill(address, given.data, given.calls, given.data / FILES, weeks=not given.no_weeks)
        with lamppost.Client(address) as client:
            compare_with_view(client, town, given.data)
            outposts.start(client, serving_version(client))
        _greet(address, given.data)
        outposts.mend_later()
        return service.wait()
    except LampPostError as error:
        print(f"✗ {error.detail}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        print("\nputting the lamps out …", flush=True)
        return 0
    finally:
        outposts.stop()
        _end(service)
        mails.stop()
        town.stop()


def up(data: Path, port: int) -> list[str]:
    """The command that starts the demo's service; the register's URL stands in the variable TOWN."""
    command = [sys.executable, "-m", "lamppost", "up", "--data", str(data), "--port", str(port), "--allow-code"]
    files = data / FILES
    files.mkdir(parents=True, exist_ok=True)
    return [*command, "--source", f"{register.SOURCE}=$TOWN", "--folder", f"files={files}"]


def _is_free(port: int) -> bool:
    with socket.socket() as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
        return True


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _wait(service: subprocess.Popen[bytes], address: str) -> bool:
    """Until the service answers; False when it has ended, having said why itself."""
    deadline = time.monotonic() + _START_S
    with lamppost.Client(address) as client:
        while service.poll() is None and time.monotonic() < deadline:
            try:
                client.fetch("GET", "/health/ready")
                return True
            except LampPostError:
                time.sleep(0.1)
    return False


def fill(address: str, data: Path, calls: int, files: Path, weeks: bool = True) -> None:
    """Train, pack, push, point and ask, as far as that was not done before. files : the folder that bulk runs read and write."""
    with lamppost.Client(address) as client:
        served = {one["name"] for one in client.fetch("GET", "/api/endpoints")}
        if ENDPOINT not in served:
            print("training outage-risk on Tallowby's lamps …", flush=True)
            trained = train_outage_risk()
            print("packing it with its preprocessing, and proving the package in a fresh process …", flush=True)
            recipe = {"target": "failed", "labels": {0: "holds", 1: "fails"}, "fields": FIELDS, "tags": TAGS | {"data": "lamps"}}
            serve(client, data, ENDPOINT, trained, NOTES, **recipe)
            try_refit(client, data)
            roll_out_all(client, data)
        if LOAD not in served:
            serve_evening_load(client, data)
        if NOTE not in served:
            serve_fault_note(client, data)
        if PHOTO not in served:
            serve_pole_photo(client, data)
        if BY_NUMBER not in served:
            print(client.set_up(BY_NUMBER, register.setup(serving_version(client)))["summary"], flush=True)
            client.predict(BY_NUMBER, [{"lamp": number} for number in range(1, 41)])
        if not client.fetch("GET", "/api/bulk", limit=1):
            client.fetch("POST", "/api/channels/lighting", {"kind": "mail", "target": "lamps@tallowby.example", "reports": "weekly"})
            score_nights(client, files, serving_version(client), ["lighting"] if weeks else [])
            write_lamps_to_check(data / TO_CHECK)
        if ENDPOINT not in served and weeks:
            play_weeks(client)
        print(f"asking it about {calls} lamps …", flush=True)
        rows = make_traffic(calls, seed=int(time.time()), firmware=True)
        with ThreadPoolExecutor(8) as pool:
            said = list(pool.map(lambda row: client.predict(ENDPOINT, row).answer["label"], rows))
        print(f"{said.count('fails')} of them will fail within 30 days, it says")


def serving_version(client: lamppost.Client) -> str:
    """The version that outage-risk serves."""
    return next(str(one["version"]) for one in client.fetch("GET", "/api/endpoints") if one["name"] == ENDPOINT)


def compare_with_view(client: lamppost.Client, town: register.Register, data: Path) -> None:
    """Make outage-risk a view in the town's register, and compare it with the endpoint."""
    lamp = client.download(serving_version(client), data / "serving.lamp")
    numbers = list(range(1, 201))
    said = client.predict(BY_NUMBER, [{"lamp": number} for number in numbers]).answers
    same = town.compare_view(read_lamp(lamp), {number: answer["scores"] for number, answer in zip(numbers, said, strict=True)}, data)
    print(f"the view {register.VIEW} in the town's register says the same as the endpoint of {same} of {len(numbers)} lamps", flush=True)


def play_weeks(client: lamppost.Client) -> None:
    """The weeks before: simulated, answered by what is in service now."""
    print("playing four weeks of traffic, simulated: a season, a gateway that fails, new firmware, a new word …", flush=True)
    versions = {one["name"]: str(one["version"]) for one in client.fetch("GET", "/api/endpoints")}
    play(client, versions)
    deadline = time.monotonic() + _JUDGE_S
    while time.monotonic() < deadline:
        open_now = client.fetch("GET", "/api/alerts", state="open")
        if open_now:
            print(f"an alert is open: {open_now[0]['endpoint']}: {open_now[0]['summary']}", flush=True)
            return
        time.sleep(0.5)


def serve(client: lamppost.Client, data: Path, name: str, trained: Trained, about: str, **recipe: Any) -> None:
    """Pack what was trained, push it, and point an endpoint of its name at it."""
    model, frame, metrics, held_out = trained
    recipe["held_out"] = held_out
    lamp = lamppost.pack(model, frame, name=name, metrics=metrics, notes=about, by=PACKER, to=data / f"{name}.lamp", quiet=True, **recipe)
    print(client.point(name, client.push(lamp.path)["version"])["summary"], flush=True)
    if name in WINDOWS:
        set_window(client, name)


def serve_evening_load(client: lamppost.Client, data: Path) -> None:
    """The second model: how many kWh a feeder takes tonight."""
    print("training, packing and serving evening-load …", flush=True)
    recipe = {"target": feeders.TARGET, "unit": "kWh", "fields": feeders.FIELDS, "tags": TAGS | {"data": "feeders"}}
    serve(client, data, LOAD, feeders.train_evening_load(), "How many kilowatt hours will a feeder take tonight?", **recipe)
    nights = feeders.make_feeder_nights(40, seed=int(time.time())).drop(columns=feeders.TARGET)
    said = client.predict(LOAD, as_sent(nights)).answers
    print(f"tonight the {len(said)} feeders it was asked about take {sum(answer['kwh'] for answer in said):,.0f} kWh")


def serve_fault_note(client: lamppost.Client, data: Path) -> None:
    """The third model: what a resident's note is about."""
    print("training, packing and serving fault-note …", flush=True)
    about = "What is a resident's note about? The dispatcher reads the answer, and the note where the score is low."
    recipe = {"target": notes.TARGET, "fields": notes.FIELDS, "tags": TAGS | {"data": "text"}}
    serve(client, data, NOTE, notes.train_fault_note(), about, **recipe)
    written = notes.make_notes(30, seed=int(time.time()))["note"]
    said = [client.predict(NOTE, {"note": note}).answer["label"] for note in written]
    print(f"of {len(said)} notes, {said.count('dark')} are about a lamp that is dark")


def serve_pole_photo(client: lamppost.Client, data: Path) -> None:
    """The fourth model: whether a post leans or rusts, from a small picture."""
    print("drawing pictures, training, packing and serving pole-photo …", flush=True)
    recipe = {"target": poles.TARGET, "fields": poles.FIELDS, "before": [poles.pixels()], "tags": TAGS | {"data": "pictures"}}
    serve(client, data, PHOTO, poles.train_pole_photo(), "Does a post lean or rust? From a picture of 48 × 48 pixels.", **recipe)
    photos = poles.make_photos(20, seed=int(time.time()))["photo"]
    said = [client.predict(PHOTO, {"photo": photo}).answer["label"] for photo in photos]
    print(f"of {len(said)} posts, {said.count('leans')} lean and {said.count('rusts')} rust")
    (data / "post.png").write_bytes(photos.iloc[0])


def try_refit(client: lamppost.Client, data: Path) -> None:
    """Somebody's version whose serving code fits the encoders again: it is stored, fails its proof, and never serves."""
    print("pushing somebody's version whose serving code fits its encoders again …", flush=True)
    pack_refit(data / "outage-risk-refit.lamp")
    version = client.push(data / "outage-risk-refit.lamp")["version"]
    try:
        client.point(ENDPOINT, version)
    except ProofFailed as error:
        print(f"it is refused: {error.detail}", flush=True)


def _greet(address: str, data: Path) -> None:
    with lamppost.Client(address) as client:
        link = client.fetch("POST", "/api/session/link")["link"]
        desk = open_desk(client, ENDPOINT)
        newest_night = client.fetch("GET", "/api/bulk", limit=1)[0]["name"]
    token = find_connection(address).token
    print(
        f"""
● Tallowby is serving.

  console   {link}
            (the link signs one browser in, once; another: .venv/bin/lamppost console)
  desk      {desk}
            (for people who only ask; bring it the file {data / TO_CHECK})
  address   {address}
  token     {token}

  try       .venv/bin/lamppost ask {ENDPOINT}
            .venv/bin/lamppost tail {ENDPOINT} --follow
            .venv/bin/lamppost drift {ENDPOINT}
            .venv/bin/lamppost watch
            .venv/bin/lamppost bulk show {newest_night}
            .venv/bin/lamppost bulk start {ENDPOINT} --from {data / TO_CHECK} --to checked.csv --keep lamp

Ctrl-C stops everything.""",
        flush=True,
    )


def _end(service: subprocess.Popen[bytes]) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # it is on its way out already
    if service.poll() is None:
        os.kill(service.pid, signal.SIGTERM)
        try:
            service.wait(60)
        except subprocess.TimeoutExpired:
            service.kill()


if __name__ == "__main__":
    sys.exit(main())
