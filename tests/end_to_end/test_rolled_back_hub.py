"""An outpost of a hub that was put back to an earlier state."""

import shutil
import unittest
from collections import Counter
from typing import Any

import lamppost
from tests.support.outposts import Outpost
from tests.support.service import Service, until
from tests.support.versions import times_lamp


class RolledBack(unittest.TestCase):
    def test_an_outpost_follows_a_hub_that_was_put_back_to_an_earlier_state(self) -> None:
        hub = Service().start()
        self.addCleanup(hub.remove)
        with hub.client() as client:
            for factor in (2, 3):
                client.push(times_lamp(factor))
            client.set_up("times", {"version": "times@1"})
            outpost = Outpost(hub, "mill", client.fetch("POST", "/api/outposts", {"name": "mill"})["secret"])
            self.addCleanup(shutil.rmtree, outpost.folder, True)
            self.addCleanup(outpost.end)
            client.fetch("PUT", "/api/endpoints/times/outposts", {"at": "mill", "version": "times@1"})
            outpost.start()
            ids = [self.asked(outpost) for _ in range(3)]
            until(lambda: self.stored(client) >= set(ids), what="the first records")
            backup = hub.folder / "hub.backup"
            self.assertEqual(hub.run("backup", "--to", str(backup)).returncode, 0)
            client.fetch("PUT", "/api/endpoints/times/outposts", {"at": "mill", "version": "times@2"})
            until(lambda: outpost.ask(1)[1] == "times@2", what="the later version")
            later = self.asked(outpost)
            until(lambda: later in self.stored(client), what="the later record")
        hub.stop()
        during = self.asked(outpost)
        done = hub.run("restore", str(backup), "--data", str(hub.data), "--replace")
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        hub.start()
        until(lambda: outpost.ask(1)[1] == "times@1", what="the version of the earlier state")
        with hub.client() as client:
            after = self.asked(outpost)
            until(lambda: self.stored(client) >= {*ids, during, after}, what="what was asked while the hub was away, and after")
            self.assertNotIn(later, self.stored(client), "it was stored after the backup, and the outpost kept it no longer")
            self.assertEqual(max(Counter(call["request_id"] for call in self.calls(client)).values()), 1)
            found = client.fetch("GET", "/api/outposts/mill")
            self.assertEqual((found["state"], found["endpoints"][0]["served"]), ("serving", "times@1"))
        self.assertNotIn("Traceback", outpost.log.read_text())

    def asked(self, outpost: Outpost) -> str:
        """The id of a request to the outpost."""
        with lamppost.Client(outpost.address, outpost.hub.token, repeats=0) as client:
            return client.predict("times", {"x": 2.0}).request_id

    @staticmethod
    def calls(client: lamppost.Client) -> list[dict[str, Any]]:
        return list(client.fetch("GET", "/api/calls", endpoint="times", limit=1_000))

    def stored(self, client: lamppost.Client) -> set[str]:
        return {call["request_id"] for call in self.calls(client)}
