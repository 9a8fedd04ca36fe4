/** Numbers and times as people read them. Only how they look is decided here; values come from the API. */
import type { Schemas } from "../api/client";
import { zoneName } from "./zone";

export function significant(value: number, digits = 3): string {
  if (value === 0) return "0";
  const size = Number(Math.abs(value).toPrecision(digits)); // 999.7 is 1000 in three digits
  if (size >= Math.min(1000, 10 ** digits))
    return Math.round(value)
      .toString()
      .replace(/\B(?=(\d{3})+$)/g, "\u202f");
  return value
    .toPrecision(digits)
    .replace(/(\.\d*?)0+(e|$)/, "$1$2")
    .replace(/\.(e|$)/, "$1")
    .replace("-", "−");
}

const missing = "–";
const NANOSECOND = 1e-9; // s; spans tell nothing finer, and sums only round beneath it

export function duration(seconds: number | null | undefined): string {
  if (seconds == null) return missing;
  const size = Math.abs(seconds);
  if (size >= 1) return `${significant(seconds)} s`;
  if (size < NANOSECOND) return "0 ms";
  if (size >= 0.001) return `${significant(seconds * 1000)} ms`;
  return `${significant(seconds * 1e6)} µs`;
}

const isSomething = (text: string): boolean => /[1-9]/.test(text);

/** A minus sign for a hyphen, but none before what rounds to nothing. */
const minus = (text: string): string => text.replace(/^-/, isSomething(text) ? "−" : "");

export function share(value: number | null | undefined): string {
  return value == null ? missing : minus(`${(value * 100).toFixed(Math.abs(value) >= 0.1 ? 1 : 2)} %`);
}

export function percent(value: number): string {
  // Rounded up to all of it only when it is all of it.
  if (value > 0.99 && value < 1) return "> 99 %";
  return minus(`${Math.round(value * 100)} %`);
}

export function rate(value: number | null | undefined): string {
  return value == null ? missing : significant(value);
}

type Bounds = { low: number | null; high: number | null };

/** 95 % bounds in words; a side that the sample is too small to bound is said to be open. */
export function interval({ low, high }: Bounds): string {
  if (low == null && high == null) return "too few requests for an interval";
  if (low == null) return `95 % interval up to ${duration(high)}`;
  if (high == null) return `95 % interval from ${duration(low)}, open above`;
  return `95 % interval ${duration(low)} to ${duration(high)}`;
}

type Figures = Schemas["Figures"];
type Percentile = Extract<keyof Figures, `p${number}`>;

/** What a percentile's figure says when pointed at: its interval, and the same of the reference. */
export function percentileTitle(row: { focus: Figures; reference: Figures }, name: Percentile): string {
  const bounds = `${name}_interval` as const;
  return `${interval(row.focus[bounds])}; reference ${duration(row.reference[name])}, ${interval(row.reference[bounds])}`;
}

export function signed(text: string, value: number): string {
  return value > 0 && isSomething(text) ? `+${text}` : text.replace("-", "−");
}

export function quantity(value: number, unit: string): string {
  if (unit === "s") return duration(value);
  if (unit === "share") return share(value);
  return `${significant(value)} ${unit}`;
}

/** Says values of a series, by its unit as OpenTelemetry writes it (UCUM). */
export function inUnit(unit: string): (value: number | null | undefined) => string {
  const plain = unit === "1" ? "share" : unit.replace(/\{.*\}/, "");
  return (value) => (value == null ? missing : quantity(value, plain));
}

type Form = "clock" | "seconds" | "day" | "shortDay";
const two = { hour: "2-digit", minute: "2-digit", hourCycle: "h23" } as const;
const FORMS: Record<Form, [string, Intl.DateTimeFormatOptions]> = {
  clock: ["en-GB", two],
  seconds: ["en-GB", { ...two, second: "2-digit" }],
  day: ["en-CA", { year: "numeric", month: "2-digit", day: "2-digit" }],
  shortDay: ["en-GB", { day: "numeric", month: "short" }],
};
const made = new Map<string, Intl.DateTimeFormat>();

function formatted(form: Form, at: number | string): string {
  const key = `${form} ${zoneName()}`;
  let format = made.get(key);
  if (!format) {
    const [language, options] = FORMS[form];
    format = new Intl.DateTimeFormat(language, { ...options, timeZone: zoneName() });
    made.set(key, format);
  }
  return format.format(new Date(at));
}

export const clock = (at: number | string): string => formatted("clock", at);
export const clockSeconds = (at: number | string): string => formatted("seconds", at);
export const day = (at: number | string): string => formatted("day", at);
/** The time of day, with seconds between whole minutes; at midnight the day that begins, so that an axis over days can be read. */
export function clockOrDay(at: number): string {
  if (at % 60_000) return clockSeconds(at);
  return clock(at) === "00:00" ? shortDay(at) : clock(at);
}
export const shortDay = (at: number | string): string => formatted("shortDay", at);
export const shortDayAndClock = (at: number | string): string => `${shortDay(at)} ${clock(at)}`;
export const dayAndClock = (at: number | string): string => `${day(at)} ${clockSeconds(at)}`;

/** A time with seconds, and its day if that is not today's. */
export const moment = (at: number | string): string =>
  day(at) === day(Date.now()) ? clockSeconds(at) : dayAndClock(at);

/** The same to the minute, where nothing is known more exactly. */
export const minute = (at: number | string): string => (day(at) === day(Date.now()) ? clock(at) : shortDayAndClock(at));

/** A window in words; with the day if it is not today's, with both where it spans some. */
export function between({ start, end }: { start: number; end: number }): string {
  if (day(start) !== day(end)) return `${shortDayAndClock(start)} – ${shortDayAndClock(end)}`;
  const times = `${clock(start)} – ${clock(end)}`;
  return day(start) === day(Date.now()) ? times : `${shortDay(start)} ${times}`;
}

/** Sizes in decimal units. */
export function bytes(value: number): string {
  const units = ["B", "kB", "MB", "GB", "TB"];
  const step = value < 1 ? 0 : Math.min(units.length - 1, Math.floor(Math.log10(value) / 3));
  return `${significant(value / 1000 ** step)} ${units[step]}`;
}

export function span(seconds: number): string {
  const size = Math.abs(seconds);
  if (size < 90) return `${Math.round(size)} s`;
  if (size < 5400) return `${Math.round(size / 60)} min`;
  if (size < 48 * 3600) return `${significant(size / 3600, 2)} h`;
  return `${significant(size / 86400, 2)} d`;
}

/** How long ago something was, in words. */
export function age(at: string, now: number): string {
  return span(Math.max(0, (now - Date.parse(at)) / 1000));
}
