import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { memo, useCallback, useState } from "react";
import { Link, useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import type { paths } from "../../api/schema.generated";
import { Gauge, healthColour } from "../../charts/Gauge";
import { Spark } from "../../charts/Spark";
import type { ComparedContext } from "../../frame/Frame";
import { useJump } from "../../frame/jump";
import { rangeQuery, type Scope, useScope, type Windows, windowsQuery, within } from "../../frame/scope";
import { FindCause } from "../../shared/FindCause";
import { FromBefore, useStale } from "../../shared/FromBefore";
import {
  clock,
  dayAndClock,
  duration,
  minute,
  percentileTitle,
  rate,
  share,
  signed,
  significant,
} from "../../shared/format";
import { ScrolledTable } from "../../shared/ScrolledTable";
import { Tip } from "../../shared/Tip";
import { Waiting } from "../../shared/Waiting";
import { toDisturbance, toService } from "../places";
import { FirstSteps } from "./FirstSteps";

type Row = Schemas["ServiceHealth"];
const WHAT = "the health of all services";
const ROW = 35; // px
const COLUMNS = 14;

type Question = paths["/api/overview"]["get"]["parameters"]["query"];

/** The services from the `first` worst on. */
const page = (whole: Question, first: number) => ({
  queryKey: ["overview", whole, first],
  queryFn: ({ signal }: { signal: AbortSignal }) =>
    take(client.GET("/api/overview", { signal, params: { query: { ...whole, first } } })),
});

const wholeOf = (scope: Scope, windows: Windows): Question => ({
  ...rangeQuery(scope),
  ...windowsQuery(windows),
  ...within(scope),
});

/** What the view asks for first. */
export const overviewQuery = (scope: Scope, windows: Windows) => page(wholeOf(scope, windows), 0);

export function Overview() {
  const { windows, ribbon } = useOutletContext<ComparedContext>();
  const [scope] = useScope();
  const jump = useJump();
  const whole = wholeOf(scope, windows);
  const first = overviewQuery(scope, windows);
  const query = useQuery({ ...first, placeholderData: keepPreviousData });
  const stale = useStale(query, [scope]);
  // The list holds still while it is read, but only for the question that was asked.
  const asked = JSON.stringify(scope);
  const [held, setHeld] = useState<{ asked: string; data: Schemas["Overview"]; whole: Question } | null>(null);
  if (!query.data) return <Waiting error={query.error} what={WHAT} stops={first.queryKey} />;
  if (!query.data.services.length) return <NothingYet newest={ribbon?.newest ?? null} scope={scope.scope} />;
  const shown = held?.asked === asked ? held.data : query.data;
  const worst = shown.services[0];
  return (
    <FromBefore stale={stale} queryKey={first.queryKey} what={WHAT}>
      <div className="mb-3 flex items-start gap-4">
        <div className="flex-1">
          <h1>{shown.sentence}</h1>
          <p className="text-second">{shown.detail}</p>
          {shown.disturbances.map((one) => (
            <p key={one.id}>
              Since {minute(one.since)}: <Link to={jump(toDisturbance(one.id))}>{one.sentence}</Link>
            </p>
          ))}
        </div>
        {worst?.signal && !stale && (
          <FindCause main windows={windows} asked={{ service: worst.service, signal: worst.signal }} />
        )}
      </div>
      <Table
        first={shown}
        whole={held?.asked === asked ? held.whole : whole}
        onPointerEnter={() => stale || setHeld({ asked, data: query.data, whole })}
        onPointerLeave={() => setHeld(null)}
      />
      <p className="mt-2 text-second">
        {shown.found} {shown.found === 1 ? "service" : "services"} · sorted by priority: surprise in bits × √ of the
        share of traffic
        {shown !== query.data ? " · newer figures wait until the pointer leaves the table" : ""}
      </p>
      <FirstSteps />
    </FromBefore>
  );
}

const head = (
  <tr>
    <th>health</th>
    <th>service</th>
    <th className="max-[1180px]:hidden">traffic</th>
    <Tip text="Requests a second, in the reference and in the focus">
      <th className="num">
        requests/s <span className="text-kelp">reference</span>, <span className="text-rust">focus</span>
      </th>
    </Tip>
    <th className="num" colSpan={2}>
      failing <span className="text-rust">focus</span>, change (pp)
    </th>
    <th className="pl-4">latency p95</th>
    <th className="num max-[1180px]:hidden">
      <span className="text-rust">focus</span> p50
    </th>
    <th className="num">
      <span className="text-rust">focus</span> p95
    </th>
    <th className="num">
      <span className="text-rust">focus</span> p99
    </th>
    <th className="num" colSpan={2}>
      p95 <span className="text-kelp">reference</span>, change
    </th>
    <th className="num max-[1180px]:hidden">priority</th>
    <th className="num">since</th>
  </tr>
);

interface TableProps {
  /** The first page, which tells how many there are. */
  first: Schemas["Overview"];
  whole: Question;
  onPointerEnter: () => void;
  onPointerLeave: () => void;
}

/** All services, worst first; pages after the first are asked for when they are looked at. */
function Table({ first, whole, ...pointer }: TableProps) {
  const [pages, setPages] = useState<number[]>([]);
  const size = first.services.length;
  const onRange = useCallback(
    (from: number, to: number) => {
      const wanted: number[] = [];
      for (let at = Math.max(Math.floor(from / size), 1); at <= Math.floor(to / size); at++) wanted.push(at);
      setPages((before) => (before.join() === wanted.join() ? before : wanted));
    },
    [size],
  );
  const found = useQueries({
    queries: pages.map((at) => ({ ...page(whole, at * size), placeholderData: keepPreviousData })),
  });
  const caption = (
    <caption className="sr-only">
      Services, worst first; figures of the focus, with the difference to the reference
    </caption>
  );
  if (first.found === size) {
    return (
      <table className="sheet-table" {...pointer}>
        {caption}
        <thead>{head}</thead>
        <tbody>
          {first.services.map((row) => (
            <ServiceRow key={row.service} row={row} />
          ))}
        </tbody>
      </table>
    );
  }
  const rowAt = (index: number) => {
    const at = Math.floor(index / size);
    return (at === 0 ? first : found[pages.indexOf(at)]?.data)?.services[index % size];
  };
  return (
    <ScrolledTable
      label="Services, worst first"
      count={first.found}
      row={ROW}
      columns={COLUMNS}
      head={head}
      caption={caption}
      onRange={onRange}
      {...pointer}
    >
      {(index) => {
        const row = rowAt(index);
        return row ? (
          <ServiceRow key={index} row={row} index={index} />
        ) : (
          <tr key={index} style={{ height: ROW }} aria-rowindex={index + 1}>
            <td colSpan={COLUMNS} className="text-second">
              …
            </td>
          </tr>
        );
      }}
    </ScrolledTable>
  );
}

/** A row is drawn anew only if it has changed: the table around it is whenever it is scrolled or measured. */
const ServiceRow = memo(function ServiceRow({ row, index }: { row: Row; index?: number }) {
  const jump = useJump();
  const off = row.health === "slow" || row.health === "failing";
  const sample = `${row.focus.requests} requests in the focus window, ${row.reference.requests} in the reference window`;
  const difference = row.p95_difference;
  const failing = `95 % interval ${share(row.focus.failed_low)} to ${share(row.focus.failed_high)}`;
  // One cell of the row can be reached by keyboard, and tells what the others do.
  const told = [
    sample,
    `failing: ${failing}`,
    ...(["p50", "p95", "p99"] as const).map((name) => `${name}: ${percentileTitle(row, name)}`),
  ];
  return (
    <tr
      data-service={row.service}
      {...(index === undefined ? {} : { style: { height: ROW }, "aria-rowindex": index + 1 })}
    >
      <td className="w-[88px] whitespace-nowrap">
        <Gauge health={row.health} /> <span className={healthColour(row.health)}>{row.health}</span>
      </td>
      <td className="font-semibold whitespace-nowrap [&_a]:max-w-[24ch]!">
        <Link to={jump(toService(row.service))}>{row.service}</Link>
      </td>
      <td className="w-[132px] max-[1180px]:hidden">
        <Spark data={row.rate_spark} />
      </td>
      <Tip text={sample} quiet>
        <td className="num">
          <span className="mr-2 text-kelp">{rate(row.reference.rate)}</span>
          {rate(row.focus.rate)}
        </td>
      </Tip>
      <Tip text={`${failing}; ${sample}`} quiet>
        <td className="num">{share(row.focus.failed_share)}</td>
      </Tip>
      <td className="num text-second">
        {row.failed_difference == null ? "–" : signed((row.failed_difference * 100).toFixed(2), row.failed_difference)}
      </td>
      <td className="w-[136px] pl-4!">
        <Spark data={row.latency_spark} />
      </td>
      <Tip text={percentileTitle(row, "p50")} quiet>
        <td className="num text-second max-[1180px]:hidden">{duration(row.focus.p50)}</td>
      </Tip>
      <Tip text={told.join("\n")}>
        <td className="num font-semibold" data-p95={row.focus.p95}>
          {duration(row.focus.p95)}
        </td>
      </Tip>
      <Tip text={percentileTitle(row, "p99")} quiet>
        <td className="num text-second">{duration(row.focus.p99)}</td>
      </Tip>
      <td className="num text-kelp">{duration(row.reference.p95)}</td>
      <td className={`num ${off && difference && difference > 0 ? "text-rust" : "text-second"}`}>
        {difference == null ? "–" : signed(duration(difference), difference)}{" "}
        {row.p95_ratio == null ? "" : `${significant(row.p95_ratio, 2)}×`}
      </td>
      <Tip text={`${row.bits} bits × √${significant(row.traffic_share, 2)} of the busiest service's traffic`}>
        <td className="num max-[1180px]:hidden">{row.priority}</td>
      </Tip>
      <td className="num">{row.since ? clock(row.since) : ""}</td>
    </tr>
  );
});

function NothingYet({ newest, scope }: { newest: string | null; scope: string | null }) {
  const sent = scope ? `No service of scope ${scope} served a request in this time.` : "Nothing was sent in this time.";
  return (
    <div className="py-6">
      <h1>{newest ? sent : "Nothing has been sent yet."}</h1>
      {newest && <p>The newest record is of {dayAndClock(newest)}.</p>}
      {!scope && <FirstSteps />}
    </div>
  );
}
