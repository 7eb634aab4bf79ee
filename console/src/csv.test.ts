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

test("a text that a spreadsheet would run is none any more", () => {
  const cells = ["=1+1", "+cmd", "-2+3", "@sum(a1)", "\tx", "-2.5", "a=1"];
  assert.equal(toCsv(["-head"], [[...cells, -3]]), "'-head\r\n'=1+1,'+cmd,'-2+3,'@sum(a1),'\tx,-2.5,a=1,-3\r\n");
});

test("a title becomes the name of a file", () => {
  assert.equal(fileName("How fast, ms (p99)"), "how-fast-ms-p99-");
});
