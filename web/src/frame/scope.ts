import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { createParser, useQueryStates } from "nuqs";
import { useEffect, useState } from "react";
import { client, type Schemas, take } from "../api/client";

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

/** An empty name in a link means no name: everything. */
const asName = createParser<string>({ parse: (text) => text || null, serialize: (value) => value });

/** What the whole frame obeys, all of it in the address: range (absent: follow now), windows, environment. */
export function useScope() {
  return useQueryStates(
    { range: asSpan, focus: asSpan, reference: asSpan, environment: asName },
    { history: "replace", shallow: true },
  );
}

export type Ribbon = Schemas["Ribbon"];

export interface Windows {
  focus: Span;
  reference: Span;
  /** Set by a person, not proposed. */
  chosen: boolean;
}

export const spanOf = (window: Schemas["WindowOut"]): Span => ({
  start: Date.parse(window.start),
  end: Date.parse(window.end),
});

/** The ribbon's signal, and the windows in force: those in the address, else those proposed. */
export function useRibbon(service: string | null) {
  const [scope] = useScope();
  const query = useQuery({
    queryKey: ["ribbon", service, scope.range, scope.environment],
    queryFn: () =>
      take(
        client.GET("/api/ribbon", {
          params: { query: { ...rangeQuery(scope.range), service, environment: scope.environment } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const windows: Windows | null = query.data
    ? {
        focus: scope.focus ?? spanOf(query.data.focus),
        reference: scope.reference ?? spanOf(query.data.reference),
        chosen: scope.focus !== null || scope.reference !== null,
      }
    : null;
  return { ribbon: query.data, windows, error: query.error };
}

export function rangeQuery(range: Span | null): { start?: string; end?: string } {
  return range ? { start: stamp(range.start), end: stamp(range.end) } : {};
}

export function windowsQuery(windows: Windows) {
  return {
    focus_from: stamp(windows.focus.start),
    focus_to: stamp(windows.focus.end),
    reference_from: stamp(windows.reference.start),
    reference_to: stamp(windows.reference.end),
  };
}

export const timesOf = (span: Span) => ({ start: stamp(span.start), end: stamp(span.end) });

const REFRESH_MS = 2000;
const FALLBACK_MS = 15000;

/** Refreshes what is shown when something was stored, while the page follows now. Returns whether the line is open. */
export function useLive(following: boolean): boolean {
  const queries = useQueryClient();
  const [open, setOpen] = useState(false);
  useEffect(() => {
    if (!following) return;
    let waiting: number | undefined;
    const refresh = () => {
      waiting ??= window.setTimeout(() => {
        waiting = undefined;
        for (const key of ["ribbon", "overview", "service"]) void queries.invalidateQueries({ queryKey: [key] });
      }, REFRESH_MS);
    };
    const source = new EventSource("/api/live");
    source.addEventListener("open", () => setOpen(true));
    source.addEventListener("error", () => setOpen(false));
    source.addEventListener("stored", refresh);
    const fallback = window.setInterval(refresh, FALLBACK_MS);
    return () => {
      source.close();
      window.clearInterval(fallback);
      window.clearTimeout(waiting);
    };
  }, [following, queries]);
  return open && following;
}
