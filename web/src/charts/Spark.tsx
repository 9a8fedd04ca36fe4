import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import { topOf } from "./axis";
import { Band } from "./Band";

const WIDTH = 128;
const HEIGHT = 26;

/** A small chart in a table row. The table itself holds the numbers, so it is hidden from screen readers. */
export function Spark({ data }: { data: Schemas["Spark"] }) {
  const x = scaleLinear([0, Math.max(1, data.values.length - 1)], [1, WIDTH - 1]);
  const y = scaleLinear([0, topOf(data.values, data.high)], [HEIGHT - 2, 2]);
  return (
    <svg width={WIDTH} height={HEIGHT} aria-hidden="true" className="block">
      <Band x={x} y={y} values={data.values} low={data.low} high={data.high} hatch={false} />
    </svg>
  );
}
