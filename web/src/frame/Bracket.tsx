import { type KeyboardEvent, type PointerEvent, useRef, useState } from "react";
import { between, clock } from "../shared/format";
import type { Span } from "./scope";

export const TOP = 20;
export const BASE = 62;
const MINUTE = 60_000;
const NOW_MS = 120_000; // so near to now a window may end and be called up to now
const LETTER = 6.4; // px, of the labels' type
const GAP = 8; // px between two labels

export type Name = "focus" | "reference";
type Edge = "start" | "end" | "whole";
type Place = { x: number; text: string };

/** Moves a window by an edge or as a whole, on whole minutes, inside the ribbon, never shorter than a minute. */
export function moved(span: Span, edge: Edge, by: number, low: number, high: number): Span {
  if (edge === "whole") {
    const shift = Math.max(low - span.start, Math.min(high - span.end, by));
    return { start: span.start + shift, end: span.end + shift };
  }
  const at = Math.round((span[edge] + by) / MINUTE) * MINUTE;
  return edge === "start"
    ? { ...span, start: Math.max(low, Math.min(at, span.end - MINUTE)) }
    : { ...span, end: Math.min(high, Math.max(at, span.start + MINUTE)) };
}

/** What a window is called; "now" is said only of now. */
export function labelOf(name: Name, span: Span, following: boolean, now: number): string {
  const isNow = following && name === "focus" && Math.abs(now - span.end) < NOW_MS;
  return `${name} ${isNow ? `${clock(span.start)} – now` : between(span)}`;
}

/** Where the labels of both windows stand so that neither covers the other nor leaves the ribbon. `at` are the windows' left edges, px. */
export function placed(
  at: Record<Name, number>,
  labels: Record<Name, string>,
  left: number,
  right: number,
): Record<Name, Place> {
  const put = (text: string, from: number): [number, number] => {
    const width = text.length * LETTER;
    const start = Math.max(left, Math.min(from, right - width));
    return [start, start + width];
  };
  const focus = put(labels.focus, at.focus + 2);
  let text = labels.reference;
  let reference = put(text, at.reference + 2);
  const isFirst = at.reference <= at.focus;
  const overlaps = () => reference[0] < focus[1] + GAP && reference[1] + GAP > focus[0];
  if (overlaps()) {
    const width = text.length * LETTER;
    const start = isFirst ? focus[0] - GAP - width : focus[1] + GAP;
    if (start < left || start + width > right) text = "reference";
    reference = put(text, isFirst ? focus[0] - GAP - text.length * LETTER : focus[1] + GAP);
  }
  return {
    focus: { x: focus[0], text: labels.focus },
    reference: { x: reference[0], text: overlaps() ? "" : text },
  };
}

interface Props {
  name: Name;
  span: Span;
  x: { (at: number): number; invert: (px: number) => Date };
  low: number;
  high: number;
  label: Place;
  onMove: (span: Span) => void;
  onReach: () => void;
}

/** One window as two brackets that can be dragged, and moved by arrow keys (with Shift by ten minutes); an arrow at the edge where it lies outside. */
export function Bracket({ name, span, x, low, high, label, onMove, onReach }: Props) {
  const [held, setHeld] = useState<Span | null>(null);
  const grip = useRef<{ edge: Edge; from: number; span: Span } | null>(null);
  const shown = held ?? span;
  const colour = name === "focus" ? "var(--rust)" : "var(--kelp)";
  if (shown.end <= low || shown.start >= high)
    return (
      <Outside name={name} span={shown} isBefore={shown.end <= low} x={x} low={low} high={high} onReach={onReach} />
    );
  const [a, b] = [Math.max(x(shown.start), x(low)), Math.min(x(shown.end), x(high))];
  const text = `${name} ${between(shown)}`;
  const grab = (edge: Edge) => ({
    onPointerDown: (event: PointerEvent) => {
      (event.target as Element).setPointerCapture(event.pointerId);
      grip.current = { edge, from: event.clientX, span };
      event.preventDefault();
      (event.currentTarget as SVGElement).focus();
    },
    onPointerMove: (event: PointerEvent) => {
      const gripped = grip.current;
      if (!gripped) return;
      const by = x.invert(x(low) + event.clientX - gripped.from).getTime() - low;
      setHeld(moved(gripped.span, edge, edge === "whole" ? Math.round(by / MINUTE) * MINUTE : by, low, high));
    },
    onPointerUp: () => {
      if (held) onMove(held);
      grip.current = null;
      setHeld(null);
    },
  });
  const onKey = (edge: Edge) => (event: KeyboardEvent) => {
    const way = event.key === "ArrowLeft" ? -1 : event.key === "ArrowRight" ? 1 : 0;
    if (!way) return;
    event.preventDefault();
    onMove(moved(span, edge, way * MINUTE * (event.shiftKey ? 10 : 1), low, high));
  };
  const slider = (edge: Edge, now: number, told: string) => ({
    role: "slider",
    tabIndex: 0,
    "aria-label": edge === "whole" ? `${name} window` : `${name} ${edge}`,
    "aria-valuemin": low,
    "aria-valuemax": high,
    "aria-valuenow": now,
    "aria-valuetext": told,
    onKeyDown: onKey(edge),
    ...grab(edge),
  });
  const bracket = (at: number, way: number) => `M${at + way * 5} ${TOP}H${at}V${BASE}H${at + way * 5}`;
  const edge = (which: "start" | "end", at: number) => (
    <rect
      {...slider(which, shown[which], clock(shown[which]))}
      x={at - 5}
      y={TOP}
      width={10}
      height={BASE - TOP}
      fill="transparent"
      style={{ cursor: "ew-resize" }}
    />
  );
  return (
    <g style={{ touchAction: "none" }} data-window={name}>
      <path d={bracket(a, 1)} stroke={colour} strokeWidth="1.6" fill="none" />
      <path d={bracket(b, -1)} stroke={colour} strokeWidth="1.6" fill="none" />
      <path d={`M${a} ${TOP}H${b}`} stroke={colour} strokeWidth="1" />
      <path d={`M${a} ${TOP + 14}V${BASE - 14}M${b} ${TOP + 14}V${BASE - 14}`} stroke={colour} strokeWidth="4" />
      <rect
        {...slider("whole", shown.start, text)}
        x={a + 4}
        y={TOP - 16}
        width={Math.max(6, b - a - 8)}
        height={18}
        fill="transparent"
        style={{ cursor: "grab" }}
      />
      <text x={label.x} y={TOP - 5} fontWeight="600" pointerEvents="none" style={{ fill: colour }}>
        {held ? text : label.text}
      </text>
      {edge("start", a)}
      {edge("end", b)}
    </g>
  );
}

interface OutsideProps extends Pick<Props, "name" | "span" | "x" | "low" | "high" | "onReach"> {
  isBefore: boolean;
}

/** A window outside of the range: an arrow at the edge that leads there. */
function Outside({ name, span, isBefore, x, low, high, onReach }: OutsideProps) {
  const at = isBefore ? x(low) : x(high);
  const way = isBefore ? -1 : 1;
  const y = name === "focus" ? BASE - 14 : TOP + 14;
  const title = `${name} ${between(span)}, ${isBefore ? "before" : "after"} what is shown; show it`;
  return (
    // biome-ignore lint/a11y/useSemanticElements: an SVG has no button
    <g
      role="button"
      tabIndex={0}
      aria-label={title}
      style={{ cursor: "pointer" }}
      onClick={onReach}
      onKeyDown={(event) => (event.key === "Enter" || event.key === " ") && onReach()}
    >
      <title>{title}</title>
      <path
        d={`M${at + way * 8} ${y}L${at - way * 2} ${y - 7}V${y + 7}Z`}
        fill={name === "focus" ? "var(--rust)" : "var(--kelp)"}
      />
      <rect x={at - 12} y={y - 12} width={24} height={24} fill="transparent" />
    </g>
  );
}
