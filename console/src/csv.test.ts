import assert from "node:assert/strict";
import { test } from "node:test";
import { fileName, toCsv } from "./csv.js";

test("CSV quotes what needs quotes", () => {
  assert.equal(
    toCsv(
      ["time", "a,b"],
      [
        ["x", null],
        ['say "hi"', 2],
      ],
    ),
    'time,"a,b"\r\nx,\r\n"say ""hi""",2\r\n',
  );
});

test("a title becomes the name of a file", () => {
  assert.equal(fileName("How fast, ms (p99)"), "how-fast-ms-p99-");
});
