import { expect, test } from "vitest";
import { joined } from "./jump";
import { inFrame } from "./scope";

const at = (text: string) => Date.parse(text);
const FRAME = inFrame({
  environment: "production",
  focus: { start: at("2026-03-04T09:15:00Z"), end: at("2026-03-04T09:45:00Z") },
  last: 7200,
});

test("a view's own state stands beside the frame's, which wins", () => {
  const both = new URLSearchParams(joined("?service=berth-db&environment=staging", FRAME));
  expect(Object.fromEntries(both)).toEqual({
    service: "berth-db",
    environment: "production",
    focus: "2026-03-04T09:15:00Z..2026-03-04T09:45:00Z",
    last: "2h",
  });
});

test("an empty state leaves a bare path", () => {
  expect(joined(undefined, inFrame({}))).toBe("");
});
