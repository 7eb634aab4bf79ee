"""Frames on their way to an endpoint."""

import unittest

import pandas as pd
import pyarrow as pa

from lamppost.client.frames import as_pandas, frame_to_arrow
from lamppost.core.errors import BadRequest


class Frames(unittest.TestCase):
    def sent(self, frame: pd.DataFrame, **kinds: str) -> pa.Table:
        fields = [{"name": name, "kind": kind} for name, kind in kinds.items()]
        return pa.ipc.open_stream(frame_to_arrow(frame, fields)).read_all()

    def test_categories_that_are_numbers_go_as_numbers(self) -> None:
        frame = pd.DataFrame(
            {"zone": pd.Categorical([1, None, 3]), "lit": pd.Categorical([True, False, True]), "kind": pd.Categorical(list("aba"))}
        )
        sent = self.sent(frame, zone="integer", lit="yes/no", kind="choice")
        self.assertEqual([str(kind) for kind in sent.schema.types[:2]], ["int64", "bool"])
        self.assertEqual(sent.column("zone").to_pylist(), [1, None, 3])
        self.assertEqual(sent.column("kind").to_pylist(), ["a", "b", "a"])

    def test_whole_numbers_of_an_arrow_table_stay_whole_where_some_are_missing(self) -> None:
        large = 2**53 + 1
        frame = as_pandas(pa.table({"lamp": [large, None], "extra": ["x", "y"]}))
        sent = self.sent(frame, lamp="integer")
        self.assertEqual((sent.column_names, sent.column("lamp").to_pylist()), (["lamp"], [large, None]))

    def test_what_is_no_frame_is_refused(self) -> None:
        with self.assertRaisesRegex(BadRequest, "list is no frame; give one of pandas or polars, or an Arrow table"):
            as_pandas([1, 2])
