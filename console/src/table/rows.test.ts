import assert from "node:assert/strict";
import { test } from "node:test";
import { compareCells, nextRow } from "./rows.js";

test("numbers sort by size, texts by the numbers in them, and what is missing comes last", () => {
  assert.deepEqual([10, 9, null, -1].sort(compareCells), [-1, 9, 10, null]);
  assert.deepEqual(["lamp@10", "Lamp@9", "", "lamp@1"].sort(compareCells), ["", "lamp@1", "Lamp@9", "lamp@10"]);
  assert.deepEqual([undefined, 2, Number.NaN, 1].sort(compareCells), [1, 2, Number.NaN, undefined]);
  assert.deepEqual([true, false].sort(compareCells), [false, true]);
});

test("keys move among the rows and stop at their ends", () => {
  assert.equal(nextRow("ArrowDown", 0, 3), 1);
  assert.equal(nextRow("ArrowDown", 2, 3), 2);
  assert.equal(nextRow("PageUp", 5, 30), 0);
  assert.equal(nextRow("End", 0, 100_000), 99_999);
  assert.equal(nextRow("a", 0, 3), null);
  assert.equal(nextRow("Home", 0, 0), null);
});
