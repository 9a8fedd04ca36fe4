/** Moving through time: what becomes of the ribbon's range. Null is live. */
import type { Span } from "./scope";

const MINUTE = 60_000;
const SHORTEST = 10 * MINUTE;
const LONGEST = 400 * 24 * 60 * MINUTE;

const lengthOf = ({ start, end }: Span) => end - start;
const whole = (at: number) => Math.round(at / MINUTE) * MINUTE;

/** A range that would reach into the future is live instead. */
function untilNow(range: Span, now: number): Span | null {
  return range.end >= now ? null : range;
}

/** By its own length, back (−1) or forth (+1). */
export function stepped(range: Span, way: -1 | 1, now: number): Span | null {
  const by = way * lengthOf(range);
  return untilNow({ start: whole(range.start + by), end: whole(range.end + by) }, now);
}

/** Shorter (factor below 1) or longer, with one time staying where it is. */
export function zoomed(range: Span, factor: number, around: number, now: number): Span {
  const length = Math.max(SHORTEST, Math.min(LONGEST, lengthOf(range) * factor));
  const part = (around - range.start) / lengthOf(range);
  const start = whole(Math.min(around - length * part, now - length));
  return { start, end: start + whole(length) };
}

/** A time in the middle of a range of some length, or as near to it as now allows. */
export function centred(at: number, length: number, now: number): Span {
  const end = Math.min(whole(at + length / 2), Math.ceil(now / MINUTE) * MINUTE);
  return { start: end - whole(length), end };
}
