import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useLocation, useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { Gauge, healthColour } from "../../charts/Gauge";
import { Spark } from "../../charts/Spark";
import type { FrameContext } from "../../frame/Frame";
import { rangeQuery, useScope, windowsQuery } from "../../frame/scope";
import { FindCause, signalOf } from "../../shared/FindCause";
import { clock, duration, percentileTitle, rate, share, signed, significant } from "../../shared/format";
import { Waiting } from "../../shared/Waiting";

type Row = Schemas["ServiceHealth"];

export function Overview() {
  const { windows, ribbon } = useOutletContext<FrameContext>();
  const [scope] = useScope();
  const query = useQuery({
    queryKey: ["overview", scope.range, scope.environment, windows],
    queryFn: () =>
      take(
        client.GET("/api/overview", {
          params: { query: { ...rangeQuery(scope.range), ...windowsQuery(windows), environment: scope.environment } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const [held, setHeld] = useState<Schemas["Overview"] | null>(null);
  if (!query.data) return <Waiting error={query.error} what="the health of all services" />;
  if (!query.data.services.length) return <NothingYet newest={ribbon.newest} />;
  const shown = held ?? query.data;
  const worst = shown.services[0];
  return (
    <>
      <div className="mb-3 flex items-start gap-4">
        <div className="flex-1">
          <h1>{shown.sentence}</h1>
          <p className="text-second">{shown.detail}</p>
        </div>
        {worst && (
          <FindCause main windows={windows} asked={{ service: worst.service, signal: signalOf(worst.health) }} />
        )}
      </div>
      {/* The list holds still while it is read. */}
      <table className="sheet-table" onPointerEnter={() => setHeld(query.data)} onPointerLeave={() => setHeld(null)}>
        <caption className="sr-only">
          Services, worst first; figures of the focus, with the difference to the reference
        </caption>
        <thead>
          <tr>
            <th>health</th>
            <th>service</th>
            <th className="max-[1180px]:hidden">traffic</th>
            <th className="num" title="Requests a second, in the reference and in the focus">
              requests/s <span className="text-kelp">reference</span>, focus
            </th>
            <th className="num" colSpan={2}>
              failing
            </th>
            <th className="pl-4">latency p95</th>
            <th className="num max-[1180px]:hidden">p50</th>
            <th className="num">p95</th>
            <th className="num">p99</th>
            <th className="num" colSpan={2}>
              p95 <span className="text-kelp">reference</span>, change
            </th>
            <th className="num max-[1180px]:hidden">priority</th>
            <th className="num">since</th>
          </tr>
        </thead>
        <tbody>
          {shown.services.map((row) => (
            <ServiceRow key={row.service} row={row} />
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-second">
        {shown.services.length} services · sorted by priority: surprise in bits × √ of the share of traffic
        {held && held !== query.data ? " · newer figures wait until the pointer leaves the table" : ""}
      </p>
    </>
  );
}

function ServiceRow({ row }: { row: Row }) {
  const { search } = useLocation();
  const off = row.health === "slow" || row.health === "failing";
  const sample = `${row.focus.requests} requests in the focus window, ${row.reference.requests} in the reference window`;
  const difference = row.p95_difference;
  return (
    <tr data-service={row.service}>
      <td className="w-[88px] whitespace-nowrap">
        <Gauge health={row.health} /> <span className={healthColour(row.health)}>{row.health}</span>
      </td>
      <td className="font-semibold whitespace-nowrap">
        <Link to={{ pathname: `/services/${encodeURIComponent(row.service)}`, search }}>{row.service}</Link>
      </td>
      <td className="w-[132px] max-[1180px]:hidden">
        <Spark data={row.rate_spark} />
      </td>
      <td className="num" title={sample}>
        <span className="mr-2 text-kelp">{rate(row.reference.rate)}</span>
        {rate(row.focus.rate)}
      </td>
      <td
        className="num"
        title={`95 % interval ${share(row.focus.failed_low)} to ${share(row.focus.failed_high)}; ${sample}`}
      >
        {share(row.focus.failed_share)}
      </td>
      <td className="num text-second">
        {row.failed_difference == null ? "–" : signed((row.failed_difference * 100).toFixed(2), row.failed_difference)}
      </td>
      <td className="w-[136px] pl-4!">
        <Spark data={row.latency_spark} />
      </td>
      <td className="num text-second max-[1180px]:hidden" title={percentileTitle(row, "p50")}>
        {duration(row.focus.p50)}
      </td>
      <td className="num font-semibold" title={`${percentileTitle(row, "p95")}; ${sample}`} data-p95={row.focus.p95}>
        {duration(row.focus.p95)}
      </td>
      <td className="num text-second" title={percentileTitle(row, "p99")}>
        {duration(row.focus.p99)}
      </td>
      <td className="num text-kelp">{duration(row.reference.p95)}</td>
      <td className={`num ${off && difference && difference > 0 ? "text-rust" : "text-second"}`}>
        {difference == null ? "–" : signed(duration(difference), difference)}{" "}
        {row.p95_ratio == null ? "" : `${significant(row.p95_ratio, 2)}×`}
      </td>
      <td
        className="num max-[1180px]:hidden"
        title={`${row.bits} bits × √${significant(row.traffic_share, 2)} of the busiest service's traffic`}
      >
        {row.priority}
      </td>
      <td className="num">{row.since ? clock(row.since) : ""}</td>
    </tr>
  );
}

function NothingYet({ newest }: { newest: string | null }) {
  if (newest)
    return (
      <p className="py-6">
        Nothing was sent in this time. The newest record is of {clock(newest)} on {newest.slice(0, 10)}.
      </p>
    );
  return (
    <div className="py-6">
      <h1>Nothing has been sent yet.</h1>
      <p className="mb-3">Make a token with ./wirbel token NAME, then start any OpenTelemetry program with:</p>
      <pre className="border border-line bg-sheet p-3 font-mono">
        {`export OTEL_EXPORTER_OTLP_ENDPOINT=${window.location.origin}\nexport OTEL_EXPORTER_OTLP_PROTOCOL=http/protobuf\nexport OTEL_EXPORTER_OTLP_HEADERS="Authorization=Bearer TOKEN"`}
      </pre>
    </div>
  );
}
