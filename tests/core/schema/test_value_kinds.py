"""Times, pictures, tensors, options, defaults and private fields: from bytes to columns, over the wire, and back."""

import base64
import io
import unittest
from datetime import UTC, datetime
from typing import Any

import numpy as np
import orjson
from PIL import Image

from lamppost.core.artifact.proof import Proof, Tolerance, compare_answers
from lamppost.core.errors import BadJson, InvalidRows, ModelFault, PackageRefused
from lamppost.core.limits import MAX_PIXELS
from lamppost.core.payload.validation_plan import ValidationPlan
from lamppost.core.schema.columns import (
    GONE_TIME,
    answer_rows_from_columns,
    array_for_step,
    column_from_step,
    columns_from_rows,
    format_instant,
    to_microseconds,
)
from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.images import BadImage, check_header, decode_image, encode_png
from lamppost.core.schema.redaction import RedactionPolicy
from lamppost.runtime.wire import WireError, pack_columns, unpack_columns


def png(mode: str = "RGB", size: tuple[int, int] = (4, 3), format: str = "PNG") -> bytes:
    buffer = io.BytesIO()
    Image.new(mode, size, 0 if mode in ("L", "1", "P", "I;16") else None).save(buffer, format)
    return buffer.getvalue()


def text(data: bytes) -> str:
    return base64.b64encode(data).decode()


SCHEMA = Schema(
    (
        Field("at", "time", missing=True),
        Field("photo", "image", size=(4, 3), missing=True),
        Field("grid", "tensor", shape=(2, 2), low=0),
        Field("track", "tensor", shape=(0,), elements="integer"),
        Field("visits", "integer", default=3),
        Field("account", "text", private=True, default="none"),
    )
)
OPTIONS = Schema((Field("threshold", "number", low=0, high=1, default=0.5), Field("head", "choice", choices=("a", "b"), default="a")))
PLAN = ValidationPlan(SCHEMA, options=OPTIONS)
GOOD = {"grid": [[1, 2], [3, 4.5]], "track": [1, 2, 3]}


class Reading(unittest.TestCase):
    def fault(self, **row: Any) -> dict[str, Any]:
        with self.assertRaises(InvalidRows) as caught:
            PLAN.read_body(orjson.dumps({**GOOD, **row}))
        self.assertEqual(len(caught.exception.extra["faults"]), 1, caught.exception.extra["faults"])
        return dict(caught.exception.extra["faults"][0])

    def test_what_is_left_out_gets_its_default_and_options_stand_in_every_row(self) -> None:
        rows = PLAN.read_body(orjson.dumps({"rows": [GOOD, {**GOOD, "visits": 7}], "options": {"threshold": 0.25}})).rows
        said = [(row["visits"], row["threshold"], row["head"], row["at"]) for row in rows]
        self.assertEqual(said, [(3, 0.25, "a", None), (7, 0.25, "a", None)])
        alone = PLAN.read_body(orjson.dumps({**GOOD, "options": {"head": "b"}}))
        self.assertEqual((alone.single_row, alone.rows[0]["head"], alone.rows[0]["threshold"]), (True, "b", 0.5))
        self.assertNotIn("options", alone.rows[0])

    def test_options_are_checked_like_fields(self) -> None:
        for options, field, hint in (({"threshold": 2}, "threshold", None), ({"thresold": 0.5}, "thresold", "did you mean threshold?")):
            fault = self.fault(options=options)
            self.assertEqual((fault["field"], fault.get("hint")), (field, hint))
        self.assertEqual(self.fault(options=[1])["expected"], "options as an object")
        with self.assertRaisesRegex(BadJson, "send rows and options alone"):
            PLAN.read_body(orjson.dumps({"rows": [GOOD], "option": {}}))
        needing = ValidationPlan(
            Schema((Field("x", "number"),)), options=Schema((Field("head", "choice", choices=("a", "b"), example="b"),))
        )
        self.assertRaises(InvalidRows, needing.read_body, b'{"x": 1}')
        self.assertEqual(needing.read_body(orjson.dumps({"x": 1, **needing.example()})).rows[0]["head"], "b")

    def test_times_are_instants(self) -> None:
        for given, hour in (("2026-11-23T18:30:00Z", 18), ("2026-11-23 18:30+01:00", 17), ("2026-11-23T18:30:00.123456789Z", 18)):
            self.assertEqual(PLAN.read_body(orjson.dumps({**GOOD, "at": given})).rows[0]["at"].astimezone(UTC).hour, hour)
        for given in (1_700_000_000, "1700000000", "2026-11-23", "2026-13-01T00:00:00Z", "today", ["2026-11-23T18:30:00Z"]):
            self.assertIn("a time such as", self.fault(at=given)["expected"])
        self.assertEqual(self.fault(at="2026-11-23T18:30:00")["hint"], "say the offset from UTC too: Z, or +01:00")

    def test_tensors_have_their_shape_and_a_fault_says_where(self) -> None:
        row = PLAN.read_body(orjson.dumps(GOOD)).rows[0]
        self.assertEqual((row["grid"].shape, row["grid"].dtype, row["track"].dtype), ((2, 2), np.float64, np.int64))
        for name, given, said in (
            ("grid", [[1, 2], [3, "4"]], '"4" at [1, 1]'),
            ("grid", [[1, 2], [3]], "a list of 1 at [1]"),
            ("grid", [[1, 2], [3, -1]], "-1 at [1, 1]"),
            ("grid", 5, "5"),
            ("track", [1, 2.5], "2.5 at [1]"),
            ("track", [], "a list of 0"),
            ("track", None, "null"),
        ):
            with self.subTest(given=given):
                self.assertEqual(self.fault(**{name: given})["given"], said)
        ragged = ValidationPlan(Schema((Field("m", "tensor", shape=(0, 0)),)))
        with self.assertRaisesRegex(InvalidRows, "lists of different lengths"):
            ragged.read_body(b'{"m": [[1, 2], [3]]}')

    def test_pictures_are_looked_at_before_they_are_decoded(self) -> None:
        self.assertEqual(PLAN.read_body(orjson.dumps({**GOOD, "photo": text(png())})).rows[0]["photo"], png())
        for given, said in (
            ("no base64!", "not base64"),
            (text(png())[:40] + "\n" + text(png())[40:], "not base64"),
            (text(b"GIF89a..."), "neither PNG nor JPEG"),
            (text(png(size=(5, 3))), "5×3 pixels"),
            (text(png("RGBA")), "colour with opacity"),
            (text(png("CMYK", format="JPEG")), "CMYK"),
            (text(png()[:20]), "no whole header"),
        ):
            with self.subTest(said=said):
                self.assertIn(said, self.fault(photo=given)["given"])

    def test_private_values_are_in_no_message(self) -> None:
        fault = self.fault(account=4711)
        self.assertEqual((fault["field"], fault["given"]), ("account", "a private value"))

    def test_the_schema_and_the_example_tell_all_of_it(self) -> None:
        said = SCHEMA.to_json_schema(OPTIONS)
        self.assertEqual(said["required"], ["grid", "track"])
        self.assertEqual(said["properties"]["at"], {"type": ["string", "null"], "format": "date-time"})
        self.assertEqual(said["properties"]["photo"]["contentEncoding"], "base64")
        axis = {"type": "array", "items": {"type": "number", "minimum": 0}, "minItems": 2, "maxItems": 2}
        self.assertEqual(said["properties"]["grid"], {"type": "array", "items": axis, "minItems": 2, "maxItems": 2})
        self.assertEqual(said["properties"]["visits"]["default"], 3)
        self.assertEqual(said["properties"]["options"]["properties"]["threshold"]["default"], 0.5)
        self.assertEqual(Field("g", "tensor", shape=(2, 0)).expected_text(), "lists of numbers, 2×any")

    def test_fields_that_cannot_be_are_refused(self) -> None:
        for attributes in (
            {"kind": "tensor"},
            {"kind": "tensor", "shape": (3000, 3000)},
            {"kind": "tensor", "shape": (2,), "missing": True},
            {"kind": "image", "size": (0, 4)},
            {"kind": "image", "channels": 2},
        ):
            self.assertRaises(PackageRefused, Field, "x", **attributes)


class Columns(unittest.TestCase):
    def setUp(self) -> None:
        body = {"rows": [{**GOOD, "at": "2026-01-01T10:00:00+01:00", "photo": text(png())}, {**GOOD, "track": [9]}]}
        self.columns = columns_from_rows(SCHEMA, ValidationPlan(SCHEMA).read_body(orjson.dumps(body)).rows)

    def test_they_survive_the_wire(self) -> None:
        entries, data = pack_columns(self.columns)
        back = unpack_columns(SCHEMA, 2, entries, data)
        self.assertEqual(np.asarray(back[0].values).tolist(), [1_767_258_000_000_000, GONE_TIME])
        self.assertEqual(back[1].values, [png(), None])
        np.testing.assert_array_equal(np.asarray(back[2].values)[0], [[1, 2], [3, 4.5]])
        self.assertEqual([value.tolist() for value in back[3].values], [[1, 2, 3], [9]])

    def test_a_frame_that_lies_about_them_is_refused(self) -> None:
        entries, data = pack_columns(self.columns)
        for column, lie in ((1, b"\xff\xff\xff\x7f" * 2), (3, b"\xff\xff\xff\xff" * 2), (3, b"\x00")):
            with self.subTest(column=column, lie=lie):
                start = sum(entry[0] + entry[1] for entry in entries[:column])
                size = entries[column][0]
                bent = [list(entry) for entry in entries]
                replaced = (lie + data[start + len(lie) : start + size])[:size] if len(lie) > 1 else lie
                bent[column][0] = len(replaced)
                self.assertRaises(WireError, unpack_columns, SCHEMA, 2, bent, data[:start] + replaced + data[start + size :])

    def test_code_gets_arrays_of_its_trade(self) -> None:
        by_name = dict(zip(SCHEMA.names, self.columns, strict=True))
        times = array_for_step(SCHEMA.fields[0], by_name["at"])
        self.assertEqual((str(times[0]), np.isnat(times[1])), ("2026-01-01T09:00:00.000000", True))
        pictures = array_for_step(SCHEMA.fields[1], by_name["photo"])
        self.assertEqual((pictures[0].shape, pictures[0].dtype, pictures[1]), ((3, 4, 3), np.uint8, None))
        self.assertEqual(array_for_step(SCHEMA.fields[3], by_name["track"]).dtype, object)
        with self.assertRaises(InvalidRows) as caught:
            array_for_step(SCHEMA.fields[1], columns_from_rows(Schema((SCHEMA.fields[1],)), [{"photo": png()[:45]}])[0])
        self.assertEqual(caught.exception.extra["faults"][0]["field"], "photo")

    def test_answers_may_be_times_and_tensors(self) -> None:
        answers = Schema((Field("due", "time", missing=True), Field("curve", "tensor", shape=(2,))))
        columns = [
            column_from_step(answers.fields[0], np.array(["2026-11-23T18:30", "NaT"], "datetime64[us]")),
            column_from_step(answers.fields[1], [[1, 2], [3, 4]]),
        ]
        self.assertEqual(
            answer_rows_from_columns(answers, columns, 2),
            [{"due": "2026-11-23T18:30:00Z", "curve": [1.0, 2.0]}, {"due": None, "curve": [3.0, 4.0]}],
        )
        for values in ([[1, 2, 3]], [["a", "b"]], [[1, 2], [1]]):
            self.assertRaises(ModelFault, column_from_step, answers.fields[1], values)
        broken = column_from_step(answers.fields[1], [[1, float("nan")]])
        self.assertRaisesRegex(
            ModelFault, "no finite number for curve in row 0", answer_rows_from_columns, Schema(answers.fields[1:]), [broken], 1
        )

    def test_instants_and_microseconds(self) -> None:
        self.assertEqual(to_microseconds(datetime(1970, 1, 1, 0, 0, 1, 5, tzinfo=UTC)), 1_000_005)
        self.assertEqual((format_instant(1_000_005), format_instant(-1)), ("1970-01-01T00:00:01.000005Z", "1969-12-31T23:59:59.999999Z"))


class Pictures(unittest.TestCase):
    def test_only_what_loses_no_colour_is_converted(self) -> None:
        for mode, channels, fits in (
            ("L", 1, True),
            ("L", 3, True),
            ("RGB", 1, False),
            ("RGBA", 4, True),
            ("RGBA", 3, False),
            ("P", 3, True),
        ):
            field = Field("p", "image", channels=channels)  # type: ignore[arg-type]
            with self.subTest(mode=mode, channels=channels):
                if fits:
                    check_header(field, png(mode))
                    self.assertEqual(decode_image(field, png(mode)).shape, (3, 4, channels))
                else:
                    self.assertRaises(BadImage, check_header, field, png(mode))

    def test_a_bomb_is_refused_by_its_header(self) -> None:
        header = png()
        for side in (5_000, 20_000):
            bomb = header[:16] + side.to_bytes(4, "big") * 2 + header[24:]
            with self.assertRaises(BadImage) as caught:
                check_header(Field("p", "image"), bomb)
            self.assertRegex(str(caught.exception), f"{MAX_PIXELS:,}|no whole header")

    def test_arrays_of_training_become_png(self) -> None:
        array = np.arange(36, dtype=np.uint8).reshape(3, 4, 3)
        np.testing.assert_array_equal(decode_image(Field("p", "image"), encode_png(array)), array)
        self.assertRaises(BadImage, encode_png, array.astype(float))


class Comparing(unittest.TestCase):
    def test_elements_of_tensors_are_held_to_the_tolerance(self) -> None:
        schema = Schema((Field("curve", "tensor", shape=(0,)),))
        proof = Proof([{}], [{"curve": [1.0, 2.0]}], Tolerance(1e-3, 0))
        self.assertTrue(compare_answers(schema, proof, [{"curve": [1.0005, 2.0]}]).passed)
        wrong = compare_answers(schema, proof, [{"curve": [1.0, 2.5]}])
        self.assertEqual(wrong.differences[0].sentence(), "row 0, curve[1]: training gave 2.0, this gives 2.5, off by 0.5")
        self.assertEqual(compare_answers(schema, proof, [{"curve": [1.0]}]).wrong_rows, 1)


class Privacy(unittest.TestCase):
    def test_private_fields_leave_what_is_kept(self) -> None:
        answers = Schema((Field("label", "text"), Field("letter", "text", private=True)))
        kept = RedactionPolicy(SCHEMA, OPTIONS, answers)
        self.assertEqual(
            kept.redact_request(b'{"rows":[{"account":"a","visits":1},{"visits":2}]}'), b'{"rows":[{"visits":1},{"visits":2}]}'
        )
        self.assertEqual(kept.redact_request(b'{"account":"a","visits":1,"options":{"head":"a"}}'), b'{"visits":1,"options":{"head":"a"}}')
        self.assertEqual(
            kept.redact_answer(b'{"answers":[{"label":"x","letter":"y"}],"version":"m@1"}'), b'{"answers":[{"label":"x"}],"version":"m@1"}'
        )
        self.assertIsNone(kept.redact_refused(b"{}"))
        open_ = RedactionPolicy(Schema((Field("x", "number"),)), None, Schema((Field("y", "number"),)))
        self.assertEqual((open_.keeps_everything, open_.redact_refused(b"{")), (True, b"{"))
