import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  createLoader,
  createParser,
  createSerializer,
  type inferParserType,
  parseAsArrayOf,
  parseAsStringLiteral,
  useQueryStates,
} from "nuqs";
import { useCallback, useEffect, useRef } from "react";
import { client, type Schemas, take } from "../api/client";
import { useLine } from "./live";

/** A window of time, ms since 1970. */
export interface Span {
  start: number;
  end: number;
}

const stamp = (at: number) => new Date(at).toISOString().replace(".000Z", "Z");

/** `2026-03-04T09:15:00Z..2026-03-04T09:45:00Z` in the address. */
const asSpan = createParser<Span>({
  parse(text) {
    const [start, end] = text.split("..").map((part) => Date.parse(part));
    return start && end && end > start ? { start, end } : null;
  },
  serialize: (value) => `${stamp(value.start)}..${stamp(value.end)}`,
  eq: (a, b) => a.start === b.start && a.end === b.end,
});

const LENGTHS: Record<string, number> = { m: 60, h: 3600, d: 86_400 };

/** An empty name in a link means no name: everything. */
const asName = createParser<string>({ parse: (text) => text || null, serialize: (value) => value });

/** `last=2h`: a live range of another length than the usual one. */
const asLength = createParser<number>({
  parse(text) {
    const found = /^(\d{1,4})(m|h|d)$/.exec(text);
    return found ? Number(found[1]) * (LENGTHS[found[2] ?? ""] ?? 0) || null : null;
  },
  serialize: (seconds) => {
    const [unit, size] = Object.entries(LENGTHS).findLast(([, size]) => seconds % size === 0) ?? ["m", 60];
    return `${Math.round(seconds / size)}${unit}`;
  },
});

export const befores = ["day", "week"] as const;
export type Before = (typeof befores)[number];
/** Beside what is now, what was a day or a week before: of a view, and of the ribbon above it. */
export const besideState = { beside: parseAsArrayOf(parseAsStringLiteral(befores)).withDefault([]) };
const frameState = {
  range: asSpan,
  last: asLength,
  focus: asSpan,
  reference: asSpan,
  environment: asName,
  scope: asName,
};
export const inFrame = createSerializer(frameState);
export type Scope = inferParserType<typeof frameState>;
/** What an address says of it, before anything is drawn. */
export const scopeAt = createLoader({ ...frameState, ...besideState });

/** What the whole frame obeys, all of it in the address: range (absent: live, the last so much), windows, environment, named scope. */
export function useScope() {
  return useQueryStates(frameState, { history: "replace", shallow: true });
}

/** Of which part of everything the API is asked. */
export const within = ({ environment, scope }: { environment: string | null; scope: string | null }) => ({
  environment,
  scope,
});

export type Ribbon = Schemas["Ribbon"];

export interface Windows {
  focus: Span;
  reference: Span;
  /** Set by a person, not proposed. */
  chosen: boolean;
  /** The focus goes up to now. */
  open?: boolean;
}

export const spanOf = (window: Schemas["WindowOut"]): Span => ({
  start: Date.parse(window.start),
  end: Date.parse(window.end),
});

/** What a view shows that has a question of its own: an inquiry. The address comes before it. */
export interface Own {
  service: string | null;
  range: Span | null;
  windows: Windows | null;
}

const MINUTE = 60_000;

/** Windows where the server proposes none: the last half hour of the range, and the hour and a half before it. */
function unproposed(range: Span | null): Omit<Windows, "chosen"> {
  const end = Math.floor((range?.end ?? Date.now()) / MINUTE) * MINUTE;
  const middle = end - 30 * MINUTE;
  return { focus: { start: middle, end }, reference: { start: middle - 90 * MINUTE, end: middle } };
}

export const NOTHING_OWN: Own = { service: null, range: null, windows: null };

export function ribbonQuery(own: Own, scope: Scope, beside: Before[]) {
  const reach = { range: scope.range ?? own.range, last: scope.last };
  return {
    queryKey: ["ribbon", own.service, reach, within(scope), beside],
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      take(
        client.GET("/api/ribbon", {
          signal,
          params: { query: { ...rangeQuery(reach), service: own.service, ...within(scope), beside } },
        }),
      ),
  };
}

/** The windows in force: those in the address, else the view's own, else those proposed. */
export function windowsInForce(own: Own, scope: Scope, ribbon: Ribbon | undefined, failed: boolean): Windows | null {
  const range = scope.range ?? own.range;
  const { focus, reference } = scope;
  const proposed = ribbon ? { focus: spanOf(ribbon.focus), reference: spanOf(ribbon.reference) } : null;
  const given = focus && reference ? { focus, reference } : null;
  const base = own.windows ?? proposed ?? given ?? (failed ? unproposed(range) : null);
  return (
    base && {
      focus: focus ?? base.focus,
      reference: reference ?? base.reference,
      chosen: own.windows !== null || focus !== null || reference !== null,
      open: !range && !own.windows && !focus && ribbon?.until_now === true && ribbon.focus.end === ribbon.end,
    }
  );
}

/** The ribbon's signal, and the windows in force. */
export function useRibbon(own: Own) {
  const [scope] = useScope();
  const [{ beside }] = useQueryStates(besideState);
  const asked = ribbonQuery(own, scope, beside);
  const query = useQuery({ ...asked, placeholderData: keepPreviousData });
  const windows = windowsInForce(own, scope, query.data, query.error !== null);
  return { ribbon: query.data ?? null, windows, range: scope.range ?? own.range, query, queryKey: asked.queryKey };
}

/** What is drawn, as the API asks for it: a fixed range, or the last so much, or what the server finds fitting. */
export type Reach = { range: Span | null; last: number | null };

export function rangeQuery({ range, last }: Reach): { start?: string; end?: string; last_s?: number } {
  if (range) return { start: stamp(range.start), end: stamp(range.end) };
  return last ? { last_s: last } : {};
}

/** An end that is now is left out: all who follow it ask the same then, and the server answers them together. */
export function windowsQuery(windows: Windows) {
  return {
    focus_from: stamp(windows.focus.start),
    ...(windows.open ? {} : { focus_to: stamp(windows.focus.end) }),
    reference_from: stamp(windows.reference.start),
    reference_to: stamp(windows.reference.end),
  };
}

export const timesOf = (span: Span) => ({ start: stamp(span.start), end: stamp(span.end) });

const REFRESH_MS = 2000;

/** Refreshes what is shown when something was stored, while the page follows now. Returns whether the line is open. */
export function useLive(following: boolean): boolean {
  const queries = useQueryClient();
  const waiting = useRef<number>(undefined);
  const refresh = useCallback(() => {
    waiting.current ??= window.setTimeout(() => {
      waiting.current = undefined;
      for (const key of ["ribbon", "overview", "service"]) void queries.invalidateQueries({ queryKey: [key] });
    }, REFRESH_MS);
  }, [queries]);
  // A page that is held still stays as it is.
  useEffect(() => {
    if (following) return;
    window.clearTimeout(waiting.current);
    waiting.current = undefined;
  }, [following]);
  return useLine(following, refresh);
}
