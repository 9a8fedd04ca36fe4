import { afterEach, describe, expect, test } from "vitest";
import { readTime } from "./timeEntry";
import { setZone } from "./zone";

const NOW = Date.parse("2026-11-26T10:00:00Z");
const at = (text: string) => Date.parse(text);

afterEach(() => setZone("local"));

describe("in UTC", () => {
  test.each([
    ["09:05", "2026-11-26T09:05:00Z"],
    ["14:05", "2026-11-25T14:05:00Z"], // has not come yet today
    ["today 14:05", "2026-11-26T14:05:00Z"],
    ["yesterday 14:05", "2026-11-25T14:05:00Z"],
    ["Yesterday", "2026-11-25T00:00:00Z"],
    ["2026-11-24 03:10", "2026-11-24T03:10:00Z"],
    ["2026-11-24T03:10", "2026-11-24T03:10:00Z"],
    ["2026-11-24", "2026-11-24T00:00:00Z"],
    ["-2h", "2026-11-26T08:00:00Z"],
    ["-90m", "2026-11-26T08:30:00Z"],
    ["90 min ago", "2026-11-26T08:30:00Z"],
    ["-1w", "2026-11-19T10:00:00Z"],
    ["now", "2026-11-26T10:00:00Z"],
  ])("%s", (text, expected) => {
    setZone("utc");
    expect(readTime(text, NOW)).toEqual({ at: at(expected) });
  });

  test.each(["09:05 – 09:40", "09:05..09:40", "09:05 to 09:40", "2026-11-26 09:05 - 2026-11-26 09:40"])(
    "%s",
    (text) => {
      setZone("utc");
      expect(readTime(text, NOW)).toEqual({ start: at("2026-11-26T09:05:00Z"), end: at("2026-11-26T09:40:00Z") });
    },
  );
});

test.each(["", "soon", "25:00", "10:75", "2026-02-31", "11/24/2026", "2h", "09:40 – 09:05", "1 2 3"])(
  "%j is no time",
  (text) => expect(readTime(text, NOW)).toBeNull(),
);

test("times of day are of the browser's zone, or of UTC where that was chosen", () => {
  const local = new Date(2026, 10, 24, 3, 10).getTime();
  expect(readTime("2026-11-24 03:10", NOW)).toEqual({ at: local });
});
