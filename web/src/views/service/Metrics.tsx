import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { area } from "d3-shape";
import { useQueryStates } from "nuqs";
import { Link } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { GridLine, largest } from "../../charts/axis";
import { Earlier, EarlierLegend, reachOf } from "../../charts/Earlier";
import { Line } from "../../charts/Line";
import { type Drawing, TimeChart } from "../../charts/TimeChart";
import { useJump } from "../../frame/jump";
import { rangeQuery, useScope, type Windows, windowsQuery } from "../../frame/scope";
import { Choice } from "../../shared/Choice";
import { clockSeconds, quantity } from "../../shared/format";
import { Waiting } from "../../shared/Waiting";
import { serviceState, toTrace } from "../places";

type View = Schemas["MetricView"];
type OneSeries = Schemas["MetricLine"];

/** What charts of one service that are asked for by themselves need to know. */
export interface OfService {
  service: string;
  windows: Windows;
  changes: Schemas["ChangeOut"][];
}

/** Lines are told apart by their dashes and labels, not by colour. */
const DASHES = ["", "6 2", "2 2", "8 2 2 2", "1 3", "10 3", "4 4", "12 2 2 2 2 2"];

/** The metrics that a service sends; one of them drawn, focus beside reference. */
export function Metrics({ service, windows, changes }: OfService) {
  const [scope] = useScope();
  const [chosen, setChosen] = useQueryStates(serviceState);
  const known = useQuery({
    queryKey: ["known-metrics", service, scope.environment],
    queryFn: () =>
      take(client.GET("/api/known/metrics", { params: { query: { service, environment: scope.environment } } })),
    staleTime: 60_000,
  });
  const names = [...new Set((known.data ?? []).map((row) => row.name))];
  const metric = chosen.metric !== null && names.includes(chosen.metric) ? chosen.metric : null;
  const key = [
    "metric",
    service,
    metric,
    chosen.by,
    scope.range,
    scope.last,
    scope.environment,
    chosen.beside,
    windows,
  ];
  const query = useQuery({
    queryKey: key,
    enabled: metric !== null,
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/services/{name}/metric", {
          signal,
          params: {
            path: { name: service },
            query: {
              metric: metric ?? "",
              by: chosen.by,
              beside: chosen.beside,
              ...rangeQuery(scope),
              ...windowsQuery(windows),
              environment: scope.environment,
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  if (!known.data) return <Waiting error={known.error} what="the metrics it sends" />;
  return (
    <section aria-label="Metrics">
      <h2>
        Metrics <span>{names.length ? `${names.length} that it sends` : "none has been sent by this service"}</span>
      </h2>
      {names.length > 0 && (
        <p className="mb-1 flex gap-4">
          <Choice
            label="show"
            none="none"
            value={metric}
            options={names}
            choose={(name) => void setChosen({ metric: name, by: null })}
          />
          {metric && query.data && query.data.labels.length > 0 && (
            <Choice
              label="a line for each"
              none="– all together"
              value={chosen.by}
              options={query.data.labels}
              choose={(name) => void setChosen({ by: name })}
            />
          )}
        </p>
      )}
      {metric &&
        (query.data && !query.error ? (
          <Chart view={query.data} windows={windows} changes={changes} />
        ) : (
          <Waiting error={query.error} what={metric} stops={key} />
        ))}
    </section>
  );
}

function Chart({ view, windows, changes }: { view: View; windows: Windows; changes: Schemas["ChangeOut"][] }) {
  const jump = useJump();
  const unit = view.unit && view.unit !== "1" ? view.unit : "";
  const say = (value: number | null | undefined) =>
    value == null ? "–" : quantity(value, view.meaning === "per second" ? `${unit}/s`.trim() : unit);
  const all = view.lines.flatMap((one) => [...one.values, ...(one.high ?? [])]).filter((value) => value != null);
  // Several lines of the same are told apart by dashes already; the whole of earlier is not one of them.
  const earlier = view.lines.length === 1 ? view.earlier : [];
  const draw = ({ x, at, top, bottom, left, right }: Drawing) => {
    const y = scaleLinear([Math.min(0, ...all), largest([...all, ...reachOf(earlier)])], [bottom, top]).nice(4);
    return (
      <>
        {y.ticks(4).map((tick) => (
          <GridLine
            key={tick}
            y={y(tick)}
            left={left}
            right={right}
            text={quantity(tick, view.unit === "s" && view.meaning !== "per second" ? "s" : "")}
          />
        ))}
        {view.lines.map((one, index) => (
          <OneLine key={one.label} one={one} dash={DASHES[index % DASHES.length] ?? ""} at={at} y={y} />
        ))}
        <Earlier lines={earlier} x={x} y={y} top={top} />
      </>
    );
  };
  return (
    <>
      <TimeChart
        start={view.start}
        step_s={view.step_s}
        count={view.lines[0]?.values.length ?? 0}
        windows={windows}
        changes={changes}
        height={150}
        isEmpty={all.length === 0}
        known={(index) => view.lines.some((one) => one.values[index] != null)}
        label={`${view.metric} over time`}
        title={
          <>
            {view.metric} <span className="font-normal text-second">{view.meaning}</span>
          </>
        }
        legend={(i, time) => (
          <>
            {view.lines.length === 1 && say(view.lines[0]?.values[i])}
            <EarlierLegend lines={earlier} time={time} say={say} />
          </>
        )}
        columns={view.lines.map((one) => ({ name: one.label || view.metric, at: (i) => say(one.values[i]) }))}
        draw={draw}
      />
      <table className="sheet-table mb-3">
        <thead>
          <tr>
            <th>{view.kind}</th>
            <th className="num text-kelp!">reference</th>
            <th className="num text-rust!">focus</th>
          </tr>
        </thead>
        <tbody>
          {view.lines.map((one, index) => (
            <tr key={one.label} data-line={one.label}>
              <td>
                <svg width="26" height="8" aria-hidden="true" className="mr-2 inline-block">
                  <path d="M0 4H26" stroke="var(--ink)" strokeDasharray={DASHES[index % DASHES.length]} />
                </svg>
                {one.label || `all ${view.series} series`}
              </td>
              <td className="num text-kelp">{say(one.reference)}</td>
              <td className="num">{say(one.focus)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {view.note && <p className="mb-3 text-second">{view.note}</p>}
      {view.examples.length > 0 && (
        <p className="mb-3 flex flex-wrap gap-x-4 text-second">
          Largest in the focus with a trace:
          {view.examples.map((one) => (
            <Link key={one.span} className="text-ink" to={jump(toTrace(one))}>
              {say(one.value)} <span className="text-second">at {clockSeconds(one.at)}</span>
            </Link>
          ))}
        </p>
      )}
    </>
  );
}

interface LineProps {
  one: OneSeries;
  dash: string;
  at: (index: number) => number;
  y: (value: number) => number;
}

/** A line, and thin contours where its values are known only to lie between bounds. */
function OneLine({ one, dash, at, y }: LineProps) {
  const indices = one.values.map((_, i) => i);
  const { low, high } = one;
  return (
    <g fill="none">
      {low && high && (
        <path
          fill="var(--line)"
          opacity="0.5"
          d={
            area<number>()
              .defined((i) => low[i] != null && high[i] != null)
              .x(at)
              .y0((i) => y(low[i] ?? 0))
              .y1((i) => y(high[i] ?? 0))(indices) ?? ""
          }
        />
      )}
      <Line x={at} y={y} values={one.values} stroke="var(--ink)" strokeDasharray={dash} />
    </g>
  );
}
