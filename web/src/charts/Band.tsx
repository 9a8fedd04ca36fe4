import { area, line } from "d3-shape";
import { useId } from "react";

export type Values = readonly (number | null)[];

interface BandProps {
  x: (index: number) => number;
  y: (value: number) => number;
  values: Values;
  low: Values;
  high: Values;
  hatch?: boolean;
}

const known = (value: number | null | undefined): value is number => value != null;

/** Expected band as two thin contours with hatching; the actual as one ink line; the excess itself filled. */
export function Band({ x, y, values, low, high, hatch = true }: BandProps) {
  const id = useId();
  const indices = values.map((_, index) => index);
  const contour = (bound: Values) =>
    line<number>()
      .defined((i) => known(bound[i]))
      .x(x)
      .y((i) => y(bound[i] ?? 0))(indices) ?? "";
  const between = area<number>()
    .defined((i) => known(low[i]) && known(high[i]))
    .x(x)
    .y0((i) => y(low[i] ?? 0))
    .y1((i) => y(high[i] ?? 0));
  const beyond = (bound: Values, pick: (a: number, b: number) => number) =>
    area<number>()
      .defined((i) => known(values[i]) && known(bound[i]))
      .x(x)
      .y0((i) => y(bound[i] ?? 0))
      .y1((i) => y(pick(values[i] ?? 0, bound[i] ?? 0)))(indices) ?? "";
  return (
    <g fill="none">
      {hatch && (
        <>
          <defs>
            <pattern id={id} width="6" height="3" patternUnits="userSpaceOnUse">
              <path d="M0 1.5H6" stroke="var(--line)" strokeWidth="1" />
            </pattern>
          </defs>
          <path d={between(indices) ?? ""} fill={`url(#${id})`} />
        </>
      )}
      <path d={beyond(high, Math.max)} fill="var(--rust)" opacity="0.85" />
      <path d={beyond(low, Math.min)} fill="var(--plum)" opacity="0.85" />
      <path d={contour(low)} stroke="var(--slate)" strokeWidth="0.8" />
      <path d={contour(high)} stroke="var(--slate)" strokeWidth="0.8" />
      <path d={contour(values)} stroke="var(--ink)" strokeWidth="1.2" />
    </g>
  );
}
