import { expect, test } from "vitest";
import { ageOfFigures, noteAge } from "./age";

const answer = (age?: number) => new Response("{}", { headers: age === undefined ? {} : { Age: `${age}` } });

test("the oldest answer of the last seconds is told, and forgotten after them", () => {
  noteAge(answer(9), 1_000);
  noteAge(answer(), 2_000);
  expect(ageOfFigures(3_000)).toBe(9);
  expect(ageOfFigures(7_000)).toBe(0);
  noteAge(answer(2), 8_000);
  expect(ageOfFigures(8_500)).toBe(2);
  noteAge(answer(), 20_000);
  expect(ageOfFigures(20_000)).toBe(0);
});
