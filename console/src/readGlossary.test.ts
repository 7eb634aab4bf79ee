import assert from "node:assert/strict";
import { test } from "node:test";
import { readGlossary } from "./readGlossary.js";

test("words, other words and words in brackets have their meaning", () => {
  const page =
    "# G\n\n| word | meaning |\n|---|---|\n| **lamp file** (package) | One `.lamp` file. |\n| **model**, **version** | A name. |\n";
  assert.deepEqual(Object.fromEntries(readGlossary(page)), {
    "lamp file": "One .lamp file.",
    package: "One .lamp file.",
    model: "A name.",
    version: "A name.",
  });
});
