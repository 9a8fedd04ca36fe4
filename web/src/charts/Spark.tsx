import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { Band, type Values } from "./Band";

const WIDTH = 128;
const HEIGHT = 26;

/** A small chart in a table row. The table itself holds the numbers, so it is hidden from screen readers. */
export function Spark({ data }: { data: Schemas["Spark"] }) {
  const largest = (values: Values) => Math.max(...values.map((value) => value ?? 0), 1e-9);
  // A band that is wide for want of requests must not flatten the line.
  const top = Math.min(Math.max(largest(data.values), largest(data.high)), 1.6 * largest(data.values));
  const x = scaleLinear([0, Math.max(1, data.values.length - 1)], [1, WIDTH - 1]);
  const y = scaleLinear([0, top], [HEIGHT - 2, 2]);
  return (
    <svg width={WIDTH} height={HEIGHT} aria-hidden="true" className="block">
      <Band x={x} y={y} values={data.values} low={data.low} high={data.high} hatch={false} />
    </svg>
  );
}
