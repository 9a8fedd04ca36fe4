import { quantile } from "d3-array";
import type { ScaleTime } from "d3-scale";
import type { Schemas } from "../api/client";
import { Line } from "./Line";

export type EarlierLine = Schemas["Earlier"];

/** Told apart by their dashes; what is now is drawn through. */
const DASHES: Record<EarlierLine["before"], string> = { day: "5 3", week: "1.5 2.5" };

/** When the n-th value is drawn: in the middle of its stretch. */
const timeOf = (one: EarlierLine, index: number) => Date.parse(one.start) + (index + 0.5) * one.step_s * 1000;

/** What a line was at a time (ms) a day or a week before. */
export const valueThen = (one: EarlierLine, time: number): number | null =>
  one.values[Math.floor((time - Date.parse(one.start)) / (one.step_s * 1000))] ?? null;

const MOSTLY = 0.95;

/** How far an axis has to reach to show most of them: a disturbance of then may not flatten what is now. */
export const reachOf = (lines: EarlierLine[]): number[] =>
  lines.flatMap(
    (one) =>
      quantile(
        one.values.filter((value) => value != null),
        MOSTLY,
      ) ?? [],
  );

interface EarlierProps {
  lines: EarlierLine[];
  x: ScaleTime<number, number>;
  y: (value: number) => number;
  /** The upper edge of the chart, at which what goes beyond it is drawn. */
  top: number;
}

/** The same a day or a week before, thin beside what is now. */
export function Earlier({ lines, x, y, top }: EarlierProps) {
  const [from = 0, to = 0] = x.domain().map((time) => time.getTime());
  return lines.map((one) => {
    const drawn = [...one.values.keys()].filter((index) => timeOf(one, index) >= from && timeOf(one, index) <= to);
    return (
      <Line
        key={one.name}
        data-earlier={one.name}
        x={(index) => x(timeOf(one, index))}
        y={(value) => Math.max(y(value), top)}
        values={one.values}
        points={drawn}
        stroke="var(--plum)"
        strokeWidth="1"
        strokeDasharray={DASHES[one.before]}
      />
    );
  });
}

/** What they were at a time, for a legend. */
export function EarlierLegend({
  lines,
  time,
  say,
}: {
  lines: EarlierLine[];
  time: number;
  say: (value: number | null) => string;
}) {
  return lines.map((one) => (
    <span key={one.name} className="ml-2 text-plum">
      <svg width="20" height="6" aria-hidden="true" className="mr-1 inline-block">
        <path d="M0 3H20" stroke="var(--plum)" strokeDasharray={DASHES[one.before]} />
      </svg>
      {one.name} {one.values.some((value) => value != null) ? say(valueThen(one, time)) : "is not kept"}
    </span>
  ));
}
