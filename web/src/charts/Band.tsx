import { area } from "d3-shape";
import { useId } from "react";
import { known, Line, lonely, type Values } from "./Line";

interface BandProps {
  x: (index: number) => number;
  y: (value: number) => number;
  values: Values;
  low: Values;
  high: Values;
  hatch?: boolean;
}

const STEM = 2; // px, of the excess of a value that has none beside it

/** Expected band as two thin contours with hatching; the actual as one ink line; the excess itself filled. */
export function Band({ x, y, values, low, high, hatch = true }: BandProps) {
  const id = useId();
  const indices = values.map((_, index) => index);
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
  const stems = (bound: Values, pick: (a: number, b: number) => number) =>
    lonely(values)
      .filter((i) => known(bound[i]))
      .map((i) => `M${x(i)} ${y(bound[i] ?? 0)}V${y(pick(values[i] ?? 0, bound[i] ?? 0))}`)
      .join("");
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
      <path d={stems(high, Math.max)} stroke="var(--rust)" strokeWidth={STEM} opacity="0.85" />
      <path d={stems(low, Math.min)} stroke="var(--plum)" strokeWidth={STEM} opacity="0.85" />
      <Line x={x} y={y} values={low} stroke="var(--slate)" strokeWidth="0.8" />
      <Line x={x} y={y} values={high} stroke="var(--slate)" strokeWidth="0.8" />
      <Line x={x} y={y} values={values} stroke="var(--ink)" />
    </g>
  );
}
