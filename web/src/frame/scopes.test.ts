import { expect, test } from "vitest";
import { type NamedScope, named, patternsOf, textOf } from "./scopes";

test("patterns are read from lines and commas, and written a line each", () => {
  expect(patternsOf(" berth-*, pay\n\n  *-api ,")).toEqual(["berth-*", "pay", "*-api"]);
  expect(patternsOf(textOf(["a*", "b?"]))).toEqual(["a*", "b?"]);
  expect(patternsOf("  \n,")).toEqual([]);
});

test("a scope is found whatever the case of its name", () => {
  const scopes = [{ name: "Berths" }, { name: "Pay" }] as NamedScope[];
  expect(named(scopes, "berths")?.name).toBe("Berths");
  expect(named(scopes, "berth")).toBeUndefined();
  expect(named(scopes, null)).toBeUndefined();
});
