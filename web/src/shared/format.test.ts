import { expect, test } from "vitest";
import { duration, share, signed, significant, span } from "./format";

test("three significant digits without trailing zeros", () => {
  expect(significant(1.9182)).toBe("1.92");
  expect(significant(370)).toBe("370");
  expect(significant(5)).toBe("5");
  expect(significant(0.05)).toBe("0.05");
  expect(significant(9480.4)).toBe("9\u202f480");
  expect(significant(999.7)).toBe("1\u202f000");
});

test("a duration takes the unit that fits, and a missing one is not zero", () => {
  expect(duration(1.92)).toBe("1.92 s");
  expect(duration(0.0221)).toBe("22.1 ms");
  expect(duration(0.0000123)).toBe("12.3 µs");
  expect(duration(0)).toBe("0 ms");
  expect(duration(-4.2e-17)).toBe("0 ms");
  expect(duration(-0.00014)).toBe("−140 µs");
  expect(duration(null)).toBe("–");
});

test("a difference has its sign, unless it is none", () => {
  expect(signed(duration(0.0368), 0.0368)).toBe("+36.8 ms");
  expect(signed(duration(-0.000139), -0.000139)).toBe("−139 µs");
  expect(signed(duration(3.4e-10), 3.4e-10)).toBe("0 ms");
});

test("shares and spans of time", () => {
  expect(share(0.0031)).toBe("0.31 %");
  expect(share(0.96)).toBe("96.0 %");
  expect(share(-0.0021)).toBe("−0.21 %");
  expect(share(-1e-9)).toBe("0.00 %");
  expect(span(80)).toBe("80 s");
  expect(span(1500)).toBe("25 min");
});
