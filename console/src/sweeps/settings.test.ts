import assert from "node:assert/strict";
import { test } from "node:test";
import { limitOf, withLimit } from "./settings.js";

test("a limit is read with its number", () => {
  assert.equal(limitOf(["memory=300MB", "p99=12.5ms"], "p99"), 12.5);
  assert.equal(limitOf(["memory=300MB"], "p99"), null);
  assert.equal(limitOf(["p99=soon"], "p99"), null);
});

test("a limit replaces the one of its figure only", () => {
  assert.deepEqual(withLimit(["p99=50ms", "memory=300MB"], "p99", 20.004, "ms"), ["memory=300MB", "p99=20ms"]);
  assert.deepEqual(withLimit(["p99=50ms"], "p99", null, "ms"), []);
});
