import { expect, test } from "vitest";
import { moved, visible } from "./tree";

//  0 ─ 1 ─ 2
//      └ 3
//    4
const nodes = [0, 1, 2, 2, 1].map((depth, index) => ({ index, depth }));

test("a closed row hides all that is beneath it, and no more", () => {
  expect(visible(nodes, new Set([1])).map((node) => node.index)).toEqual([0, 1, 4]);
  expect(visible(nodes, new Set([0])).map((node) => node.index)).toEqual([0]);
  expect(visible(nodes, new Set())).toEqual(nodes);
});

test.each([
  ["ArrowDown", 1, 2],
  ["ArrowUp", 0, 0],
  ["Home", 3, 0],
  ["End", 1, 4],
  ["ArrowRight", 1, 2],
  ["ArrowRight", 3, 3],
  ["ArrowLeft", 3, 1],
  ["ArrowLeft", 0, 0],
  ["Tab", 2, null],
])("%s from row %i", (key, at, expected) => {
  expect(moved(nodes, at, key)).toBe(expected);
});
