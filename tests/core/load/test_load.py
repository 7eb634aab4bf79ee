import unittest

from hypothesis import given
from hypothesis import strategies as st

from lamppost.core.errors import BadRequest
from lamppost.core.load.load_plan import LoadPlan, due_times, read_plan, split_clients, write_plan
from lamppost.core.load.load_result import (
    LoadSlice,
    LoadStep,
    add_steps,
    compare_steps,
    read_steps,
    summarize_step,
    t_quantile,
    write_steps,
)
from lamppost.core.monitoring.latency_histogram import bucket_of
from lamppost.core.roles import is_load


def step(per_second: list[int], us: int = 1_000, clients: int = 8) -> LoadStep:
    slices = [LoadSlice(calls, 0, {bucket_of(us): calls} if calls else {}) for calls in per_second]
    whole = sum(per_second)
    return LoadStep(clients, float(len(per_second)), slices, us, {}, {"a": {"a@1": whole}}, {"a": {bucket_of(us): whole}})


class Plans(unittest.TestCase):
    def test_a_plan_survives_being_written_and_says_how_long_it_takes(self) -> None:
        plan = LoadPlan(("a", "b"), (1, 8), 20.0, 50.0, "random", "rows.csv")
        self.assertEqual(read_plan(write_plan(plan)), plan)
        self.assertEqual((plan.warm_s, plan.whole_s), (2.0, 44.0))

    def test_what_no_load_can_be_is_refused(self) -> None:
        for document, part in (
            ({"endpoints": []}, "one endpoint at least"),
            ({"endpoints": ["a", "a"]}, "named twice"),
            ({"endpoints": ["a"], "clients": [0]}, "from 1 to 4,096"),
            ({"endpoints": ["a"], "seconds": 0.5}, "1 to 3,600 seconds"),
            ({"endpoints": ["a"], "rate": -1}, "above 0"),
            ({"endpoints": ["a"], "order": "backwards"}, "order"),
        ):
            with self.subTest(part), self.assertRaises(BadRequest) as caught:
                read_plan(document)
            self.assertIn(part, str(caught.exception))

    @given(st.integers(1, 500), st.integers(1, 16))
    def test_clients_are_split_evenly_and_none_is_lost(self, clients: int, processes: int) -> None:
        shares = split_clients(clients, processes)
        self.assertEqual(sum(shares), clients)
        self.assertLessEqual(max(shares) - min(shares), 1)

    def test_what_is_due_in_several_processes_is_even_together(self) -> None:
        times = sorted(due for process in range(3) for due in due_times(30.0, process, 3, 1.0))
        self.assertEqual(len(times), 31)
        for at, due in enumerate(times):
            self.assertAlmostEqual(due, at / 30)

    def test_the_token_of_a_load_is_known_by_its_name(self) -> None:
        self.assertEqual([is_load(name) for name in ("load:a-load-1", "loads", None)], [True, False, False])


class Results(unittest.TestCase):
    def test_processes_are_added_up(self) -> None:
        whole = add_steps([step([10, 20], 1_000, 4), step([1, 2], 9_000, 4)], 8)
        self.assertEqual([one.calls for one in whole.slices], [11, 22])
        self.assertEqual((whole.clients, whole.most_us, whole.versions), (8, 9_000, {"a": {"a@1": 33}}))
        self.assertEqual(read_steps(write_steps([whole])), [whole])
        figures = summarize_step(whole)
        self.assertEqual((figures.calls, figures.per_s, figures.most_ms), (33, 16.5, 9.0))
        assert figures.p50_ms is not None
        assert figures.p99_ms is not None
        self.assertAlmostEqual(figures.p50_ms, 1.0, delta=0.02)
        self.assertAlmostEqual(figures.p99_ms, 9.0, delta=0.2)

    def test_a_step_without_an_answer_has_no_latency(self) -> None:
        figures = summarize_step(LoadStep(1, 2.0, [LoadSlice(0, 3), LoadSlice(0, 2)], 0, {"503": 5}))
        self.assertEqual((figures.per_s, figures.p99_ms, figures.most_ms, figures.errors), (0.0, None, None, 5))

    def test_two_loads_are_told_apart_only_where_their_seconds_differ_enough(self) -> None:
        before = [step([100, 104, 98, 102, 96, 100])]
        same = compare_steps(before, [step([99, 103, 101, 97, 100, 104])])
        self.assertEqual([one.differs for one in same], [False, False, False])
        faster = compare_steps(before, [step([140, 150, 145, 138, 142, 147], 700)])
        self.assertEqual([(one.figure, one.differs) for one in faster[:1]], [("requests/s", True)])
        assert faster[0].low is not None
        assert faster[0].high is not None
        self.assertTrue(faster[0].low < 43.7 < faster[0].high)
        self.assertEqual([one.low for one in compare_steps([step([100, 90])], [step([10, 20])])], [None, None, None])
        self.assertEqual(compare_steps(before, [step([1], clients=64)]), [])

    def test_quantiles_of_t_are_those_of_the_tables(self) -> None:
        for freedom, wanted in ((3, 3.182), (5, 2.571), (10, 2.228), (30, 2.042), (float("inf"), 1.960)):
            self.assertAlmostEqual(t_quantile(0.975, freedom), wanted, delta=0.01 * wanted)
