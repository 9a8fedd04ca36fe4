import { expect, test } from "vitest";
import { centred, stepped, zoomed } from "./travel";

const MINUTE = 60_000;
const NOW = 1000 * MINUTE;
const range = { start: 500 * MINUTE, end: 560 * MINUTE };

test("a step is as long as the range, and from the last one it leads to live", () => {
  expect(stepped(range, -1, NOW)).toEqual({ start: 440 * MINUTE, end: 500 * MINUTE });
  expect(stepped(range, 1, NOW)).toEqual({ start: 560 * MINUTE, end: 620 * MINUTE });
  expect(stepped({ start: 930 * MINUTE, end: 990 * MINUTE }, 1, NOW)).toBeNull();
});

test("zooming keeps the time under the pointer and never reaches into the future", () => {
  expect(zoomed(range, 0.5, 515 * MINUTE, NOW)).toEqual({ start: 507.5 * MINUTE + 0.5 * MINUTE, end: 538 * MINUTE });
  expect(zoomed(range, 100, 560 * MINUTE, NOW).end).toBeLessThanOrEqual(NOW);
  const least = zoomed(range, 0.001, 530 * MINUTE, NOW);
  expect(least.end - least.start).toBe(10 * MINUTE);
});

test("a time that is jumped to stands in the middle, as far as now allows", () => {
  expect(centred(530 * MINUTE, 60 * MINUTE, NOW)).toEqual(range);
  expect(centred(NOW, 60 * MINUTE, NOW)).toEqual({ start: 940 * MINUTE, end: NOW });
});
