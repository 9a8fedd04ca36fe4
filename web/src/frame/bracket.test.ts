import { expect, test } from "vitest";
import { labelOf, moved, placed } from "./Bracket";

const MINUTE = 60_000;
const span = { start: 10 * MINUTE, end: 20 * MINUTE };

test("an edge stays on whole minutes and never crosses the other", () => {
  expect(moved(span, "start", 31_000, 0, 60 * MINUTE)).toEqual({ start: 11 * MINUTE, end: 20 * MINUTE });
  expect(moved(span, "start", 50 * MINUTE, 0, 60 * MINUTE)).toEqual({ start: 19 * MINUTE, end: 20 * MINUTE });
  expect(moved(span, "end", -50 * MINUTE, 0, 60 * MINUTE)).toEqual({ start: 10 * MINUTE, end: 11 * MINUTE });
});

test("a window moved as a whole keeps its length and stays on the ribbon", () => {
  expect(moved(span, "whole", -30 * MINUTE, 0, 60 * MINUTE)).toEqual({ start: 0, end: 10 * MINUTE });
  expect(moved(span, "whole", 90 * MINUTE, 0, 60 * MINUTE)).toEqual({ start: 50 * MINUTE, end: 60 * MINUTE });
});

const labels = { focus: "focus 09:15 – 09:45", reference: "reference 07:43 – 09:13" };
const ends = (place: { x: number; text: string }) => place.x + place.text.length * 6.4;

test("labels stand at their windows where there is room", () => {
  const found = placed({ reference: 300, focus: 700 }, labels, 146, 1256);
  expect([found.reference.x, found.focus.x]).toEqual([302, 702]);
});

test.each([
  [900, 1000],
  [1180, 1230],
  [1250, 1255],
  [146, 150],
  [400, 380],
])("labels of windows at %i and %i px keep apart and inside", (reference, focus) => {
  const found = placed({ reference, focus }, labels, 146, 1256);
  const [left, right] = [found.reference, found.focus].sort((a, b) => a.x - b.x);
  expect(left && right && ends(left) < right.x).toBe(true);
  expect(Math.min(found.reference.x, found.focus.x)).toBeGreaterThanOrEqual(146);
  expect(Math.max(ends(found.reference), ends(found.focus))).toBeLessThanOrEqual(1256);
});

test("now is said only of now, and only while it is followed", () => {
  const now = Date.now();
  const focus = { start: now - 30 * MINUTE, end: now };
  expect(labelOf("focus", focus, true, now)).toMatch(/– now$/);
  expect(labelOf("focus", focus, false, now)).not.toMatch(/now/);
  expect(labelOf("focus", focus, true, now + 3 * 24 * 60 * MINUTE)).not.toMatch(/now/);
  expect(labelOf("reference", focus, true, now)).not.toMatch(/now/);
});
