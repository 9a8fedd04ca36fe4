import { useQuery } from "@tanstack/react-query";
import { useId, useState } from "react";
import { Link } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { LineChart } from "../../charts/LineChart";
import { useJump } from "../../frame/jump";
import { useScope } from "../../frame/scope";
import { signed } from "../../shared/format";
import { windowsOf } from "../../shared/inquiries";
import { LogTable } from "../../shared/LogTable";
import { Told } from "../../shared/Told";
import { Waiting } from "../../shared/Waiting";
import { toTrace } from "../places";

type View = Schemas["InquiryView"];
type One = Schemas["EvidenceView"];

/** A sentence for or against a candidate; what it was read from opens beneath it, or in the view that shows it. */
export function Evidence({ evidence, view }: { evidence: One; view: View }) {
  const jump = useJump();
  const [open, setOpen] = useState(false);
  const id = useId();
  const shows = evidence.series != null || evidence.pattern != null || evidence.lines.length > 0;
  return (
    <li className="flex gap-2">
      <span className={`w-[52px] shrink-0 ${evidence.for ? "text-rust" : "text-kelp"}`}>
        {evidence.for ? "for" : "against"}
      </span>
      <div className="min-w-0 flex-1">
        <Told text={evidence.text} />{" "}
        {shows && (
          <button
            type="button"
            className="text-second underline"
            aria-expanded={open}
            aria-controls={id}
            onClick={() => setOpen(!open)}
          >
            {open ? "close" : "show"}
          </button>
        )}{" "}
        {evidence.link && (
          <Link className="text-second underline" to={jump(evidence.link)}>
            {evidence.link.startsWith("/traces") ? "see one" : "see"}
          </Link>
        )}
        {shows && (
          <div id={id} hidden={!open} className="my-1 border-l border-line pl-3">
            {open && <Seen evidence={evidence} view={view} />}
          </div>
        )}
      </div>
      <span className="text-second">
        {Math.abs(evidence.weight) >= 0.05 ? signed(evidence.weight.toFixed(1), evidence.weight) : ""}
      </span>
    </li>
  );
}

function Seen({ evidence, view }: { evidence: One; view: View }) {
  const { series, lines, pattern } = evidence;
  return (
    <>
      {series && <Beside series={series} name={evidence.metric ?? "metric"} view={view} />}
      {lines.length > 0 && <Lines lines={lines} />}
      {pattern && <Records pattern={pattern} view={view} />}
    </>
  );
}

const measured: Record<string, string> = {
  latency: "mean duration",
  errors: "share of failures",
  throughput: "requests/s",
};

/** A measure with the symptom under it, on one axis of time. */
function Beside({ series, name, view }: { series: Schemas["SeriesOut"]; name: string; view: View }) {
  const shared = { windows: windowsOf(view), changes: view.changes.map((one) => one.change) };
  const { service, signal } = view.symptom;
  return (
    <>
      <LineChart title={name} series={series} {...shared} />
      {view.series && (
        <LineChart title={`the symptom: ${measured[signal]} of ${service}`} series={view.series} {...shared} />
      )}
    </>
  );
}

function Lines({ lines }: { lines: One["lines"] }) {
  return (
    <table className="sheet-table w-auto! font-mono text-[12px]" aria-label="Lines of configuration">
      <thead>
        <tr>
          <th>line</th>
          <th>before</th>
          <th>after</th>
        </tr>
      </thead>
      <tbody>
        {lines.map((line) => (
          <tr key={line.key}>
            <td>{line.key}</td>
            <td>{line.before ?? "–"}</td>
            <td>{line.after ?? "–"}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Records({ pattern, view }: { pattern: Schemas["LogPattern"]; view: View }) {
  const jump = useJump();
  const [{ environment }] = useScope();
  const query = useQuery({
    queryKey: ["log-records", pattern, view.focus, environment],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/services/{name}/log-records", {
          signal,
          params: {
            path: { name: pattern.service },
            query: { template: pattern.templates, start: view.focus.from, end: view.focus.to, environment },
          },
        }),
      ),
    staleTime: Infinity,
  });
  if (!query.data) return <Waiting error={query.error} what="its log records" />;
  const { count, records } = query.data;
  return (
    <LogTable
      label="Log records"
      caption={
        count > records.length
          ? `the first ${records.length} of ${count} records in the focus`
          : `${count} in the focus`
      }
      records={records}
      lead={({ trace, span }) =>
        trace &&
        span && (
          <Link className="text-second underline" to={jump(toTrace({ trace, span }))}>
            trace
          </Link>
        )
      }
    />
  );
}
