import { expect, test } from "vitest";
import type { Schemas } from "../../api/client";
import { title } from "./Inquiry";

const changes = [{ change: { id: "c", service: "oven-stock", version: "5.1" } }] as Schemas["InquiryView"]["changes"];

function candidate(entity: object): Schemas["CandidateOut"] {
  return { entity, mechanism: "slower-work", change: "c" } as Schemas["CandidateOut"];
}

test("a version stands with the service that it is of, not with the database that it calls", () => {
  expect(title(candidate({ name: "oven-stock", service: "oven-stock" }), { changes })).toBe(
    "oven-stock 5.1 is slower itself",
  );
  expect(title(candidate({ name: "oven-stock-1", service: "oven-stock" }), { changes })).toBe(
    "oven-stock-1 5.1 is slower itself",
  );
  expect(title(candidate({ name: "stock at pg.bakery", service: null }), { changes })).toBe(
    "stock at pg.bakery is slower itself",
  );
});
