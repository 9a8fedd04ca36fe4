import { atCalendar, type Calendar, calendarOf } from "./zone";

const MINUTE = 60_000;
const DAY_MS = 24 * 60 * MINUTE;
const UNITS: Record<string, number> = { m: MINUTE, h: 60 * MINUTE, d: DAY_MS, w: 7 * DAY_MS };
const CLOCK = /^(\d{1,2}):(\d\d)$/;
const DAY = /^(\d{4})-(\d\d)-(\d\d)$/;
const BEFORE = /^-?\s*(\d{1,5})\s*(m|min|h|d|w)(\s+ago)?$/;

/** What a person typed: a time, or a stretch of time; ms since 1970. */
export type Entered = { at: number } | { start: number; end: number };

/**
 * Reads a time as people write it, in the zone that is shown: `14:05`, `yesterday 14:05`, `2026-11-24 03:10`,
 * `2026-11-24`, `-2h`, `90 min ago`; or a stretch, `14:05 – 15:00`. Null if it is none of these.
 */
export function readTime(text: string, now: number): Entered | null {
  const trimmed = text.trim().toLowerCase().replace("t", trimmedT);
  const ends = trimmed.split(/\s*(?:–|—|\.\.|\bto\b|\s-\s)\s*/);
  const [first, second] = ends;
  if (first === undefined || ends.length > 2) return null;
  const start = moment(first, now);
  if (start === null) return null;
  if (second === undefined) return { at: start };
  const day = calendarOf(start);
  const end = CLOCK.test(second) ? onDay(second, day) : moment(second, now);
  return end !== null && end > start ? { start, end } : null;
}

/** The T between date and time, as in RFC 3339, is a blank; elsewhere it belongs to a word. */
function trimmedT(letter: string, place: number, whole: string): string {
  return /\d/.test(whole[place - 1] ?? "") && /\d/.test(whole[place + 1] ?? "") ? " " : letter;
}

function moment(text: string, now: number): number | null {
  if (text === "now") return now;
  const before = BEFORE.exec(text);
  if (before && (text.startsWith("-") || before[3]))
    return now - Number(before[1]) * (UNITS[before[2]?.[0] ?? ""] ?? 0);
  const today = calendarOf(now);
  const words = text.split(/\s+/);
  const [day, clock] = words;
  if (day === undefined || words.length > 2) return null;
  if (clock === undefined && CLOCK.test(day)) {
    const at = onDay(day, today);
    // A time of day that has not come yet was yesterday's.
    return at !== null && at > now ? onDay(day, calendarOf(now - DAY_MS)) : at;
  }
  const date = day === "today" ? today : day === "yesterday" ? calendarOf(now - DAY_MS) : dateOf(day);
  return date && onDay(clock ?? "00:00", date);
}

function dateOf(text: string): Calendar | null {
  const found = DAY.exec(text);
  if (!found) return null;
  const [year, month, day] = found.slice(1).map(Number) as [number, number, number];
  const given = { year, month, day, hour: 0, minute: 0 };
  const read = calendarOf(atCalendar({ ...given, hour: 12 }));
  return read.day === day && read.month === month ? given : null; // 31 February is none
}

function onDay(clock: string, date: Calendar): number | null {
  const found = CLOCK.exec(clock);
  if (!found) return null;
  const [hour, minute] = [Number(found[1]), Number(found[2])];
  return hour < 24 && minute < 60 ? atCalendar({ ...date, hour, minute }) : null;
}
