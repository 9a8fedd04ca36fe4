import { useQuery } from "@tanstack/react-query";
import { useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import type { FrameContext } from "../../frame/Frame";
import { age, bytes, clock, dayAndClock, significant, span } from "../../shared/format";
import { Tip } from "../../shared/Tip";
import { Waiting } from "../../shared/Waiting";
import { HowToSend } from "./HowToSend";
import { KeptFor } from "./KeptFor";
import { Rules } from "./Rules";
import { Tokens } from "./Tokens";

type State = Schemas["IntakeState"];

/** What arrives, from whom, how fast; what was rejected; who may send, and what is left out. */
export function Intake() {
  const { me } = useOutletContext<FrameContext>();
  const query = useQuery({
    queryKey: ["intake"],
    queryFn: () => take(client.GET("/api/intake")),
    refetchInterval: 5_000,
  });
  if (!query.data) return <Waiting error={query.error} what="what arrives" />;
  const state = query.data;
  return (
    <>
      <h1>{state.sentence}</h1>
      <p className="mb-3 text-second">{state.detail}</p>
      <div className="grid grid-cols-1 gap-x-7 gap-y-5 min-[1240px]:grid-cols-2">
        <Signals state={state} />
        <Kept state={state} />
        <Senders state={state} />
        <div className="space-y-5">
          <Turned state={state} />
          {state.sent_on && <SentOn sentOn={state.sent_on} />}
          <Tokens tokens={state.tokens} administrator={me.may_administer} />
          <Rules rules={state.rules} administrator={me.may_administer} />
          <KeptFor administrator={me.may_administer} />
          <HowToSend />
        </div>
      </div>
    </>
  );
}

function Signals({ state }: { state: State }) {
  return (
    <section aria-label="What arrives">
      <h2>
        What arrives <span>mean of the last ten minutes; the line is the last hour</span>
      </h2>
      <table className="sheet-table">
        <thead>
          <tr>
            <th>signal</th>
            <th>last hour</th>
            <th className="num">records/s</th>
            <th className="num">requests</th>
            <th className="num">sent</th>
            <th className="num">dropped</th>
            <th className="num">rejected</th>
          </tr>
        </thead>
        <tbody>
          {state.signals.map((one) => (
            <tr key={one.signal} data-signal={one.signal}>
              <td className="font-semibold">{one.signal}</td>
              <td>
                <Minutes values={one.minutes} />
              </td>
              <Tip text={`${one.rows} records`} quiet>
                <td className="num font-semibold" data-rows={one.rows}>
                  {significant(one.rows_per_s)}
                </td>
              </Tip>
              <td className="num">{one.requests}</td>
              <td className="num">{bytes(one.bytes_per_s)}/s</td>
              <td className="num">{one.dropped}</td>
              <td className={`num ${one.refused ? "text-rust" : ""}`}>{one.refused}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-second">
        {state.backlog.segments === 0
          ? "Everything is compacted."
          : `${state.backlog.rows} records wait to be compacted (${bytes(state.backlog.size)}), the oldest for ${span(state.backlog.oldest_s ?? 0)}. They are already searchable.`}
      </p>
    </section>
  );
}

const WIDTH = 120;
const HEIGHT = 20;

function Minutes({ values }: { values: number[] }) {
  const most = Math.max(...values, 1);
  const x = (index: number) => (index * WIDTH) / (values.length - 1);
  const y = (value: number) => HEIGHT - 1 - (value * (HEIGHT - 2)) / most;
  return (
    <svg width={WIDTH} height={HEIGHT} aria-hidden="true" className="block">
      <path d={`M0 ${HEIGHT - 0.5}H${WIDTH}`} stroke="var(--line)" />
      <path
        d={values.map((value, index) => `${index ? "L" : "M"}${x(index)} ${y(value)}`).join("")}
        fill="none"
        stroke="var(--ink)"
      />
    </svg>
  );
}

function Kept({ state }: { state: State }) {
  return (
    <section aria-label="What is kept">
      <h2>
        What is kept <span>sizes with summaries; database {bytes(state.database_size)}</span>
      </h2>
      <table className="sheet-table">
        <thead>
          <tr>
            <th>stream</th>
            <th className="num">records</th>
            <th className="num">size</th>
            <th className="num">bytes/record</th>
            <th className="num">blocks</th>
            <th className="num">from</th>
            <th className="num">to</th>
          </tr>
        </thead>
        <tbody>
          {state.streams.map((one) => (
            <tr key={one.stream}>
              <td className="font-semibold">{one.stream}</td>
              <td className="num">{significant(one.rows)}</td>
              <td className="num">{bytes(one.size)}</td>
              <td className="num">{one.bytes_per_row == null ? "–" : bytes(one.bytes_per_row)}</td>
              <td className="num">{one.blocks}</td>
              <Tip text={one.oldest ?? undefined} quiet>
                <td className="num">{one.oldest ? dayAndClock(one.oldest) : "–"}</td>
              </Tip>
              <Tip text={one.newest ?? undefined} quiet>
                <td className="num">{one.newest ? clock(one.newest) : "–"}</td>
              </Tip>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

const STREAMS = ["spans", "points", "logs"] as const;

/** One row a service, with the age of its newest record of each stream. */
function Senders({ state }: { state: State }) {
  const byService = Map.groupBy(state.sources, (row) => `${row.environment} ${row.service}`);
  return (
    <section aria-label="Who sends">
      <h2>
        Who sends <span>records/s of the last minutes, and the age of the newest record</span>
      </h2>
      {byService.size === 0 && <p className="text-second">Nobody in the last day.</p>}
      <table className="sheet-table" hidden={byService.size === 0}>
        <thead>
          <tr>
            <th>service</th>
            <th>environment</th>
            {STREAMS.map((stream) => (
              <th key={stream} className="num" colSpan={2}>
                {stream}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {[...byService.entries()].map(([key, rows]) => (
            <tr key={key} data-sender={rows[0]?.service}>
              <td className="min-w-[10ch] font-semibold [overflow-wrap:anywhere]">{rows[0]?.service}</td>
              <td className="min-w-[8ch] text-second [overflow-wrap:anywhere]">{rows[0]?.environment}</td>
              {STREAMS.map((stream) => {
                const row = rows.find((one) => one.stream === stream);
                return row ? (
                  <Sent key={stream} row={row} />
                ) : (
                  <td key={stream} colSpan={2} className="num text-second">
                    –
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
      {state.more_sources > 0 && (
        <p className="text-second">And {state.more_sources} more streams; the Services view lists every service.</p>
      )}
    </section>
  );
}

function Sent({ row }: { row: Schemas["SourceRow"] }) {
  return (
    <>
      <td className="num">{significant(row.rows_per_s, 2)}</td>
      <Tip text={`newest record of ${row.newest}`} quiet>
        <td className={`num ${row.rows ? "text-second" : "text-plum"}`}>{span(row.behind_s)}</td>
      </Tip>
    </>
  );
}

function Turned({ state }: { state: State }) {
  const now = Date.now();
  return (
    <section aria-label="Rejected">
      <h2>
        Rejected <span>in the last hour, and why</span>
      </h2>
      {state.turned.length === 0 ? (
        <p className="text-second">Nothing was rejected.</p>
      ) : (
        <table className="sheet-table">
          <tbody>
            {state.turned.map((one) => (
              <tr key={`${one.signal} ${one.token} ${one.reason}`}>
                <td className="num w-12 font-semibold text-rust">{one.count}</td>
                <td className="min-w-[10ch] [overflow-wrap:anywhere]">
                  {one.signal} of {one.token ?? "unknown senders and files"}
                </td>
                <td className="min-w-[10ch] [overflow-wrap:anywhere]">{one.reason}</td>
                <td className="num text-second">{`${age(one.last, now)} ago`}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {state.more_turned > 0 && (
        <p className="text-second">And {state.more_turned} more reasons, each of them for fewer records.</p>
      )}
    </section>
  );
}

/** What is sent on to another endpoint, and whether that takes it. */
function SentOn({ sentOn }: { sentOn: Schemas["SentOn"] }) {
  const now = Date.now();
  const lines = [
    ["sent", sentOn.sent, sentOn.last_sent && `the last ${age(sentOn.last_sent, now)} ago`],
    ["waiting", sentOn.waiting, sentOn.oldest_s != null && `the oldest for ${span(sentOn.oldest_s)}`],
    ["refused there", sentOn.refused, sentOn.refused_at && `${sentOn.refusal}, ${age(sentOn.refused_at, now)} ago`],
    ["given up", sentOn.given_up, sentOn.given_up > 0 && "after a day, or as too many waited"],
  ] as const;
  return (
    <section aria-label="Sent on">
      <h2>
        Sent on <span>{sentOn.to ? `requests, to ${sentOn.to}` : "WIRBEL_FORWARD names no endpoint any more"}</span>
      </h2>
      {sentOn.failing_since && (
        <p className="text-rust [overflow-wrap:anywhere]">
          Fails since {dayAndClock(sentOn.failing_since)}: {sentOn.error}
        </p>
      )}
      <table className="sheet-table">
        <tbody>
          {lines.map(([what, count, note]) => (
            <tr key={what}>
              <td className="w-28">{what}</td>
              <td className="num w-16 font-semibold">{count}</td>
              <td className="text-second">{note || ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
