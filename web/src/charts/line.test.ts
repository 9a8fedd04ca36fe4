import { expect, test } from "vitest";
import { lonely } from "./Line";

test("what has nothing known on either side is drawn by itself, at the edges too", () => {
  expect(lonely([1, null, 2, 3, null, 0, null])).toEqual([0, 5]);
  expect(lonely([1, 2, null, 4])).toEqual([3]);
  expect(lonely([null, null])).toEqual([]);
  expect(lonely([7])).toEqual([0]);
});
