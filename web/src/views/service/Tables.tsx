import { useQueryStates } from "nuqs";
import { Tabs } from "radix-ui";
import { Link, useOutletContext } from "react-router";
import type { Schemas } from "../../api/client";
import { Bar } from "../../charts/Bar";
import type { ComparedContext } from "../../frame/Frame";
import { useJump } from "../../frame/jump";
import { FindCause } from "../../shared/FindCause";
import { duration, interval, percent, rate, share, significant } from "../../shared/format";
import { Tip } from "../../shared/Tip";
import { useFirst } from "../../shared/useFirst";
import { serviceState, toService, toTraces } from "../places";

type View = Schemas["ServiceView"];

const SOME = 12; // rows of a table before the rest is offered

export function Operations({ view }: { view: View }) {
  const { windows } = useOutletContext<ComparedContext>();
  const jump = useJump();
  const [rows, offer] = useFirst(view.operations, SOME, "operations");
  return (
    <div className="mb-5">
      <table className="sheet-table">
        <thead>
          <tr>
            <th>operation</th>
            <th className="num">share of added latency</th>
            <P95Heads />
            <th>
              <span className="sr-only">inquiry</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.operation} data-operation={row.operation}>
              <Tip text={row.operation} focusable>
                <td className="max-w-[132px] truncate font-mono text-[12px]">
                  <Link to={jump(toTraces({ service: view.service, operation: row.operation }))}>{row.operation}</Link>
                </td>
              </Tip>
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
              <P95s row={row} of="requests" />
              <td className="num">
                <FindCause
                  windows={windows}
                  asked={view.signal ? { service: view.service, operation: row.operation, signal: view.signal } : null}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {offer}
      <Left sent={view.operations.length} inAll={view.in_all.operations} what="operations" />
    </div>
  );
}

const P95Heads = () => (
  <>
    <th className="num text-kelp!">reference</th>
    <th className="num text-rust!">focus p95</th>
  </>
);

interface BothWindows {
  focus: Schemas["Figures"];
  reference: Schemas["Figures"];
}

/** The p95 of both windows; pointed at, how well it is known. */
function P95s({ row, of }: { row: BothWindows; of: string }) {
  return [row.reference, row.focus].map((figures, window) => (
    <Tip key={window} text={`${interval(figures.p95_interval)}; ${figures.requests} ${of}`} quiet={window === 0}>
      <td className="num">{duration(figures.p95)}</td>
    </Tip>
  ));
}

/** What of a table the server did not send. */
function Left({ sent, inAll, what }: { sent: number; inAll: number; what: string }) {
  const [, setState] = useQueryStates({ rows: serviceState.rows });
  if (sent >= inAll) return null;
  return (
    <p className="text-second">
      The {sent} busiest of {inAll} {what}.{" "}
      <button type="button" className="underline" onClick={() => void setState({ rows: inAll })}>
        read all
      </button>
    </p>
  );
}

interface Part extends BothWindows {
  name: string;
  beside?: string | null;
}

/** Instances, versions and hosts beside their siblings: one of them may be the bad one. */
export function Siblings({ view }: { view: View }) {
  const kinds: [string, Part[], number][] = [
    [
      "instances",
      view.instances.map((one) => ({ ...one, name: one.instance, beside: one.version })),
      view.in_all.instances,
    ],
    ["versions", view.by_version, view.in_all.versions],
    ["hosts", view.by_host, view.in_all.hosts],
  ];
  const told = kinds.filter(([, rows]) => rows.length > 0);
  const [first] = told;
  if (!first) return null;
  return (
    <Tabs.Root defaultValue={first[0]} className="mb-5">
      <Tabs.List aria-label="Parts of the service" className="flex gap-4 border-b border-ink">
        {told.map(([name, , inAll]) => (
          <Tabs.Trigger
            key={name}
            value={name}
            className="pb-1 text-second data-[state=active]:border-b-[3px] data-[state=active]:border-ink data-[state=active]:font-bold data-[state=active]:text-ink"
          >
            {name} {inAll}
          </Tabs.Trigger>
        ))}
      </Tabs.List>
      {told.map(([name, rows, inAll]) => (
        <Tabs.Content key={name} value={name}>
          <PartTable rows={rows} what={name} />
          <Left sent={rows.length} inAll={inAll} what={name} />
        </Tabs.Content>
      ))}
    </Tabs.Root>
  );
}

function PartTable({ rows, what }: { rows: Part[]; what: string }) {
  const [shown, offer] = useFirst(rows, SOME, what);
  return (
    <>
      <table className="sheet-table">
        <thead>
          <tr>
            <th>{what.slice(0, -1)}</th>
            <th className="num">requests/s</th>
            <th className="num">errors</th>
            <P95Heads />
          </tr>
        </thead>
        <tbody>
          {shown.map((row) => (
            <tr key={row.name} data-part={row.name}>
              <Tip text={row.name} quiet>
                <td className="max-w-[150px] truncate">
                  {row.name} {row.beside && <span className="text-second">{row.beside}</span>}
                </td>
              </Tip>
              <Tip text={`${rate(row.reference.rate)} in the reference`} quiet>
                <td className="num">{rate(row.focus.rate)}</td>
              </Tip>
              <Tip text={`${share(row.reference.failed_share)} in the reference`} quiet>
                <td className="num">{share(row.focus.failed_share)}</td>
              </Tip>
              <P95s row={row} of="requests" />
            </tr>
          ))}
        </tbody>
      </table>
      {offer}
    </>
  );
}

/** Exact status codes, failures first. */
export function Statuses({ view }: { view: View }) {
  const [rows, offer] = useFirst(view.statuses, SOME, "status codes");
  const jump = useJump();
  if (!view.statuses.some((one) => one.code !== null)) return null;
  return (
    <div className="mb-5">
      <table className="sheet-table" aria-label="Status codes">
        <thead>
          <tr>
            <th>outcome</th>
            <th>status</th>
            <th className="num text-kelp!">reference</th>
            <th className="num text-rust!">focus requests/s</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={`${row.outcome} ${row.code}`}>
              <td
                className={row.outcome === "error" ? "text-rust" : row.outcome === "client error" ? "text-ochre" : ""}
              >
                <Link to={jump(toTraces({ service: view.service, outcome: row.outcome, status: row.code }))}>
                  {row.outcome}
                </Link>
              </td>
              <td className="font-mono">{row.code ?? "–"}</td>
              <td className="num">{rate(row.reference_rate)}</td>
              <td className="num">{rate(row.focus_rate)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {offer}
    </div>
  );
}

export function Calls({ title, rows, inAll }: { title: string; rows: Schemas["CallRow"][]; inAll: number }) {
  const jump = useJump();
  const [shown, offer] = useFirst(rows, SOME, "rows");
  if (!rows.length) return null;
  return (
    <div className="mb-5">
      <table className="sheet-table">
        <thead>
          <tr>
            <th>{title}</th>
            <th className="num" colSpan={2}>
              calls a request
            </th>
            <P95Heads />
          </tr>
        </thead>
        <tbody>
          {shown.map((row) => (
            <tr key={row.name}>
              <td>
                {row.kind === "service" ? <Link to={jump(toService(row.name))}>{row.name}</Link> : row.name}{" "}
                {row.kind !== "service" && <span className="text-second">{row.kind}</span>}
              </td>
              <td className="num text-kelp">
                {row.calls_reference == null ? "–" : significant(row.calls_reference, 2)}
              </td>
              <td className="num">{row.calls_focus == null ? "–" : significant(row.calls_focus, 2)}</td>
              <P95s row={row} of="calls" />
            </tr>
          ))}
        </tbody>
      </table>
      {offer}
      <Left sent={rows.length} inAll={inAll} what="rows" />
    </div>
  );
}
