/** Every view's own state in the address, and how a link to it is written: one home, so that no view guesses another's words. */
import {
  createSerializer,
  type inferParserType,
  parseAsArrayOf,
  parseAsBoolean,
  parseAsFloat,
  parseAsInteger,
  parseAsIsoDateTime,
  parseAsString,
  parseAsStringLiteral,
} from "nuqs";
import type { Place } from "../frame/jump";
import { besideState } from "../frame/scope";
import { sorts } from "./service/arrange";

export const traceOrders = ["slowest", "fastest", "newest", "oldest"] as const;
export const outcomes = ["ok", "client error", "error"] as const;

export const tracesState = {
  service: parseAsString,
  operation: parseAsString,
  version: parseAsString,
  instance: parseAsString,
  outcome: parseAsStringLiteral(outcomes),
  status: parseAsInteger,
  slower: parseAsFloat,
  faster: parseAsFloat,
  carrying: parseAsArrayOf(parseAsString).withDefault([]),
  order: parseAsStringLiteral(traceOrders).withDefault("slowest"),
  window: parseAsStringLiteral(["focus", "reference"] as const).withDefault("focus"),
  split: parseAsString,
  values: parseAsInteger.withDefault(50),
  most: parseAsInteger.withDefault(100),
};
export type TracesState = inferParserType<typeof tracesState>;
export type TracesChange = { [Name in keyof TracesState]?: TracesState[Name] | null };
export const traceState = { span: parseAsString, against: parseAsString, at: parseAsInteger };
export const serviceState = {
  at: parseAsIsoDateTime,
  metric: parseAsString,
  by: parseAsString,
  rows: parseAsInteger,
  ...besideState,
};
export const servicesState = {
  filter: parseAsString,
  sort: parseAsStringLiteral(sorts).withDefault("health"),
  down: parseAsBoolean.withDefault(true),
  group: parseAsStringLiteral(["health", "sends"] as const),
};
export const disturbancesState = { most: parseAsInteger.withDefault(100) };
export const watchedStates = ["deviating", "paused", "learning", "chosen"] as const;
export const watchedState = {
  containing: parseAsString.withDefault(""),
  only: parseAsStringLiteral(watchedStates),
  series: parseAsInteger,
  budget: parseAsFloat,
  most: parseAsInteger.withDefault(100),
};
export type WatchedChange = {
  [Name in keyof inferParserType<typeof watchedState>]?: inferParserType<typeof watchedState>[Name] | null;
};
export const inquiriesState = { most: parseAsInteger.withDefault(100) };
export const changesState = { change: parseAsString, most: parseAsInteger.withDefault(100) };

const traces = createSerializer(tracesState);
const trace = createSerializer(traceState);

export const toTraces = (state: Partial<TracesState>): Place => ({
  pathname: "/traces",
  search: traces(state),
});

interface OneSpan {
  trace: string;
  span: string;
}

/** A trace from one of its spans, beside a normal one where one is known. */
export const toTrace = (of: OneSpan, normal?: OneSpan | null): Place => ({
  pathname: `/traces/${of.trace}`,
  search: trace({ span: of.span, against: normal ? `${normal.trace}:${normal.span}` : null }),
});

export const toService = (name: string): Place => ({ pathname: `/services/${encodeURIComponent(name)}` });

export const toDisturbance = (id: string): Place => ({ pathname: `/disturbances/${id}` });
