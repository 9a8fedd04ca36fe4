import type { Schemas } from "../api/client";
import { type Axis, ChangeMark, changeTitle } from "./ChangeMark";

type Change = Schemas["ChangeOut"];

const CLOSE = 13; // px: nearer than that, marks would hide each other
const WIDEST = 44; // px of what one number stands for
const MOST_TOLD = 12; // of those behind one number

/** Changes side by side as they are, those too close to tell apart as their number. */
export function together(changes: Change[], x: (at: number) => number): Change[][] {
  const placed = [...changes].sort((a, b) => Date.parse(a.at) - Date.parse(b.at));
  const groups: Change[][] = [];
  let end = Number.NEGATIVE_INFINITY;
  for (const change of placed) {
    const at = x(Date.parse(change.at));
    const last = groups[groups.length - 1];
    const near = last?.[0] && at - end < CLOSE && at - x(Date.parse(last[0].at)) < WIDEST;
    if (last && near) last.push(change);
    else groups.push([change]);
    end = at;
  }
  return groups.flatMap((group) => (group.length > 2 ? [group] : group.map((change) => [change])));
}

interface Props {
  changes: Change[];
  x: Axis;
  y: number;
}

export function ChangeMarks({ changes, x, y }: Props) {
  return (
    <>
      {together(changes, x).map((group) => {
        const [first] = group;
        if (!first) return null;
        if (group.length === 1) return <ChangeMark key={first.id} change={first} x={x} y={y} />;
        const from = x(Date.parse(first.at));
        const to = Math.max(x(Date.parse(group[group.length - 1]?.at ?? first.at)), from + CLOSE);
        const told = group.slice(0, MOST_TOLD).map(changeTitle);
        const title = `${group.length} changes\n${told.join("\n")}${group.length > MOST_TOLD ? "\n…" : ""}`;
        return (
          // biome-ignore lint/a11y/noInteractiveElementToNoninteractiveRole: a group of an SVG is no control
          <g key={first.id} className="change-mark" role="img" aria-label={title}>
            <title>{title}</title>
            <path d={`M${from} ${y + 12}H${to}`} stroke="var(--ink)" strokeWidth="1.3" />
            <text x={(from + to) / 2} y={y + 9} textAnchor="middle" style={{ fill: "var(--ink)" }}>
              {group.length}
            </text>
            <rect x={from - 2} y={y - 2} width={to - from + 4} height={16} fill="transparent" />
          </g>
        );
      })}
    </>
  );
}
