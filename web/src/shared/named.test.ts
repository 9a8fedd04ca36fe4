import { expect, test } from "vitest";
import { toService } from "../views/places";
import { serviceOf } from "./named";

test.each(["shop", "team/checkout", "a/b?c=d#e&f=%2F%00", "50%25 off", "../etc", "שלום"])(
  "%s is named by its address",
  (name) => {
    expect(serviceOf(toService(name).pathname ?? "")).toBe(name);
  },
);

test("other addresses name none", () => {
  expect(["/", "/services", "/services/", "/traces/a", "/services/a/b", "/services/%"].map(serviceOf)).toEqual(
    Array(6).fill(null),
  );
});
