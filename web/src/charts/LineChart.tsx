import { scaleLinear } from "d3-scale";
import type { Schemas } from "../api/client";
import type { Windows } from "../frame/scope";
import { quantity } from "../shared/format";
import { GridLine, largest, nothing, ticksOf } from "./axis";
import { Line } from "./Line";
import { TimeChart } from "./TimeChart";

interface LineChartProps {
  title: string;
  series: Schemas["SeriesOut"];
  windows: Windows;
  changes: Schemas["ChangeOut"][];
}

const HEIGHT = 104;
const ROOM = 22; // px between ticks

/** One series over time, with the windows and changes of a question. */
export function LineChart({ title, series, windows, changes }: LineChartProps) {
  const { values, unit } = series;
  const say = (value: number | null | undefined) => (value == null ? "–" : quantity(value, unit === "1" ? "" : unit));
  return (
    <TimeChart
      title={title}
      label={`${title} over time`}
      start={series.start}
      step_s={series.step_s}
      count={values.length}
      height={HEIGHT}
      isEmpty={nothing(values)}
      known={(index) => values[index] != null}
      windows={windows}
      changes={changes}
      legend={(index) => say(values[index])}
      columns={[{ name: title, at: (index) => say(values[index]) }]}
      draw={({ at, top, bottom, left, right }) => {
        const lowest = Math.min(0, ...values.map((value) => value ?? 0));
        const y = scaleLinear([lowest, largest(values)], [bottom, top]).nice(3);
        return (
          <>
            {ticksOf(y.ticks(3), y, ROOM).map((tick) => (
              <GridLine
                key={tick}
                y={y(tick)}
                left={left}
                right={right}
                text={quantity(tick, unit === "s" || unit === "share" ? unit : "")}
              />
            ))}
            <Line x={at} y={y} values={values} stroke="var(--ink)" />
          </>
        );
      }}
    />
  );
}
