import { expect, test } from "vitest";
import { largest, logTicks, nothing, topOf } from "./axis";

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

test("a band that is wide where nothing was seen does not flatten the line", () => {
  expect(topOf([0.1, 0.2, null], [0.3, 0.25, 40])).toBeCloseTo(0.32);
  expect(topOf([0.1, 0.2], [0.15, 0.22])).toBe(0.22);
  expect(topOf([null, null], [0.3, 40])).toBe(40);
});
