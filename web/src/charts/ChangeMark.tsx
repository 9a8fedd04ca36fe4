import type { Schemas } from "../api/client";
import { clockSeconds } from "../shared/format";

type Change = Schemas["ChangeOut"];

const shapes: Record<string, string> = {
  deploy: "M0 12V0L9 4L0 8",
  rollback: "M0 12V0L-9 4L0 8",
  config: "M0 1L5 6L0 11L-5 6Z",
  flag: "M0 1L5 6L0 11L-5 6Z",
  restart: "M4 3A5 5 0 1 0 5 7M5 0V4H1",
  scale: "M-2 1V11M2 1V11",
  migration: "M-5 11H5L0 2Z",
  failover: "M-5 2L5 10M-5 10L5 2",
  manual: "M-4 6A4 4 0 1 0 4 6A4 4 0 1 0 -4 6",
};
export interface Axis {
  (at: number): number;
  range: () => number[];
}
const filled = new Set(["deploy", "rollback"]);

export function changeTitle(change: Change): string {
  const what = [change.kind, change.service, change.version].filter(Boolean).join(" ");
  return `${clockSeconds(change.at)} ${what}${change.summary && change.summary !== `${change.service} ${change.version}` ? `, ${change.summary}` : ""}${change.actor ? `, by ${change.actor}` : ""}`;
}

/** One change on a time axis: its kind is told by its shape. Intervals are brackets. */
export function ChangeMark({ change, x, y }: { change: Change; x: Axis; y: number }) {
  const [first = 0] = x.range();
  // What began before the axis does, and still ran on it, is drawn from its edge.
  const at = Math.max(x(Date.parse(change.at)), first);
  const until = change.until ? Math.min(x(Date.parse(change.until)), x.range()[1] ?? 0) : null;
  return (
    // biome-ignore lint/a11y/noInteractiveElementToNoninteractiveRole: a group of an SVG is no control
    <g className="change-mark" role="img" aria-label={changeTitle(change)}>
      <title>{changeTitle(change)}</title>
      {until !== null ? (
        <path
          d={`M${at} ${y + 2}V${y + 10}M${until} ${y + 2}V${y + 10}M${at} ${y + 6}H${until}`}
          stroke="var(--ink)"
          fill="none"
          strokeWidth="1.3"
        />
      ) : (
        <path
          transform={`translate(${at} ${y})`}
          d={shapes[change.kind] ?? shapes.manual}
          stroke="var(--ink)"
          strokeWidth="1.3"
          fill={filled.has(change.kind) ? "var(--ink)" : "var(--ground)"}
        />
      )}
      <rect x={at - 7} y={y - 2} width={Math.max(14, (until ?? at) - at + 14)} height={16} fill="transparent" />
    </g>
  );
}
