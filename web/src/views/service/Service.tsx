import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { scaleLog, scaleSqrt } from "d3-scale";
import { area, line } from "d3-shape";
import { Link, useLocation, useOutletContext, useParams } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { GridLine, largest, ticksOf } from "../../charts/axis";
import { Band, type Values } from "../../charts/Band";
import { changeTitle } from "../../charts/ChangeMark";
import { Gauge, healthColour } from "../../charts/Gauge";
import { StackedRates } from "../../charts/StackedRates";
import { type Drawing, TimeChart } from "../../charts/TimeChart";
import type { FrameContext } from "../../frame/Frame";
import { rangeQuery, useScope, windowsQuery } from "../../frame/scope";
import { FindCause, signalOf, useFindCause } from "../../shared/FindCause";
import { clock, duration, interval, percent, share, significant } from "../../shared/format";
import { Waiting } from "../../shared/Waiting";
import { LogRates } from "./LogRates";
import { Metrics } from "./Metrics";

type View = Schemas["ServiceView"];

export function Service() {
  const { name = "" } = useParams();
  const { windows } = useOutletContext<FrameContext>();
  const { search } = useLocation();
  const [scope] = useScope();
  const find = useFindCause(windows);
  const query = useQuery({
    queryKey: ["service", name, scope.range, scope.environment, windows],
    queryFn: () =>
      take(
        client.GET("/api/services/{name}", {
          params: {
            path: { name },
            query: { ...rangeQuery(scope.range), ...windowsQuery(windows), environment: scope.environment },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const view = query.data;
  if (!view) return <Waiting error={query.error} what={`the charts of ${name}`} />;
  const shared = {
    start: view.charts.start,
    step_s: view.charts.step_s,
    count: view.charts.samples.length,
    windows,
    changes: view.changes,
  };
  const ask = (signal: string) => (focus: { start: number; end: number }) =>
    find.mutate({ service: name, signal, focus });
  return (
    <>
      <div className="mb-3 flex items-start gap-3">
        <div className="flex-1">
          <h1>
            <Gauge health={view.health} /> {view.service}{" "}
            <span className={`text-[15px] ${healthColour(view.health)}`}>
              {view.health}
              {view.since ? ` since ${clock(view.since)}` : ""}
            </span>
          </h1>
          <p className="text-second">
            {view.instances.length} {view.instances.length === 1 ? "instance" : "instances"} on{" "}
            {[...new Set(view.instances.map((i) => i.host ?? "unknown hosts"))].join(", ")}
            {view.versions.length ? ` · version ${view.versions.join(", ")}` : ""}
          </p>
        </div>
        {find.isPending && <span className="text-second">Reading traces…</span>}
        {find.error && <span className="text-rust">{find.error.message}</span>}
        <Link className="action hover:no-underline" to={{ pathname: "/traces", search: tracesOf(search, name) }}>
          Traces
        </Link>
        <FindCause main windows={windows} asked={{ service: name, signal: signalOf(view.health) }} />
      </div>
      <div className="grid grid-cols-[minmax(0,1fr)_400px] gap-6">
        <div>
          <Outcomes view={view} shared={shared} onCause={ask("throughput")} />
          <Latency view={view} shared={shared} onCause={ask("latency")} />
          <Failing view={view} shared={shared} onCause={ask("errors")} />
          <LogRates service={name} windows={windows} changes={view.changes} />
          <Metrics service={name} windows={windows} changes={view.changes} />
        </div>
        <div>
          <Operations view={view} />
          <Calls title="calls" rows={view.calls} link />
          <Calls title="called by" rows={view.called_by} link />
          <NearChanges changes={view.changes} />
        </div>
      </div>
    </>
  );
}

export function tracesOf(search: string, service: string, more: Record<string, string> = {}): string {
  const query = new URLSearchParams(search);
  query.set("service", service);
  for (const [key, value] of Object.entries(more)) query.set(key, value);
  return `?${query}`;
}

type Shared = Pick<Parameters<typeof TimeChart>[0], "start" | "step_s" | "count" | "windows" | "changes">;
interface ChartProps {
  view: View;
  shared: Shared;
  onCause: (span: { start: number; end: number }) => void;
}

const outcomeColours: Record<Schemas["OutcomeSeries"]["name"], string> = {
  error: "var(--rust)",
  "client error": "var(--ochre)",
  ok: "color-mix(in srgb, var(--slate) 22%, transparent)",
};

/** Failures are drawn from the axis upward on a square-root axis, so that few among many can be seen. */
function Outcomes({ view, shared, onCause }: ChartProps) {
  return (
    <StackedRates
      {...shared}
      onCause={onCause}
      label="Requests/s by outcome"
      title={
        <>
          Requests by outcome <span className="font-normal text-second">per second, square-root axis</span>
        </>
      }
      lines={view.charts.outcomes}
      colours={outcomeColours}
    />
  );
}

function Latency({ view, shared, onCause }: ChartProps) {
  const lines = view.charts.latency;
  const headline = lines.findIndex((one) => one.is_headline);
  const all = [...lines.map((one) => one.values), view.charts.low].flat().filter((value): value is number => !!value);
  const draw = ({ at, top, bottom, left, right }: Drawing) => {
    const y = scaleLog([Math.min(...all, 1) * 0.85, Math.max(...all, 1e-3) * 1.1], [bottom, top]);
    const place = (value: number) => y(Math.max(value, y.domain()[0] ?? 1e-6));
    const plain = (values: Values = []) =>
      line<number>()
        .defined((i) => values[i] != null)
        .x(at)
        .y((i) => place(values[i] ?? 0))(values.map((_, i) => i)) ?? "";
    return (
      <>
        {ticksOf(y.ticks(), y, 18).map((tick) => (
          <GridLine key={tick} y={y(tick)} left={left} right={right} text={duration(tick)} />
        ))}
        {lines.map((one, level) =>
          one.is_headline ? (
            <Band key={one.name} x={at} y={place} values={one.values} low={view.charts.low} high={view.charts.high} />
          ) : (
            <path
              key={one.name}
              d={plain(one.values)}
              fill="none"
              stroke="var(--second)"
              strokeWidth={level < headline ? 1 : 0.9}
              strokeDasharray={level < headline ? "4 2" : undefined}
            />
          ),
        )}
        {lines.map((one, level) => {
          const last = one.values.at(-2) ?? one.values.at(-1);
          return last ? (
            <text
              key={one.name}
              x={right + 4}
              y={place(last) + (level > headline ? -2 : level === headline ? 8 : 4)}
              fontWeight={one.is_headline ? 700 : 400}
            >
              {one.name}
            </text>
          ) : null;
        })}
      </>
    );
  };
  return (
    <TimeChart
      {...shared}
      onCause={onCause}
      height={210}
      label={`Latency percentiles with the expected band of ${lines[headline]?.name}`}
      title={
        <>
          Latency <span className="font-normal text-second">log axis, band of {lines[headline]?.name}</span>
        </>
      }
      legend={(i) => (
        <>
          {lines.map((one) => (
            <span key={one.name} className={one.is_headline ? "font-bold text-ink" : ""}>
              {one.name} {duration(one.values[i])}{" "}
            </span>
          ))}
          · expected{" "}
          {view.charts.low[i] == null
            ? "not known yet"
            : `${duration(view.charts.low[i])} – ${duration(view.charts.high[i])}`}{" "}
          · {view.charts.samples[i] ?? 0} requests
        </>
      )}
      draw={draw}
    />
  );
}

function Failing({ view, shared, onCause }: ChartProps) {
  const values = view.charts.failed_share;
  const draw = ({ at, top, bottom, left, right }: Drawing) => {
    const y = scaleSqrt([0, Math.max(largest(values), 0.01)], [bottom, top]);
    return (
      <>
        {ticksOf(y.ticks(4), y, 16).map((tick) => (
          <GridLine key={tick} y={y(tick)} left={left} right={right} text={`${significant(tick * 100)} %`} />
        ))}
        <path
          fill="var(--rust)"
          d={
            area<number>()
              .x(at)
              .y0(bottom)
              .y1((i) => y(values[i] ?? 0))(values.map((_, i) => i)) ?? ""
          }
        />
      </>
    );
  };
  return (
    <TimeChart
      {...shared}
      onCause={onCause}
      height={100}
      label="Share of requests that failed"
      title={
        <>
          Failing <span className="font-normal text-second">share of requests, square-root axis</span>
        </>
      }
      legend={(i) => <>{share(values[i])}</>}
      draw={draw}
    />
  );
}

function Operations({ view }: { view: View }) {
  const { windows } = useOutletContext<FrameContext>();
  const { search } = useLocation();
  return (
    <table className="sheet-table mb-5">
      <thead>
        <tr>
          <th>operation</th>
          <th className="num">share of added latency</th>
          <th className="num text-kelp!">reference</th>
          <th className="num text-rust!">focus p95</th>
          <th />
        </tr>
      </thead>
      <tbody>
        {view.operations.map((row) => (
          <tr key={row.operation} data-operation={row.operation}>
            <td className="max-w-[132px] truncate font-mono text-[12px]" title={row.operation}>
              <Link to={{ pathname: "/traces", search: tracesOf(search, view.service, { operation: row.operation }) }}>
                {row.operation}
              </Link>
            </td>
            <td className="num">
              {row.share_of_added_latency == null ? (
                "–"
              ) : (
                <>
                  <Bar share={row.share_of_added_latency} main={row.share_of_added_latency >= 0.5} width={32} />{" "}
                  {percent(row.share_of_added_latency)}
                </>
              )}
            </td>
            <td className="num" title={`${interval(row.reference.p95_interval)}; ${row.reference.requests} requests`}>
              {duration(row.reference.p95)}
            </td>
            <td className="num" title={`${interval(row.focus.p95_interval)}; ${row.focus.requests} requests`}>
              {duration(row.focus.p95)}
            </td>
            <td className="num">
              <FindCause
                windows={windows}
                asked={{ service: view.service, operation: row.operation, signal: signalOf(view.health) }}
              />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

export function Bar({ share, main, width = 46 }: { share: number; main: boolean; width?: number }) {
  const filled = Math.max(0, Math.min(1, share)) * width;
  return (
    <svg width={width + 2} height="9" aria-hidden="true" className="inline-block">
      <rect x="0.5" y="0.5" width={width} height="8" fill="none" stroke="var(--slate)" />
      <rect x="0.5" y="0.5" width={filled} height="8" fill={main ? "var(--rust)" : "var(--slate)"} />
    </svg>
  );
}

function Calls({ title, rows, link }: { title: string; rows: Schemas["CallRow"][]; link: boolean }) {
  const { search } = useLocation();
  if (!rows.length) return null;
  return (
    <table className="sheet-table mb-5">
      <thead>
        <tr>
          <th>{title}</th>
          <th className="num" colSpan={2}>
            calls a request
          </th>
          <th className="num text-kelp!">reference</th>
          <th className="num text-rust!">focus p95</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.name}>
            <td>
              {link && row.kind === "service" ? (
                <Link to={{ pathname: `/services/${encodeURIComponent(row.name)}`, search }}>{row.name}</Link>
              ) : (
                row.name
              )}{" "}
              {row.kind !== "service" && <span className="text-second">{row.kind}</span>}
            </td>
            <td className="num text-kelp">{row.calls_reference == null ? "–" : significant(row.calls_reference, 2)}</td>
            <td className="num">{row.calls_focus == null ? "–" : significant(row.calls_focus, 2)}</td>
            <td className="num" title={`${interval(row.reference.p95_interval)}; ${row.reference.requests} calls`}>
              {duration(row.reference.p95)}
            </td>
            <td className="num" title={`${interval(row.focus.p95_interval)}; ${row.focus.requests} calls`}>
              {duration(row.focus.p95)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function NearChanges({ changes }: { changes: Schemas["ChangeOut"][] }) {
  return (
    <section>
      <h2>
        Changes <span>here and in what it calls</span>
      </h2>
      {changes.length === 0 && <p className="text-second">None in this time.</p>}
      <ul>
        {changes
          .slice(-6)
          .reverse()
          .map((change) => (
            <li key={change.id}>{changeTitle(change)}</li>
          ))}
      </ul>
    </section>
  );
}
