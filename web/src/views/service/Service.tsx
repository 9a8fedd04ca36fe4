import { useQuery } from "@tanstack/react-query";
import { scaleLog, scaleSqrt } from "d3-scale";
import { area } from "d3-shape";
import { useQueryStates } from "nuqs";
import { Link, useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { GridLine, logTicks, nothing, ticksOf } from "../../charts/axis";
import { Band } from "../../charts/Band";
import { changeTitle } from "../../charts/ChangeMark";
import { Earlier, EarlierLegend, reachOf } from "../../charts/Earlier";
import { Gauge, healthColour } from "../../charts/Gauge";
import { known, Line, type Values } from "../../charts/Line";
import { StackedRates } from "../../charts/StackedRates";
import { type Drawing, TimeChart } from "../../charts/TimeChart";
import type { ComparedContext } from "../../frame/Frame";
import { useJump } from "../../frame/jump";
import { type Before, rangeQuery, type Scope, useScope, type Windows, windowsQuery } from "../../frame/scope";
import { BesideChoice } from "../../shared/BesideChoice";
import { FindCause, Finding, useFindCause } from "../../shared/FindCause";
import { FromBefore, keptOf, useStale } from "../../shared/FromBefore";
import { clock, duration, share, significant } from "../../shared/format";
import { useNamedService } from "../../shared/named";
import { useFirst } from "../../shared/useFirst";
import { Waiting } from "../../shared/Waiting";
import { serviceState, toTraces } from "../places";
import { LogRates } from "./LogRates";
import { Metrics } from "./Metrics";
import { Moments, Snapshot } from "./Moment";
import { Calls, Operations, Siblings, Statuses } from "./Tables";

type View = Schemas["ServiceView"];
const MOST_CHANGES = 6;

/** What the view asks for first. */
export const serviceQuery = (name: string, scope: Scope, windows: Windows, rows: number | null, beside: Before[]) => ({
  queryKey: ["service", name, scope.range, scope.last, scope.environment, windowsQuery(windows), rows, beside],
  queryFn: ({ signal }: { signal: AbortSignal }) =>
    take(
      client.GET("/api/services/{name}", {
        signal,
        params: {
          path: { name },
          query: {
            ...rangeQuery(scope),
            ...windowsQuery(windows),
            environment: scope.environment,
            beside,
            ...(rows && { rows }),
          },
        },
      }),
    ),
});

export function Service() {
  const name = useNamedService() ?? "";
  const { windows, me } = useOutletContext<ComparedContext>();
  const jump = useJump();
  const [scope] = useScope();
  const find = useFindCause(windows);
  const [{ rows, beside }] = useQueryStates({ rows: serviceState.rows, beside: serviceState.beside });
  const asked = serviceQuery(name, scope, windows, rows, beside);
  const { queryKey } = asked;
  const query = useQuery({ ...asked, placeholderData: keptOf(name) });
  const stale = useStale(query, [name, scope]);
  const view = query.data;
  const what = `the charts of ${name}`;
  if (!view) return <Waiting error={query.error} what={what} stops={queryKey} />;
  const serves = view.charts.samples.some((count) => count > 0) || view.operations.length > 0;
  const shared = {
    start: view.charts.start,
    step_s: view.charts.step_s,
    count: view.charts.samples.length,
    windows,
    changes: view.changes,
    known: (index: number) => (view.charts.samples[index] ?? 0) > 0,
  };
  const ask = (signal: string) =>
    me.may_respond
      ? (focus: { start: number; end: number }) => find.mutate({ service: name, signal, focus })
      : undefined;
  // Before there is a verdict, and of windows that a person chose, it can always be asked what slowed requests down.
  const signal = view.signal ?? (windows.chosen || view.health === "learning" ? "latency" : null);
  return (
    <FromBefore stale={stale} queryKey={queryKey} what={what}>
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
            {instancesOf(view)}
            {view.versions.length ? ` · version ${view.versions.join(", ")}` : ""}
          </p>
        </div>
        <Finding find={find} />
        <Link className="action hover:no-underline" to={jump(toTraces({ service: name }))}>
          Traces
        </Link>
        {!stale && <FindCause main windows={windows} asked={signal ? { service: name, signal } : null} />}
      </div>
      {!serves && (
        <p className="mb-3 border-y border-line py-2">
          It serves no requests in this time; what it does send is below.
        </p>
      )}
      <Moments>
        <div className="grid grid-cols-[minmax(0,1fr)_400px] gap-6">
          <div>
            {serves && (
              <>
                <BesideChoice />
                <Outcomes view={view} shared={shared} onCause={ask("throughput")} />
                <Latency view={view} shared={shared} onCause={ask("latency")} />
                <Failing view={view} shared={shared} onCause={ask("errors")} />
              </>
            )}
            <LogRates service={name} windows={windows} changes={view.changes} />
            <Metrics service={name} windows={windows} changes={view.changes} />
          </div>
          <div>
            <Snapshot service={name} first={windows.focus.start}>
              <Operations view={view} />
              <Siblings view={view} />
              <Statuses view={view} />
              <Calls title="calls" rows={view.calls} inAll={view.in_all.calls} />
              <Calls title="called by" rows={view.called_by} inAll={view.in_all.called_by} />
              <NearChanges changes={view.changes} />
            </Snapshot>
          </div>
        </div>
      </Moments>
    </FromBefore>
  );
}

const MOST_HOSTS = 6;

function instancesOf(view: View): string {
  const { instances, hosts } = view.in_all;
  if (!instances) return "its records name no instance";
  const named = view.by_host.slice(0, MOST_HOSTS).map((host) => host.name);
  const more = hosts > MOST_HOSTS ? ` and ${hosts - MOST_HOSTS} more` : "";
  const where = hosts ? `on ${named.join(", ")}${more}` : "on unknown hosts";
  return `${instances} ${instances === 1 ? "instance" : "instances"} ${where}`;
}

type Shared = Pick<Parameters<typeof TimeChart>[0], "start" | "step_s" | "count" | "windows" | "changes" | "known">;
interface ChartProps {
  view: View;
  shared: Shared;
  onCause: ((span: { start: number; end: number }) => void) | undefined;
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
      earlier={view.charts.earlier.map((one) => one.rate)}
      colours={outcomeColours}
    />
  );
}

const NAME = 10; // px from the name of one line to that of the next

/** The last that is known, of a minute that is over if there is one. */
const endOf = (values: Values) => values.slice(0, -1).findLast(known) ?? values.at(-1);

function Latency({ view, shared, onCause }: ChartProps) {
  const lines = view.charts.latency;
  const headline = lines.findIndex((one) => one.is_headline);
  const earlier = view.charts.earlier.map((one) => one.latency);
  const all = [...lines.map((one) => one.values), view.charts.low, reachOf(earlier)]
    .flat()
    .filter((value): value is number => !!value);
  const draw = ({ x, at, top, bottom, left, right }: Drawing) => {
    const y = scaleLog([Math.min(...all) * 0.85, Math.max(...all) * 1.1], [bottom, top]).clamp(true);
    const middle = y(endOf(lines[headline]?.values ?? []) ?? 0) + 8;
    /** Names keep apart where lines end at one place. */
    const besideLine = (end: number, level: number) => {
      if (level === headline) return middle;
      return level > headline ? Math.min(end - 2, middle - NAME) : Math.max(end + 4, middle + NAME);
    };
    return (
      <>
        {ticksOf(logTicks(y.domain(), y.ticks(5)), y, 18).map((tick) => (
          <GridLine key={tick} y={y(tick)} left={left} right={right} text={duration(tick)} />
        ))}
        {lines.map((one, level) =>
          one.is_headline ? (
            <Band key={one.name} x={at} y={y} values={one.values} low={view.charts.low} high={view.charts.high} />
          ) : (
            <Line
              key={one.name}
              x={at}
              y={y}
              values={one.values}
              stroke="var(--second)"
              strokeWidth={level < headline ? 1 : 0.9}
              strokeDasharray={level < headline ? "4 2" : undefined}
            />
          ),
        )}
        <Earlier lines={earlier} x={x} y={y} top={top} />
        {lines.map((one, level) => {
          const end = endOf(one.values);
          return end ? (
            <text key={one.name} x={right + 4} y={besideLine(y(end), level)} fontWeight={one.is_headline ? 700 : 400}>
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
      isEmpty={nothing(...lines.map((one) => one.values))}
      label={`Latency percentiles with the expected band of ${lines[headline]?.name}`}
      title={
        <>
          Latency <span className="font-normal text-second">log axis, band of {lines[headline]?.name}</span>
        </>
      }
      legend={(i, time) => (
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
          · {requests(view.charts.samples[i] ?? 0)}
          <EarlierLegend lines={earlier} time={time} say={duration} />
        </>
      )}
      columns={[
        ...lines.map((one) => ({ name: one.name, at: (i: number) => duration(one.values[i]) })),
        {
          name: `expected ${lines[headline]?.name}`,
          at: (i) => `${duration(view.charts.low[i])} – ${duration(view.charts.high[i])}`,
        },
        { name: "requests", at: (i) => view.charts.samples[i] ?? 0 },
      ]}
      draw={draw}
    />
  );
}

const requests = (count: number) => (count === 1 ? "1 request" : `${count} requests`);

function Failing({ view, shared, onCause }: ChartProps) {
  const values = view.charts.failed_share;
  const earlier = view.charts.earlier.map((one) => one.failed_share);
  const draw = ({ x, at, top, bottom, left, right }: Drawing) => {
    const y = scaleSqrt([0, Math.max(...values.map((value) => value ?? 0), ...reachOf(earlier), 0.01)], [bottom, top]);
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
        <Earlier lines={earlier} x={x} y={y} top={top} />
      </>
    );
  };
  return (
    <TimeChart
      {...shared}
      onCause={onCause}
      height={100}
      isEmpty={nothing(values)}
      label="Share of requests that failed"
      title={
        <>
          Failing <span className="font-normal text-second">share of requests, square-root axis</span>
        </>
      }
      legend={(i, time) => (
        <>
          {share(values[i])}
          <EarlierLegend lines={earlier} time={time} say={share} />
        </>
      )}
      columns={[{ name: "failing", at: (i) => share(values[i]) }]}
      draw={draw}
    />
  );
}

function NearChanges({ changes }: { changes: Schemas["ChangeOut"][] }) {
  const [newest, offer] = useFirst([...changes].reverse(), MOST_CHANGES, "changes");
  return (
    <section>
      <h2>
        Changes <span>here and in what it calls</span>
      </h2>
      {changes.length === 0 && <p className="text-second">None in this time.</p>}
      <ul>
        {newest.map((change) => (
          <li key={change.id}>{changeTitle(change)}</li>
        ))}
      </ul>
      {offer}
    </section>
  );
}
