import { expect, test } from "vitest";
import { boxesOf, matching, placedLabels, type SpanRow, sizesBeneath } from "./spans";

const row = (index: number, start: number, duration: number, rest: Partial<SpanRow> = {}): SpanRow => ({
  index,
  span: `${index}`,
  depth: 0,
  start,
  duration,
  self: 0,
  onPath: false,
  isOrphan: false,
  moved: 0,
  events: 0,
  beneath: 0,
  service: "a",
  operation: "op",
  peer: null,
  kind: "server",
  outcome: "ok",
  channel: 0,
  ...rest,
});

test("what is beneath each row is counted, whatever the depth does", () => {
  expect(sizesBeneath([0, 1, 2, 2, 1, 0, 1])).toEqual([4, 2, 0, 0, 0, 1, 0]);
  expect(sizesBeneath([])).toEqual([]);
  // A cut list ends inside a tree.
  expect(sizesBeneath([0, 1, 2, 3])).toEqual([3, 2, 1, 0]);
});

test("many short spans side by side are one box that counts them, and one of them that failed is seen", () => {
  const many = Array.from({ length: 50_000 }, (_, n) =>
    row(n, n * 0.01, 0.01, { outcome: n === 777 ? "error" : "ok" }),
  );
  const boxes = boxesOf(many, (ms) => ms);
  expect(boxes).toHaveLength(1);
  expect(boxes[0]).toMatchObject({ count: 50_000, failed: true, from: 0 });
  expect(boxes[0]?.to).toBeCloseTo(501.49, 1);
});

test("what can be told apart keeps its own box", () => {
  const boxes = boxesOf(
    [row(0, 0, 100), row(1, 10, 20), row(2, 40, 20), row(3, 40, 20, { channel: 1 }), row(4, 40.1, 20)],
    (ms) => ms,
  );
  expect(boxes.map((box) => [box.first.index, box.count])).toEqual([
    [0, 1],
    [1, 1],
    [2, 2],
    [3, 1],
  ]);
});

test("spans are found by service, operation and peer", () => {
  const rows = [row(0, 0, 1), row(1, 0, 1, { peer: "Berth-DB" }), row(2, 0, 1, { operation: "SELECT berths" })];
  expect(matching(rows, "berth")).toEqual([1, 2]);
  expect(matching(rows, "  ")).toEqual([]);
});

test("of labels that would lie on each other the one of most weight is written, inside of the drawing", () => {
  const text = "5 × SELECT · one after another";
  const at = (middle: number, weight: number, channel = 0) => ({ channel, text, middle, weight });
  const placed = placedLabels([at(300, 1), at(340, 3), at(300, 1, 1), at(900, 2), at(10, 1)], 150, 800);
  expect(placed[0]).toBeNull();
  expect(placed.slice(1, 3)).toEqual([340, 300]);
  expect(placed[3]).toBeLessThan(800 - 80);
  expect(placed[4]).toBeNull(); // moved inside, it would lie on the second
});
