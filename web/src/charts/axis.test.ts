import { expect, test } from "vitest";
import { largest, logTicks, nothing } from "./axis";

test("a logarithmic axis has ticks at 1, 2 and 5", () => {
  expect(logTicks([0.004, 3], [])).toEqual([0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1, 2]);
});

test("a range too narrow for them gets those of a linear axis", () => {
  expect(logTicks([0.021, 0.034], [0.025, 0.03])).toEqual([0.025, 0.03]);
});

test("an axis of zeros ends at one, and no data is told from zeros", () => {
  expect(largest([0, null, 0])).toBe(1);
  expect(nothing([null, null], [null])).toBe(true);
  expect(nothing([null, 0])).toBe(false);
});
