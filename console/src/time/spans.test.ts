import assert from "node:assert/strict";
import { test } from "node:test";
import { fixedOf, spanOf, spanUntil, timeSearch, withFixed } from "./spans.js";

const HOUR = 3_600_000;

test("a span is the address's where the page has it, else the usual one", () => {
  assert.equal(spanOf(new URLSearchParams("span=day"), ["hour", "day"], "hour"), "day");
  assert.equal(spanOf(new URLSearchParams("span=90+days"), ["hour", "day"], "hour"), "hour");
  assert.equal(spanOf(new URLSearchParams(), ["hour", "day"], "hour"), "hour");
});

test("a fixed part of the time goes into an address and comes back", () => {
  const fixed = { since: Date.UTC(2026, 10, 27, 8), until: Date.UTC(2026, 10, 27, 9) };
  const params = withFixed(new URLSearchParams("span=day&odd=3"), fixed);
  assert.equal(params.toString(), "span=day&odd=3&from=2026-11-27T08%3A00%3A00.000Z&to=2026-11-27T09%3A00%3A00.000Z");
  assert.deepEqual(fixedOf(params), fixed);
  assert.equal(withFixed(params, null).toString(), "span=day&odd=3");
});

test("a time that is backwards or no time leaves the page live", () => {
  assert.equal(fixedOf(new URLSearchParams("from=2026-11-27&to=2026-11-26")), null);
  assert.equal(fixedOf(new URLSearchParams("from=soon&to=later")), null);
});

test("only what says the time goes along to another view", () => {
  assert.equal(timeSearch(new URLSearchParams("odd=3&span=week&zone=utc&before=x")), "?span=week&zone=utc");
  assert.equal(timeSearch(new URLSearchParams("odd=3")), "");
});

test("a span ends at its moment", () => {
  assert.deepEqual(spanUntil("day", 100 * HOUR), { since: 76 * HOUR, until: 100 * HOUR });
});
