import { expect, test } from "vitest";
import { type EarlierLine, reachOf, valueThen } from "./Earlier";

const line: EarlierLine = {
  before: "day",
  name: "a day before",
  start: "2026-03-04T10:00:00Z",
  step_s: 600,
  values: [1, null, 3],
};

test("a value is that of the stretch in which the time lies, whatever its step", () => {
  const at = (time: string) => valueThen(line, Date.parse(`2026-03-04T${time}Z`));
  expect([at("10:00:00"), at("10:09:59"), at("10:10:00"), at("10:25:00")]).toEqual([1, 1, null, 3]);
  expect([at("09:59:59"), at("10:30:00")]).toEqual([null, null]);
});

test("an axis reaches as far as most of what was, not as far as a disturbance of then", () => {
  const values = [...Array.from({ length: 99 }, () => 2), null, 5000];
  expect(reachOf([{ ...line, values }])).toEqual([2]);
  expect(reachOf([{ ...line, values: [null] }])).toEqual([]);
});
