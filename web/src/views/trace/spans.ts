import type { Schemas } from "../../api/client";

type View = Schemas["TraceView"];

type Alike = Schemas["AlikeOut"];

/** One span of a trace as it is listed and drawn; all that was sent about it is asked for by its id. */
export interface SpanRow extends Alike {
  index: number;
  span: string;
  depth: number;
  start: number;
  duration: number;
  self: number;
  onPath: boolean;
  isOrphan: boolean;
  /** By how much it is drawn later than was sent, ms: clocks disagree. */
  moved: number;
  events: number;
  /** How many of the next rows are beneath it. */
  beneath: number;
}

/** The columns of the API as rows; times in ms. */
export function rowsOf({ spans }: View): SpanRow[] {
  const beneath = sizesBeneath(spans.depth);
  const rows = spans.span.map((span, index): SpanRow => {
    const alike = spans.alike[spans.of[index] ?? 0] as Alike;
    return {
      ...alike,
      index,
      span,
      depth: spans.depth[index] ?? 0,
      start: spans.start_ms[index] ?? 0,
      duration: spans.duration_ms[index] ?? 0,
      self: spans.self_ms[index] ?? 0,
      onPath: false,
      isOrphan: false,
      moved: 0,
      events: spans.events[index] ?? 0,
      beneath: beneath[index] ?? 0,
    };
  });
  for (const index of spans.on_path) (rows[index] as SpanRow).onPath = true;
  for (const index of spans.missing_parent) (rows[index] as SpanRow).isOrphan = true;
  spans.moved.forEach((index, n) => {
    (rows[index] as SpanRow).moved = spans.moved_ms[n] ?? 0;
  });
  return rows;
}

/** Of rows in order with their depths, parents before children: how many of those after each are beneath it. */
export function sizesBeneath(depth: readonly number[]): number[] {
  const found = new Array<number>(depth.length).fill(0);
  const open: number[] = [];
  const close = (end: number, from: number) => {
    while (open.length && (depth[open.at(-1) ?? 0] ?? 0) >= from) {
      const row = open.pop() ?? 0;
      found[row] = end - row - 1;
    }
  };
  depth.forEach((level, row) => {
    close(row, level);
    open.push(row);
  });
  close(depth.length, Number.NEGATIVE_INFINITY);
  return found;
}

/** Rows that hold the words in their service, operation or whom they call. */
export function matching(rows: readonly SpanRow[], wanted: string): number[] {
  const words = wanted.trim().toLowerCase();
  if (!words) return [];
  const known = new Map<string, boolean>();
  return rows
    .filter(({ service, operation, peer }) => {
      const text = `${service} ${operation} ${peer ?? ""}`;
      if (!known.has(text)) known.set(text, text.toLowerCase().includes(words));
      return known.get(text);
    })
    .map((row) => row.index);
}

/** A box that is drawn: of one span, or of many that would not be told apart. */
export interface Box {
  channel: number;
  from: number;
  to: number;
  failed: boolean;
  first: SpanRow;
  count: number;
}

const NARROW = 2; // px: narrower boxes run into each other
const LEAST_WIDTH = 1.5; // px

/** Boxes of each channel: what is narrow and touches is one, and what lies on the same pixels is one. */
export function boxesOf(rows: readonly SpanRow[], x: (ms: number) => number): Box[] {
  const found: Box[] = [];
  const growing = new Map<number, Box>(); // the last narrow one of each channel
  const wide = new Map<string, Box>();
  for (const row of [...rows].sort((a, b) => a.start - b.start)) {
    const from = x(row.start);
    const to = Math.max(x(row.start + row.duration), from + LEAST_WIDTH);
    const key = `${row.channel} ${Math.round(from)} ${Math.round(to)}`;
    const last = to - from > NARROW ? wide.get(key) : growing.get(row.channel);
    const joins = last && (to - from > NARROW || from <= last.to + 1);
    if (joins) {
      last.to = Math.max(last.to, to);
      last.failed ||= row.outcome === "error";
      last.count += 1;
      continue;
    }
    const box = { channel: row.channel, from, to, failed: row.outcome === "error", first: row, count: 1 };
    found.push(box);
    if (to - from > NARROW) wide.set(key, box);
    else growing.set(row.channel, box);
  }
  return found;
}

/** The critical path as a line through the channels, without the stretches that end on the pixel on which they begin. */
export function pathOf({ steps, spans }: View, x: (ms: number) => number, y: (channel: number) => number): string {
  const points: string[] = [];
  let drawn = Number.NEGATIVE_INFINITY;
  steps.span.forEach((span, n) => {
    const [from, to] = [x(steps.at_ms[n] ?? 0), x(steps.at_ms[n + 1] ?? 0)];
    if (to - drawn < 0.5 && n < steps.span.length - 1) return;
    const at = y(spans.alike[spans.of[span] ?? 0]?.channel ?? 0);
    points.push(`${from.toFixed(1)} ${at}L${to.toFixed(1)} ${at}`);
    drawn = to;
  });
  return points.length ? `M${points.join("L")}` : "";
}

/** What is to be written beneath one channel: in the middle of its stretch, px. */
export interface Label {
  channel: number;
  text: string;
  middle: number;
  /** Those of more weight are placed first. */
  weight: number;
}

const CHARACTER = 5.9; // px of a bold one, in the mean
const APART = 4;

/** Where labels are written, px of their middles, between `low` and `high`; null of those that would lie on one of more weight. */
export function placedLabels(labels: Label[], low: number, high: number): (number | null)[] {
  const taken = new Map<number, [number, number][]>();
  const found = labels.map((): number | null => null);
  const order = [...labels.keys()].sort((a, b) => (labels[b]?.weight ?? 0) - (labels[a]?.weight ?? 0));
  for (const index of order) {
    const label = labels[index];
    if (!label) continue;
    const half = (label.text.length * CHARACTER) / 2;
    const middle = Math.max(low + half, Math.min(label.middle, high - half));
    const beside = taken.get(label.channel) ?? [];
    if (beside.some(([from, to]) => middle - half < to + APART && middle + half > from - APART)) continue;
    taken.set(label.channel, [...beside, [middle - half, middle + half]]);
    found[index] = middle;
  }
  return found;
}
