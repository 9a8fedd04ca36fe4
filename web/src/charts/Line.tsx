import { line } from "d3-shape";
import type { SVGProps } from "react";

export type Values = readonly (number | null)[];

export const known = (value: number | null | undefined): value is number => value != null;

/** Those that are drawn with nothing known on either side of them: a line alone would not show them. */
export const lonely = (values: Values, points = [...values.keys()]): number[] =>
  points.filter((i) => known(values[i]) && !known(values[i - 1]) && !known(values[i + 1]));

const DOT = 3.5; // px across

interface LineProps extends Omit<SVGProps<SVGPathElement>, "x" | "y" | "values" | "points" | "d"> {
  x: (index: number) => number;
  y: (value: number) => number;
  values: Values;
  /** The places that are drawn; all without. */
  points?: number[];
}

/** Values over time: a line through those beside each other, and a dot for each that has none beside it. */
export function Line({ x, y, values, points = [...values.keys()], ...drawn }: LineProps) {
  const at = (index: number) => y(values[index] ?? 0);
  const path = line<number>()
    .defined((index) => known(values[index]))
    .x(x)
    .y(at)(points);
  const dots = lonely(values, points).map((index) => `M${x(index)} ${at(index)}h0`);
  return (
    <g fill="none">
      <path strokeWidth="1.2" {...drawn} d={path ?? ""} />
      {dots.length > 0 && (
        <path stroke={drawn.stroke} strokeWidth={DOT} strokeLinecap="round" d={dots.join("")} data-dots={dots.length} />
      )}
    </g>
  );
}
