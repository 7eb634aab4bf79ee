import assert from "node:assert/strict";
import { test } from "node:test";
import {
  alignSeries,
  binEnds,
  distinctMarks,
  nearestIndex,
  nearestPoint,
  nextReading,
  niceTop,
  placeMarks,
  spanWithData,
  spreadLabels,
  tickTexts,
} from "./layout.js";

test("the top of an axis is the next round number", () => {
  assert.deepEqual([0, 0.3, 1, 17, 41, 99, 100.05].map(niceTop), [1, 0.4, 1, 20, 50, 100, 100]);
});

test("labels that lie over each other are spread around their wishes, inside the plot", () => {
  assert.deepEqual(spreadLabels([50, 20], 12, 0, 100), [50, 20]);
  assert.deepEqual(
    spreadLabels([50, 50, 52], 12, 0, 100).map((y) => Math.round(y * 10) / 10),
    [38.7, 50.7, 62.7],
  );
  assert.deepEqual(spreadLabels([99, 98], 12, 0, 100), [100, 88]);
  assert.deepEqual(spreadLabels([0, 2, 4], 12, 0, 100), [0, 12, 24]);
});

test("no two labels are nearer than their height where there is room", () => {
  for (let round = 0; round < 200; round++) {
    const wishes = Array.from({ length: 1 + (round % 6) }, (_, at) => (round * 7919 + at * 104729) % 100);
    const places = [...spreadLabels(wishes, 12, 0, 100)].sort((a, b) => a - b);
    for (let at = 1; at < places.length; at++) assert.ok(places[at]! - places[at - 1]! >= 12 - 1e-6, `${wishes}`);
    assert.ok(places[0]! >= -1e-6 && places[places.length - 1]! <= 100 + 1e-6);
  }
});

test("names of marks take the first row with room, and none where there is none", () => {
  const placed = placeMarks(
    [
      { mark: "b", x: 30, width: 60 },
      { mark: "a", x: 0, width: 60 },
      { mark: "c", x: 40, width: 60 },
    ],
    2,
    400,
  );
  assert.deepEqual(
    placed.map(({ mark, row }) => [mark, row]),
    [
      ["a", 0],
      ["b", 1],
      ["c", -1],
    ],
  );
  assert.deepEqual(
    placeMarks([{ mark: "end", x: 390, width: 60 }], 1, 400).map(({ x, row }) => [x, row]),
    [[340, 0]],
  );
});

test("series share an axis, and a gap is a gap", () => {
  const aligned = alignSeries(
    [
      [
        { at: 0, value: 1 },
        { at: 10, value: 2 },
        { at: 40, value: 3 },
      ],
      [{ at: 10, value: 9 }],
    ],
    16,
  );
  assert.deepEqual(aligned.times, [0, 10, 18, 40]);
  assert.deepEqual(aligned.values, [
    [1, 2, null, 3],
    [null, 9, null, null],
  ]);
});

test("the nearest moment is found within a distance", () => {
  assert.deepEqual(
    [nearestIndex([0, 10, 20], 14), nearestIndex([0, 10, 20], 16), nearestIndex([0, 10, 20], 99, 5), nearestIndex([], 1)],
    [1, 2, -1, -1],
  );
});

test("keys go from reading to reading and stay inside", () => {
  assert.deepEqual(
    ["ArrowLeft", "ArrowRight", "Home", "End", "Escape", "a"].map((key) => nextReading(key, -1, 3)),
    [2, 0, 0, 2, -1, undefined],
  );
  assert.deepEqual([nextReading("ArrowLeft", 0, 3), nextReading("ArrowRight", 2, 3), nextReading("End", 0, 0)], [0, 2, undefined]);
});

test("a span that is mostly empty begins shortly before its data", () => {
  assert.deepEqual(spanWithData([3_540, 3_600], 0, 3_600), { since: 3_532.5, until: 3_600 });
  assert.deepEqual(spanWithData([100, 3_600], 0, 3_600), { since: 0, until: 3_600 });
  assert.deepEqual(spanWithData([], 0, 3_600), { since: 0, until: 3_600 });
  assert.deepEqual(spanWithData([3_540], 0, 3_600, 600), { since: 3_000, until: 3_600 });
});

test("what is said twice in a row is marked once", () => {
  assert.deepEqual(
    distinctMarks([{ name: "a" }, { name: "a" }, { name: "b" }, { name: "a" }]).map((mark) => mark.name),
    ["a", "b", "a"],
  );
});

test("ticks have as many decimals as tell them apart", () => {
  assert.deepEqual(tickTexts([220, 222.5, 225]), ["220.0", "222.5", "225.0"]);
  assert.deepEqual(tickTexts([0, 50, 100]), ["0", "50", "100"]);
  assert.deepEqual(tickTexts([0, 0.02, 0.04]), ["0.00", "0.02", "0.04"]);
});

test("the nearest point is read, and none that is far away", () => {
  const points = [
    { x: 0, y: 0 },
    { x: 10, y: 0 },
    { x: 100, y: 100 },
  ];
  assert.equal(nearestPoint(points, 7, 2), 1);
  assert.equal(nearestPoint(points, 50, 50), -1);
  assert.equal(nearestPoint([], 0, 0), -1);
});

test("bins end where training did, unless a bin lies beyond it", () => {
  assert.deepEqual(binEnds([1, 2, 3], [0, 10]), [0, 1, 2, 3, 10]);
  assert.deepEqual(binEnds([-5, 2, 30], [0, 10]), [-5, -5, 2, 30, 30]);
  assert.deepEqual(binEnds([], null), [0, 1]);
});
