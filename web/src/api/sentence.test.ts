import { expect, test } from "vitest";
import { asSentence } from "./sentence";

test("what the server says is a sentence", () => {
  expect(asSentence("a scope needs a name")).toBe("A scope needs a name.");
  expect(asSentence("Wirbel does not answer. Is the server running?")).toBe(
    "Wirbel does not answer. Is the server running?",
  );
  expect(asSentence("100 series are watched already; delete one first")).toBe(
    "100 series are watched already; delete one first.",
  );
});
