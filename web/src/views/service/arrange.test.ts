import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { arranged } from "./arrange";

const figures = (rate: number, p95: number | null) => ({ requests: 10, rate, failed_share: 0, p95 });
const row = (service: string, health: string | null, rate = 1, p95: number | null = 0.1): Schemas["ServiceRow"] => ({
  service,
  sends: health ? ["traces"] : ["metrics"],
  newest: "2026-03-04T09:15:00Z",
  health,
  since: null,
  focus: health ? figures(rate, p95) : null,
  reference: health ? figures(rate, p95) : null,
});
const rows = [
  row("agent", null),
  row("berth", "steady", 5),
  row("gate", "failing", 1, null),
  row("quay", "slow", 9, 2),
];
const names = (given: ReturnType<typeof arranged>) =>
  given.map((line) => line.row?.service ?? `${line.group} ${line.count}`);
const usual = { filter: null, sort: "health", down: true, group: null } as const;

test("the worst come first, and what serves nobody last", () => {
  expect(names(arranged(rows, usual))).toEqual(["gate", "quay", "berth", "agent"]);
});

test("they are sorted by what is known, both ways", () => {
  expect(names(arranged(rows, { ...usual, sort: "p95" }))).toEqual(["quay", "berth", "agent", "gate"]);
  expect(names(arranged(rows, { ...usual, sort: "name", down: false }))).toEqual(["agent", "berth", "gate", "quay"]);
});

test("a filter is a part of the name, whatever its case", () => {
  expect(names(arranged(rows, { ...usual, filter: "AT" }))).toEqual(["gate"]);
});

test("groups have headings with their number", () => {
  expect(names(arranged(rows, { ...usual, group: "sends" }))).toEqual([
    "traces 3",
    "gate",
    "quay",
    "berth",
    "metrics 1",
    "agent",
  ]);
});
