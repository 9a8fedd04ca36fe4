import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { area } from "d3-shape";
import { useState } from "react";
import { useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { GridLine, largest, nothing, ticksOf } from "../../charts/axis";
import { Line } from "../../charts/Line";
import { type Drawing, TimeChart } from "../../charts/TimeChart";
import type { ComparedContext } from "../../frame/Frame";
import { inUnit, minute } from "../../shared/format";
import { Waiting } from "../../shared/Waiting";

type Row = Schemas["WatchedRow"];
type Told = Schemas["ForecastOut"];

const AHEAD: [number, string][] = [
  [6, "6 hours"],
  [24, "a day"],
  [168, "a week"],
];
const HEIGHT = 130;
const ROOM = 22; // px between ticks

/** Where a series is heading, and when it meets a limit. */
export function Forecast({ row }: { row: Row }) {
  const { windows } = useOutletContext<ComparedContext>();
  const [ahead, setAhead] = useState(24);
  const [typed, setTyped] = useState(row.unit === "1" ? "100" : "");
  const isShare = row.unit === "1";
  const given = Number.parseFloat(typed);
  const limit = Number.isFinite(given) ? (isShare ? given / 100 : given) : undefined;
  const query = useQuery({
    queryKey: ["forecast", row.id, ahead, limit],
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/watched/{series}/forecast", {
          signal,
          params: { path: { series: row.id }, query: { ahead_h: ahead, limit } },
        }),
      ),
  });
  return (
    <section aria-label="Forecast">
      <div className="flex items-baseline gap-5">
        <h3 className="font-bold">Where it is heading</h3>
        <label className="text-second">
          for{" "}
          <select
            className="border-b border-ink bg-transparent"
            value={ahead}
            onChange={(event) => setAhead(Number(event.target.value))}
          >
            {AHEAD.map(([hours, name]) => (
              <option key={hours} value={hours}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <label className="text-second">
          limit ({isShare ? "%" : row.unit.replace(/[{}]/g, "") || "value"}){" "}
          <input
            className="field w-20"
            inputMode="decimal"
            value={typed}
            onChange={(event) => setTyped(event.target.value)}
          />
        </label>
        <span role="status">{query.data && <Met told={query.data} />}</span>
      </div>
      {query.data ? (
        <Drawn told={query.data} windows={windows} row={row} />
      ) : (
        <Waiting error={query.error} what="a forecast" verb="Making" />
      )}
    </section>
  );
}

function Met({ told: { meets, limit } }: { told: Told }) {
  if (!meets || limit == null) return null;
  if (meets.at) {
    const from = meets.earliest ? minute(meets.earliest) : "now";
    return (
      <>
        Meets it at <b className="text-rust">{minute(meets.at)}</b>, between {from} and{" "}
        {meets.latest ? minute(meets.latest) : "later than this"} (95 %).
      </>
    );
  }
  if (meets.earliest) return <>Not expected to meet it in this time; it may from {minute(meets.earliest)} on (95 %).</>;
  return <>It does not meet it in this time.</>;
}

function Drawn({ told, windows, row }: { told: Told; windows: ComparedContext["windows"]; row: Row }) {
  const { values, expected, low, high, limit } = told;
  const say = inUnit(told.unit);
  const isKnown = (index: number) => values[index] != null || expected[index] != null;
  return (
    <TimeChart
      title=""
      label={`${row.measure} of ${row.entity.name}, and where it is heading`}
      start={told.start}
      step_s={told.step_s}
      count={values.length}
      height={HEIGHT}
      isEmpty={nothing(values)}
      known={isKnown}
      windows={windows}
      changes={[]}
      legend={(index) =>
        values[index] != null
          ? say(values[index])
          : `${say(expected[index])}, ${say(low[index])} to ${say(high[index])}`
      }
      columns={[
        { name: "value", at: (index) => say(values[index]) },
        { name: "expected", at: (index) => say(expected[index]) },
        { name: "from", at: (index) => say(low[index]) },
        { name: "to", at: (index) => say(high[index]) },
      ]}
      draw={(drawing) => <Lines drawing={drawing} told={told} limit={limit ?? null} say={say} />}
    />
  );
}

interface LinesProps {
  drawing: Drawing;
  told: Told;
  limit: number | null;
  say: (value: number) => string;
}

function Lines({ drawing: { at, top, bottom, left, right }, told, limit, say }: LinesProps) {
  const { values, expected, low, high } = told;
  const lowest = Math.min(0, ...low.map((value) => value ?? 0));
  const y = scaleLinear([lowest, Math.max(largest(values, high), limit ?? 0)], [bottom, top]).nice(3);
  const indices = [...values.keys()];
  const between = area<number>()
    .defined((index) => low[index] != null)
    .x(at)
    .y0((index) => y(low[index] ?? 0))
    .y1((index) => y(high[index] ?? 0));
  return (
    <g fill="none">
      {ticksOf(y.ticks(4), y, ROOM).map((tick) => (
        <GridLine key={tick} y={y(tick)} left={left} right={right} text={say(tick)} />
      ))}
      <path d={between(indices) ?? ""} stroke="var(--slate)" strokeWidth="0.8" />
      <Line x={at} y={y} values={values} stroke="var(--ink)" />
      <Line x={at} y={y} values={expected} stroke="var(--ink)" strokeDasharray="4 3" />
      {limit !== null && (
        <path d={`M${left} ${y(limit)}H${right}`} stroke="var(--rust)" strokeWidth="1" strokeDasharray="2 2" />
      )}
    </g>
  );
}
