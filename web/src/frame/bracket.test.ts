import { expect, test } from "vitest";
import { moved } from "./Ribbon";

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
