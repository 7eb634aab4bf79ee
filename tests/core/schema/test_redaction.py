import unittest

import orjson

from lamppost.core.schema.fields import Field, Schema
from lamppost.core.schema.redaction import RedactionPolicy

INPUTS = Schema((Field("account", "text", private=True, example="a"), Field("x", "number")))
OPTIONS = Schema((Field("secret", "text", private=True, example="s", default=""), Field("k", "number", default=1)))
ANSWERS = Schema((Field("label", "text"), Field("owner", "text", private=True, example="o")))


class Redaction(unittest.TestCase):
    policy = RedactionPolicy(INPUTS, OPTIONS, ANSWERS)

    def test_private_values_leave_every_form_of_a_request(self) -> None:
        row, bare = {"account": "a", "x": 1}, {"x": 1}
        for body, kept in (
            (row, bare),
            ({"rows": [row, row]}, {"rows": [bare, bare]}),
            ({"columns": {"account": ["a"], "x": [1]}}, {"columns": {"x": [1]}}),
            ({**row, "options": {"secret": "s", "k": 2}}, {**bare, "options": {"k": 2}}),
        ):
            self.assertEqual(orjson.loads(self.policy.redact_request(orjson.dumps(body))), kept)

    def test_private_values_leave_every_form_of_an_answer(self) -> None:
        row, bare = {"label": "fails", "owner": "o"}, {"label": "fails"}
        for body, kept in (
            ({"answer": row, "version": "m@1"}, {"answer": bare, "version": "m@1"}),
            ({"answers": [row]}, {"answers": [bare]}),
            ({"columns": {"label": ["fails"], "owner": ["o"]}}, {"columns": {"label": ["fails"]}}),
        ):
            self.assertEqual(orjson.loads(self.policy.redact_answer(orjson.dumps(body))), kept)

    def test_nothing_of_a_refused_request_is_kept_where_an_input_is_private(self) -> None:
        self.assertIsNone(self.policy.redact_refused(b'{"acount": "a"}'))
        open_policy = RedactionPolicy(Schema((Field("x", "number"),)), None, Schema((Field("y", "number"),)))
        self.assertTrue(open_policy.keeps_everything)
        self.assertEqual(open_policy.redact_refused(b"no json"), b"no json")
