import { type ScaleTime, scaleTime, scaleUtc } from "d3-scale";
import { useSyncExternalStore } from "react";

/** All times of day are shown, and read, in the browser's zone or in UTC: one switch for everything. */
export type Zone = "local" | "utc";

const KEPT = "wirbel.zone";
const listeners = new Set<() => void>();
let current: Zone = globalThis.localStorage?.getItem(KEPT) === "utc" ? "utc" : "local";

export const zone = (): Zone => current;

export function setZone(chosen: Zone): void {
  current = chosen;
  globalThis.localStorage?.setItem(KEPT, chosen);
  for (const listener of listeners) listener();
}

export function useZone(): Zone {
  return useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, zone);
}

/** `Intl` takes undefined as the browser's own. */
export const zoneName = (): string | undefined => (current === "utc" ? "UTC" : undefined);

/** Minutes ahead of UTC at a time: zones change with the season. */
export const offsetMinutes = (at: number): number => (current === "utc" ? 0 : -new Date(at).getTimezoneOffset());

/** The offset in words, such as +05:45. */
export function offset(at: number): string {
  const minutes = offsetMinutes(at);
  const two = (n: number) => String(Math.abs(n)).padStart(2, "0");
  return `${minutes < 0 ? "−" : "+"}${two(Math.trunc(minutes / 60))}:${two(minutes % 60)}`;
}

export interface Calendar {
  year: number;
  month: number; // 1 to 12
  day: number;
  hour: number;
  minute: number;
}

/** A calendar time in the zone as ms since 1970. */
export function atCalendar({ year, month, day, hour, minute }: Calendar): number {
  return current === "utc"
    ? Date.UTC(year, month - 1, day, hour, minute)
    : new Date(year, month - 1, day, hour, minute).getTime();
}

export function calendarOf(at: number): Calendar {
  const shifted = new Date(at + offsetMinutes(at) * 60_000);
  return {
    year: shifted.getUTCFullYear(),
    month: shifted.getUTCMonth() + 1,
    day: shifted.getUTCDate(),
    hour: shifted.getUTCHours(),
    minute: shifted.getUTCMinutes(),
  };
}

/** An axis of time whose ticks are round in the zone. */
export const timeScale = (domain: [number, number], range: [number, number]): ScaleTime<number, number> =>
  (current === "utc" ? scaleUtc : scaleTime)(domain, range);
