import unittest
from datetime import UTC, datetime, timedelta

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from bench.drift_reasons import CHANGES, named_rightly
from lamppost.core.drift.attribution import answer_shift, explained_part, place_of_change, rows_with_field_moved, shift_is_clear
from lamppost.core.drift.baseline import DriftBaseline, FieldSketch, ReferenceField
from lamppost.core.drift.bins import bin_choices, bin_numbers
from lamppost.core.drift.field_tests import DriftFinding
from lamppost.core.drift.sketches import Sketcher
from lamppost.core.drift.verdict_text import bin_shares, change_start, describe_p, describe_verdict, verdict_sentence
from lamppost.core.drift.verdicts import judge_windows
from lamppost.core.drift.window_verdict import DescribedField, WindowVerdict
from lamppost.core.errors import BadRequest
from lamppost.core.monitoring.alert_rules import (
    Alert,
    RuleReading,
    error_budgets,
    next_alert,
    read_budget,
    read_errors,
    read_p99,
    read_quality,
    read_silence,
    read_window_verdict,
    reading_level,
)
from lamppost.core.monitoring.quality import (
    JudgedAnswer,
    estimate_by_caller,
    estimate_mean,
    estimate_share,
    quality_figures,
    student_quantile,
    told_otherwise,
)
from lamppost.core.monitoring.settings import AlertRule, MonitoringSettings, Objectives
from lamppost.core.tracing import read_traceparent, spans_of, to_otlp

NOON = datetime(2026, 5, 1, 12, tzinfo=UTC)
RNG = np.random.default_rng(11)


def reading(minute: float, level: str) -> RuleReading:
    return RuleReading(NOON + timedelta(minutes=minute), level, f"at {minute}", "certain", "cause")  # type: ignore[arg-type]


class Alerts(unittest.TestCase):
    def run_through(self, rule: AlertRule, *steps: tuple[float, str]) -> list[str | None]:
        alert: Alert | None = None
        out = []
        for minute, said in steps:
            alert = next_alert("outage-risk", rule, alert, reading(minute, said))
            out.append(alert.state if alert is not None else None)
        return out

    def test_a_figure_has_to_stay_back_before_an_alert_ends(self) -> None:
        states = self.run_through(
            AlertRule("errors", minutes=5), (0, "back"), (1, "wrong"), (2, "back"), (4, "between"), (5, "back"), (9, "back"), (10, "back")
        )
        self.assertEqual(states, [None, "firing", "firing", "firing", "firing", "firing", "resolved"])

    def test_a_window_that_is_steady_ends_it_at_once_and_the_next_begins_another(self) -> None:
        self.assertEqual(
            self.run_through(AlertRule("drift"), (0, "wrong"), (60, "between"), (120, "back"), (180, "wrong")),
            ["firing", "firing", "resolved", "firing"],
        )

    @given(st.lists(st.tuples(st.integers(1, 30), st.sampled_from(["wrong", "back", "between"])), max_size=40))
    def test_an_alert_is_open_exactly_from_wrong_to_back(self, steps: list[tuple[int, str]]) -> None:
        alert, minute = None, 0
        for gap, said in steps:
            minute += gap
            before = alert
            alert = next_alert("e", AlertRule("p99", minutes=5), alert, reading(minute, said))
            if said == "wrong":
                assert alert is not None
                self.assertEqual((alert.state, alert.back_since), ("firing", None))
            if before is not None and before.state == "firing" and alert is not None and alert.state == "resolved":
                self.assertEqual(said, "back")
                assert alert.resolved_at is not None
                assert alert.back_since is not None
                self.assertGreaterEqual(alert.resolved_at - alert.back_since, timedelta(minutes=5))

    def test_what_each_rule_says(self) -> None:
        levels = [
            reading_level(11, 10),
            reading_level(9.5, 10),
            reading_level(9, 10),
            reading_level(79, 80, True),
            reading_level(89, 80, True),
        ]
        self.assertEqual(levels, ["wrong", "between", "back", "wrong", "back"])
        errors = AlertRule("errors", 5)
        self.assertEqual(read_errors(NOON, "e", errors, 3, 3).level, "between", "three calls prove nothing")
        self.assertEqual(read_errors(NOON, "e", errors, 1_000, 60).level, "between", "6 % may be 5")
        self.assertEqual(read_errors(NOON, "e", errors, 1_000, 90).level, "wrong")
        self.assertEqual(read_p99(NOON, "e", AlertRule("p99", 100), 50, 120.0).level, "wrong")
        self.assertEqual(read_silence(NOON, "e", AlertRule("silence", minutes=30), NOON - timedelta(minutes=31)).level, "wrong")
        self.assertEqual(read_silence(NOON, "e", AlertRule("silence", minutes=30), None).level, "back")
        self.assertEqual(read_quality(NOON, "e", AlertRule("quality", 80), 60, 100).level, "wrong")
        self.assertEqual(read_quality(NOON, "e", AlertRule("quality", 80), 75, 100).level, "between", "three quarters may be four fifths")
        found = error_budgets(Objectives(available=99.0, fast_ms=10, fast=90), (10_000, 50, 2_000), (100, 10, 0))
        self.assertEqual(
            [(one.name, round(one.spent, 6), round(one.burn, 6)) for one in found], [("available", 0.5, 10.0), ("fast", 2.0, 0.0)]
        )
        self.assertEqual(read_budget(NOON, "e", AlertRule("budget", 6), found, 100).level, "wrong")
        volt = DescribedField("volt", "drifted", "higher", 900, (DriftFinding("location", 1e-20, 0.9, 0.9),))
        reading = read_window_verdict(NOON, AlertRule("drift"), WindowVerdict("drifted", "Drifted.", 1, 900, (volt,)), "firmware", 0, 100)
        self.assertEqual((reading.level, reading.cause, reading.probable_cause), ("wrong", "drift of volt", "firmware"))
        steady = WindowVerdict("steady", "Steady.", 1, 900)
        self.assertEqual(read_window_verdict(NOON, AlertRule("odd", 5), steady, None, 30, 100).level, "wrong")
        self.assertEqual(read_window_verdict(NOON, AlertRule("drift"), steady, None, 0, 100).level, "back")

    def test_rules_and_settings_that_cannot_be(self) -> None:
        for make in (
            lambda: AlertRule("drift", above=3),
            lambda: AlertRule("p99", minutes=0),
            lambda: MonitoringSettings(window_minutes=15),
            lambda: MonitoringSettings(sample=-1),
            lambda: MonitoringSettings(keep_days=0),
            lambda: MonitoringSettings(refuse_odd=0.5),
            lambda: MonitoringSettings(rules=(AlertRule("p99"), AlertRule("p99", 5))),
            lambda: Objectives(available=100),
        ):
            self.assertRaises(BadRequest, make)
        self.assertEqual([rule.on for rule in MonitoringSettings().alerts], ["drift", "errors", "down"])
        self.assertEqual(MonitoringSettings(rules=()).alerts, ())


class Quality(unittest.TestCase):
    def test_intervals(self) -> None:
        found = estimate_share(8, 10)
        assert found is not None
        self.assertAlmostEqual(found.low, 0.4902, places=4)
        self.assertAlmostEqual(found.high, 0.9433, places=4)
        self.assertIsNone(estimate_share(0, 0))
        one = estimate_mean([1.0, 2.0, 3.0])
        assert one is not None
        self.assertAlmostEqual(one.high - one.value, 1.959964 / np.sqrt(3))

    def test_labels_scores_and_slices(self) -> None:
        told = [
            JudgedAnswer(
                {"label": "fails" if at % 2 else "holds", "scores": {"fails": 0.75}},
                "fails" if at % 4 == 1 else "holds",
                {"kind": "led" if at < 20 else "sodium"},
            )
            for at in range(40)
        ]
        said = quality_figures(told, "label", numbers=False)
        self.assertEqual(said["accuracy"]["value"], 0.75)
        fails = next(label for label in said["labels"] if label["label"] == "fails")
        self.assertEqual((fails["precision"]["value"], fails["recall"]["value"], fails["true"]), (0.5, 1.0, 10))
        self.assertAlmostEqual(said["calibration"]["error"], 0.5)
        self.assertEqual({slice_["value"] for slice_ in said["slices"]}, {"led", "sodium"})

    def test_numbers(self) -> None:
        told = [JudgedAnswer({"kwh": 10.0 + at}, 10.0, {}) for at in (-1, 0, 1, 4)]
        said = quality_figures(told, "kwh", numbers=True, spread=10.0)
        self.assertEqual((said["absolute_error"]["value"], said["bias"]["value"], said["near"]["value"]), (1.5, 1.0, 0.75))
        self.assertAlmostEqual(said["root_mean_square"], np.sqrt(4.5))


def lamps(count: int, factor: float = 1.0, gone: float = 0.0) -> list[dict[str, object]]:
    out = []
    for _ in range(count):
        district = str(RNG.choice(["harbour", "mill", "park", "weir"]))
        volts = float(RNG.normal(230, 3)) * (factor if district == "harbour" else 1.0)
        out.append(
            {
                "district": district,
                "kind": str(RNG.choice(["led", "sodium"])),
                "volts": None if district == "weir" and RNG.random() < gone else volts,
            }
        )
    return out


class ByCaller(unittest.TestCase):
    def test_intervals_cover_the_truth_though_answers_to_one_caller_are_alike(self) -> None:
        rng = np.random.default_rng(19)
        covered = plain = 0
        for _ in range(200):
            rates = rng.beta(4, 1, size=20)
            callers = rng.integers(0, 20, 600)
            right = (rng.random(600) < rates[callers]).astype(float).tolist()
            found = estimate_by_caller(right, [str(caller) for caller in callers], share=True)
            narrow = estimate_share(int(sum(right)), 600)
            assert found is not None
            assert narrow is not None
            covered += found.low <= 0.8 <= found.high
            plain += narrow.low <= 0.8 <= narrow.high
        self.assertGreater(covered, 180, "95 % are stated")
        self.assertLess(plain, 150, "without callers it covers far less")

    def test_it_is_never_narrower_than_for_independent_answers(self) -> None:
        right = [1.0, 0.0] * 50
        self.assertEqual(estimate_by_caller(right, [None] * 100, share=True), estimate_share(50, 100))
        self.assertEqual(estimate_by_caller(right, ["one"] * 100, share=True), estimate_share(50, 100))
        self.assertEqual(estimate_by_caller([], [], share=True), None)
        self.assertAlmostEqual(student_quantile(4), 2.776, places=1)
        self.assertAlmostEqual(student_quantile(30), 2.042, places=3)

    def test_outcomes_that_are_told_of_some_answers_only_are_seen(self) -> None:
        def told(label: str, truth: str) -> JudgedAnswer:
            return JudgedAnswer({"label": label}, truth, {})

        given = [{"label": "fails" if at % 5 == 0 else "holds"} for at in range(500)]
        fair = [told(row["label"], row["label"]) for row in given[:200]]
        self.assertIsNone(told_otherwise(fair, given, "label"))
        found = told_otherwise(
            [told("fails", "fails")] * 60 + [told("fails", "holds")] * 30 + [told("holds", "holds")] * 10, given, "label"
        )
        assert found is not None
        self.assertEqual((found["told"], found["answered"], found["unknown"]), (0.9, 0.2, 0.0))
        self.assertAlmostEqual(found["weighted"], 0.2 * 2 / 3 + 0.8)


class Why(unittest.TestCase):
    def test_the_district_that_changed_is_named_and_no_other(self) -> None:
        for window, what, value in (
            (lamps(800, factor=1.1), "location", "harbour"),
            (lamps(800, factor=1_000), "far", "harbour"),
            (lamps(800, gone=0.9), "missing", "weir"),
        ):
            found = place_of_change("volts", ["district", "kind"], lamps(500), window, what).slices  # type: ignore[arg-type]
            self.assertEqual([(one.by, one.value) for one in found], [("district", value)], what)
            self.assertGreater(found[0].part, 0.9)
        self.assertEqual(place_of_change("volts", ["district"], lamps(500), lamps(800)).slices[1:], ())
        self.assertEqual(place_of_change("volts", ["district"], [], []).slices, ())

    def test_a_field_that_only_follows_the_mix_of_another_is_no_reason_of_its_own(self) -> None:
        def mixed(part: float, apart: float = 4.0) -> list[dict[str, object]]:
            districts = ["harbour" if RNG.random() < part else "mill" for _ in range(600)]
            return [{"district": one, "volts": float(RNG.normal(230 + apart * (one == "mill"), 2))} for one in districts]

        place = place_of_change("volts", ["district"], mixed(0.7), mixed(0.2), mixed=["district"])
        self.assertEqual((place.follows, place.slices), ("district", ()))
        moved = [row | {"volts": float(row["volts"]) + 6} for row in mixed(0.2)]  # type: ignore[arg-type]
        self.assertIsNone(place_of_change("volts", ["district"], mixed(0.7), moved, mixed=["district"]).follows)
        for name, what in CHANGES.items():
            fields, slices, found = named_rightly(name, 2, rows=1_000, known_rows=4_000)
            self.assertEqual((fields, slices, found), (2, 2, 2), f"{name}: {what[1]}")

    def test_answers_that_move_by_chance_are_not_explained(self) -> None:
        def labels(part: float, count: int) -> list[dict[str, object]]:
            return [{"label": "fails" if at < part * count else "holds", "kwh": 3.0 * (at % 7)} for at in range(count)]

        self.assertFalse(shift_is_clear(labels(0.20, 300), labels(0.24, 300), "label"))
        self.assertTrue(shift_is_clear(labels(0.20, 300), labels(0.35, 300), "label"))
        self.assertFalse(shift_is_clear(labels(0.2, 700), labels(0.2, 700), "kwh"))
        self.assertTrue(shift_is_clear(labels(0.2, 700), [{"kwh": 12.0}] * 700, "kwh"))

    def test_a_field_is_moved_only_in_the_slice_that_changed(self) -> None:
        reference, window = lamps(400), lamps(400, factor=1.5)
        after = rows_with_field_moved("volts", reference, window, ("district", "harbour"))
        for old, new in zip(reference, after, strict=True):
            if old["district"] == "harbour":
                self.assertGreater(new["volts"], 300)
            else:
                self.assertEqual(new, old)

    def test_moving_one_field_of_the_reference_explains_the_answers_that_hang_on_it(self) -> None:
        reference, window = lamps(400), lamps(400, factor=1.2)
        after = rows_with_field_moved("volts", reference, window)
        self.assertEqual([row["district"] for row in after], [row["district"] for row in reference])
        high = [row["volts"] for row in after if row["volts"] is not None and row["volts"] > 260]  # type: ignore[operator]
        self.assertAlmostEqual(len(high) / len(after), 0.25, delta=0.08)
        said = [[{"label": "high" if (row["volts"] or 0) > 260 else "low"} for row in rows] for rows in (reference, after, window)]  # type: ignore[operator]
        self.assertGreater(explained_part(answer_shift(said[0], said[1], "label"), answer_shift(said[0], said[2], "label")), 0.8)
        self.assertEqual(explained_part(answer_shift(said[0], said[0], "label"), answer_shift(said[0], said[2], "label")), 0.0)
        kinds = rows_with_field_moved("kind", reference, [row | {"kind": "led"} for row in window])
        self.assertEqual({row["kind"] for row in kinds}, {"led"})

    def test_since_when(self) -> None:
        known = ReferenceField("x", True, bin_numbers(RNG.normal(size=5_000).tolist()), 5_000, 0)
        sketcher = Sketcher(DriftBaseline((known,), 5_000))

        def tick(shift: float) -> FieldSketch:
            return sketcher.sketch_window({"x": (RNG.normal(size=60) + shift).tolist()}, 60).fields["x"]

        self.assertEqual(change_start(known, [tick(0.0) for _ in range(20)] + [tick(1.5) for _ in range(8)]), 20)
        self.assertIsNone(change_start(known, [tick(0.0) for _ in range(20)]))
        self.assertIsNone(change_start(known, [tick(0.0)]))


class Words(unittest.TestCase):
    def test_wide_models_constant_fields_and_what_is_said_of_them(self) -> None:
        rows = 1_500
        names = [f"c{at}" for at in range(100)]
        choices = {name: [f"v{value}" for value in RNG.integers(0, 200, rows)] for name in names}
        known = [ReferenceField(name, False, bin_choices(values), rows, 0) for name, values in choices.items()]
        known.append(ReferenceField("same", True, bin_numbers([7.0] * rows), rows, 0))
        sketcher = Sketcher(DriftBaseline(tuple(known), rows))
        columns: dict[str, list[object]] = {name: [f"v{value}" for value in RNG.integers(0, 200, 500)] for name in names}
        columns["same"] = [7.0] * 500
        steady = judge_windows(sketcher.against, [sketcher.sketch_window(columns, 500)])
        self.assertEqual(steady.state, "steady", verdict_sentence(steady))
        other = judge_windows(sketcher.against, [sketcher.sketch_window(columns | {"same": [8.0] * 500}, 500)])
        described = describe_verdict(other)
        self.assertEqual((described.state, described.fields[0].name), ("drifted", "same"))
        self.assertRegex(described.summary, r"^Drifted: same is outside training's range in 100 %, 0 % in training")
        self.assertEqual(bin_shares(known[-1], None)["window_missing"], None)

    def test_chances(self) -> None:
        self.assertEqual([describe_p(0.031), describe_p(3e-6), describe_p(1e-300)], ["p = 0.031", "p < 1e-5", "p < 1e-12"])


class Traces(unittest.TestCase):
    def test_headers_as_the_recommendation_says(self) -> None:
        good = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-00"
        trace = read_traceparent(good)
        assert trace is not None
        self.assertFalse(trace.sampled)
        for bad in ("", "ff" + good[2:], good.replace("4bf92f3577b34da6a3ce929d0e0e4736", "0" * 32), good.upper(), good[:-1], f"{good}0"):
            self.assertIsNone(read_traceparent(bad), bad)

    def test_a_call_and_its_phases_as_otlp(self) -> None:
        spans = spans_of(
            "a" * 32, "b" * 16, "c" * 16, "predict x", 5_000_000, 3_000, {"queue": 1_000, "worker": 2_000}, {"rows": 1, "none": None}
        )
        told = to_otlp(spans, "lamppost", "1")["resourceSpans"][0]["scopeSpans"][0]["spans"]
        self.assertEqual([one["name"] for one in told], ["predict x", "queue", "worker"])
        self.assertEqual((told[0]["startTimeUnixNano"], told[0]["endTimeUnixNano"]), ("2000000", "5000000"))
        self.assertEqual((told[1]["parentSpanId"], told[2]["startTimeUnixNano"]), ("b" * 16, "3000000"))
        self.assertEqual(told[0]["attributes"], [{"key": "rows", "value": {"intValue": "1"}}])
