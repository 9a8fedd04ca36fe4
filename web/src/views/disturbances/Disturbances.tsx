import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { Link, useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { changeTitle } from "../../charts/ChangeMark";
import type { FrameContext } from "../../frame/Frame";
import { useJump } from "../../frame/jump";
import { rangeQuery, spanOf, useScope, within } from "../../frame/scope";
import { clock, dayAndClock, minute, significant, span } from "../../shared/format";
import { More } from "../../shared/More";
import { Tip } from "../../shared/Tip";
import { Waiting } from "../../shared/Waiting";
import { disturbancesState, toDisturbance } from "../places";
import { Spans } from "./Spans";

type Row = Schemas["DisturbanceRow"];

const PAGE = 100;
const MOST = 500;
const REFRESHED_MS = 10_000;
const BEHIND_MS = 5 * 60_000; // that is usual: minutes are read when they are over
const LEAST_BITS = 60; // that fill the bar
const BAR = 44;

/** What departed from normal, live and past: when, where, what led, and what changed before. */
export function Disturbances() {
  const { ribbon } = useOutletContext<FrameContext>();
  const [scope] = useScope();
  const [{ most }, setState] = useQueryStates(disturbancesState);
  const query = useQuery({
    queryKey: ["disturbances", scope.range, scope.last, within(scope), most],
    placeholderData: keepPreviousData,
    refetchInterval: REFRESHED_MS,
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/disturbances", {
          signal,
          params: { query: { ...rangeQuery(scope), ...within(scope), most } },
        }),
      ),
  });
  if (!query.data) return <Waiting error={query.error} what="disturbances" />;
  const { rows, found, until } = query.data;
  const range = spanOf(query.data);
  const now = until ? Date.parse(until) : range.end;
  const mostBits = Math.max(LEAST_BITS, ...rows.map((row) => row.bits));
  const live = rows.filter((row) => row.end === null && row.no_data_since === null);
  return (
    <>
      <h1>{headline(live.length, rows.length, until === null || range.end - now > BEHIND_MS)}</h1>
      <p className="mb-3 text-second">
        <Judged list={query.data} newest={ribbon?.newest ?? null} />
      </p>
      {rows.length > 0 && <Spans rows={rows} range={range} now={now} />}
      <table className="sheet-table" hidden={rows.length === 0}>
        <thead>
          <tr>
            <th>began</th>
            <th>lasted</th>
            <th>what led, what followed</th>
            <th className="num">services</th>
            <th className="num">surprise (bits)</th>
            <th className="pl-3">a plain threshold</th>
            <th>changed before</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <DisturbanceLine key={row.id} row={row} now={now} most={mostBits} />
          ))}
        </tbody>
      </table>
      <More
        shown={rows.length}
        found={found}
        limit={MOST}
        page={PAGE}
        more={() => void setState({ most: most + PAGE })}
        beyond="A shorter range shows the others."
      />
      <Better rows={query.data.better} now={now} />
    </>
  );
}

/** What only became faster, or failed less. */
function Better({ rows, now }: { rows: Row[]; now: number }) {
  const jump = useJump();
  if (rows.length === 0) return null;
  return (
    <section aria-label="Better than expected" className="mt-5">
      <h2>
        Better than expected <span>faster, or fewer failures: it hurts nobody</span>
      </h2>
      <table className="sheet-table">
        <tbody>
          {rows.map((row) => (
            <tr key={row.id}>
              <td className="whitespace-nowrap">{minute(row.start)}</td>
              <td className="whitespace-nowrap">
                <Lasted row={row} now={now} goesOn="text-ink" />
              </td>
              <td className="w-full pl-3!">
                <Link to={jump(toDisturbance(row.id))}>{row.sentence}</Link>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** How long it lasted, or that nobody can say whether it goes on. */
function Lasted({ row, now, goesOn = "text-rust" }: { row: Row; now: number; goesOn?: string }) {
  const until = Date.parse(row.end ?? row.no_data_since ?? "") || now;
  const lasted = span((until - Date.parse(row.start)) / 1000);
  if (row.end !== null) return <>{lasted}</>;
  if (row.no_data_since === null) return <b className={goesOn}>goes on, {lasted}</b>;
  return (
    <>
      {lasted}, <span className="text-second">no data since {minute(row.no_data_since)}</span>
    </>
  );
}

function headline(live: number, all: number, isBehind: boolean): string {
  if (isBehind) return "The watch has not read all of this time yet.";
  if (live > 0) return live === 1 ? "One disturbance goes on." : `${live} disturbances go on.`;
  return all > 0 ? "Nothing is disturbed now." : "Nothing departed from what is expected in this time.";
}

/** How far the watch has come, and what it cannot say yet. */
function Judged({ list, newest }: { list: Schemas["DisturbanceList"]; newest: string | null }) {
  if (!list.until || list.series === 0)
    return newest ? "The watch has not read anything yet; it looks every ten seconds." : "Nothing has been sent yet.";
  const learning = list.learning > 0 ? `, ${list.learning} of them learning what is normal` : "";
  const full = list.is_full ? " No more can be watched: what else is sent is not." : "";
  return `${list.series} series are watched${learning}; judged up to ${minute(list.until)}.${full}`;
}

function DisturbanceLine({ row, now, most }: { row: Row; now: number; most: number }) {
  const jump = useJump();
  const [change] = row.changes;
  return (
    <tr data-disturbance={row.id}>
      <td className="whitespace-nowrap">
        <Tip text={dayAndClock(row.start)} quiet>
          <span>{minute(row.start)}</span>
        </Tip>
      </td>
      <td className="whitespace-nowrap">
        <Lasted row={row} now={now} />
      </td>
      <td>
        <Link to={jump(toDisturbance(row.id))} className="font-semibold">
          {row.sentence}
        </Link>
        {row.provisional && <span className="text-second"> · provisional</span>}
      </td>
      <td className="num">{row.services.length}</td>
      <td className="num">
        <Surprise bits={row.bits} most={most} />
      </td>
      <td className="pl-3! whitespace-nowrap">
        <Threshold lead={row.lead_over_threshold_s} />
      </td>
      <td>
        {change ? (
          <Tip text={row.changes.map(changeTitle).join("\n")}>
            <span>
              {clock(change.at)} {change.kind} {change.service ?? ""}
              {row.changes.length > 1 && <span className="text-second"> and {row.changes.length - 1} more</span>}
            </span>
          </Tip>
        ) : (
          <span className="text-second">nothing announced</span>
        )}
      </td>
    </tr>
  );
}

/** Surprise is a number and a length, beside the most of a list. */
export function Surprise({ bits, most }: { bits: number; most: number }) {
  const filled = (bits / most) * BAR;
  return (
    <span className="inline-flex items-center gap-2">
      <svg width={BAR} height="5" aria-hidden="true">
        <rect width={filled} height="5" fill="var(--slate)" />
      </svg>
      <span className="w-9 text-right">{significant(bits)}</span>
    </span>
  );
}

/** When the rule that a team would have written would have told of it. */
export function Threshold({ lead }: { lead: number | null }) {
  if (lead === null) return <span className="text-second">did not fire</span>;
  if (lead === 0) return <>at the same time</>;
  return lead > 0 ? <>{span(lead)} later</> : <>{span(-lead)} earlier</>;
}
