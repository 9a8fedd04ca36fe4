import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { together } from "./ChangeMarks";

const at = (second: number) =>
  ({ id: String(second), at: new Date(second * 1000).toISOString() }) as Schemas["ChangeOut"];
const px = (time: number) => time / 1000; // a pixel a second

describe("marks that would hide each other", () => {
  it("stand alone while two are near, and are counted from three on", () => {
    expect(together([at(0), at(10), at(100)], px).map((group) => group.length)).toEqual([1, 1, 1]);
    expect(together([at(10), at(0), at(20), at(100)], px).map((group) => group.length)).toEqual([3, 1]);
  });
  it("make several numbers of a long row, and lose none", () => {
    const many = Array.from({ length: 30 }, (_, index) => at(index * 8));
    const groups = together(many, px);
    expect(groups.length).toBeGreaterThan(3);
    expect(groups.flat().length).toBe(30);
  });
});
