"""Bulk runs that are spread over a Dask cluster: the same bytes as on one machine, also when a worker is killed in the middle."""

from typing import ClassVar

from bench.dask_processes import Cluster
from tests.support.bulk import WithBulkRuns, lamps
from tests.support.lamps import moody_lamp
from tests.support.models import Moody
from tests.support.service import free_port, until


class Clusters(WithBulkRuns):
    cluster: ClassVar[Cluster]

    @classmethod
    def setUpClass(cls) -> None:
        cls.cluster = Cluster(3)
        cls.addClassCleanup(cls.cluster.stop)
        cls.more_options = ("--cluster", f"town={cls.cluster.address}", "--cluster", f"nobody=tcp://127.0.0.1:{free_port()}")
        super().setUpClass()
        lamps(60_000, 21).to_parquet(cls.files / "many.parquet", row_group_size=2_000)
        cls.cluster.wait(3)

    def test_a_cluster_gives_the_same_bytes_though_a_worker_is_killed(self) -> None:
        source = ("--from", "files:many.parquet", "--keep", "lamp_id")
        self.start(*source, "--to", "files:alone.parquet", "--name", "alone")
        name = self.started(*source, "--to", "files:spread.parquet", "--name", "spread", "--on", self.cluster.address)
        until(lambda: self.facts(name)["rows"] >= 4_000, 120, "the first blocks")
        self.cluster.kill_worker()
        ended = self.ended(name)
        self.assertEqual(ended["state"], "finished", ended["reason"])
        self.assertEqual((ended["rows"], ended["rejects"]), (60_000, 0))
        self.assertEqual((self.files / "spread.parquet").read_bytes(), (self.files / "alone.parquet").read_bytes())
        self.assertEqual(self.facts("spread")["answers"], self.facts("alone")["answers"])

    def test_rows_that_the_model_fails_on_are_rejected_alone_there_too(self) -> None:
        import pandas as pd

        self.service.serve(moody_lamp("moody-spread", Moody()), "moody")
        values = [float(value) for value in range(50, 250)]
        values[40] = Moody.FAIL
        pd.DataFrame({"x": values}).to_parquet(self.files / "moody.parquet")
        self.start("--from", "files:moody.parquet", "--to", "files:moody.ndjson", "--keep", "x", "--on", "town", of="moody")
        self.assertEqual(len((self.files / "moody.ndjson").read_text().splitlines()), 199)
        self.assertIn("nineteen is too much", (self.files / "moody.rejects.ndjson").read_text())

    def test_a_cluster_that_is_not_there_or_was_not_named_is_told(self) -> None:
        source = ("--from", "files:lamps.parquet")
        self.assertIn("no cluster 'twon'; did you mean town?", self.refused(*source, "--on", "twon"))
        self.assertIn("no cluster 'tcp://10.0.0.1:8786'", self.refused(*source, "--on", "tcp://10.0.0.1:8786"))
        self.assertIn("there is no scheduler at", self.refused(*source, "--on", "nobody", "--name", "lost"))
