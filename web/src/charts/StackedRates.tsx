import { scaleSqrt } from "d3-scale";
import { area } from "d3-shape";
import { significant } from "../shared/format";
import { GridLine, largest, nothing, ticksOf } from "./axis";
import { Earlier, EarlierLegend, type EarlierLine, reachOf } from "./Earlier";
import type { Values } from "./Line";
import { type Drawing, TimeChart } from "./TimeChart";

type Chart = Omit<Parameters<typeof TimeChart>[0], "draw" | "legend" | "height" | "columns">;

interface StackedRatesProps<Name extends string> extends Chart {
  /** From the axis upward: what is rare and matters most first. */
  lines: { name: Name; values: Values }[];
  colours: Record<Name, string>;
  earlier: EarlierLine[];
}

/** Rates on top of each other, on a square-root axis, so that few among many can be seen. */
export function StackedRates<Name extends string>({ lines, colours, earlier, ...chart }: StackedRatesProps<Name>) {
  const points = Array.from({ length: chart.count }, (_, i) => i);
  const stacked = lines.map((_, upTo) =>
    points.map((i) => lines.slice(0, upTo + 1).reduce((sum, one) => sum + (one.values[i] ?? 0), 0)),
  );
  const draw = ({ x, at, top, bottom, left, right }: Drawing) => {
    const y = scaleSqrt([0, largest([...(stacked.at(-1) ?? []), ...reachOf(earlier)])], [bottom, top]);
    return (
      <>
        {ticksOf(y.ticks(20), y, 16).map((tick) => (
          <GridLine key={tick} y={y(tick)} left={left} right={right} text={significant(tick)} />
        ))}
        {lines.map((one, level) => (
          <path
            key={one.name}
            data-rate={one.name}
            fill={colours[one.name]}
            stroke={level === lines.length - 1 ? "var(--slate)" : "none"}
            strokeWidth="0.8"
            d={
              area<number>()
                .defined((i) => lines.some((each) => each.values[i] != null))
                .x(at)
                .y0((i) => y(stacked[level - 1]?.[i] ?? 0))
                .y1((i) => y(stacked[level]?.[i] ?? 0))(points) ?? ""
            }
          />
        ))}
        <Earlier lines={earlier} x={x} y={y} top={top} />
      </>
    );
  };
  return (
    <TimeChart
      {...chart}
      height={150}
      columns={lines.map((one) => ({
        name: `${one.name}, per second`,
        at: (i) => (one.values[i] == null ? "–" : significant(one.values[i])),
      }))}
      isEmpty={nothing(...lines.map((one) => one.values))}
      legend={(i, time) => (
        <>
          {lines.map((one) => (
            <span key={one.name} className="ml-3">
              <span
                aria-hidden="true"
                className="mr-1 inline-block size-[9px] border border-slate"
                style={{ background: colours[one.name] }}
              />
              {one.name} {significant(one.values[i] ?? 0)}
            </span>
          ))}
          <EarlierLegend
            lines={earlier}
            time={time}
            say={(value) => (value === null ? "–" : `${significant(value)} in all`)}
          />
        </>
      )}
      draw={draw}
    />
  );
}
