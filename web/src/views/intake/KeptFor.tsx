import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, type Schemas, take } from "../../api/client";
import { Confirm } from "../../shared/Confirm";
import { dayAndClock, shortDayAndClock } from "../../shared/format";
import { Refused } from "../../shared/Refused";
import { Tip } from "../../shared/Tip";
import { Waiting } from "../../shared/Waiting";

type Row = Schemas["KeptRow"];
type Terms = Pick<Row, "full_hours" | "thinned_hours" | "summary_days">;

const TERMS = ["full_hours", "thinned_hours", "summary_days"] as const;
const SAMPLED = ["spans", "logs"];

/** How long each environment's records are kept: in full, then as a sample or as summaries. */
export function KeptFor({ administrator }: { administrator: boolean }) {
  const queries = useQueryClient();
  const query = useQuery({ queryKey: ["retention"], queryFn: () => take(client.GET("/api/retention")) });
  const refresh = () => queries.invalidateQueries({ queryKey: ["retention"] });
  const set = useMutation({
    mutationFn: ({ own: _, ...row }: Row) => take(client.PUT("/api/retention", { body: row })),
    onSuccess: refresh,
  });
  const reset = useMutation({
    mutationFn: ({ environment, stream }: Row) =>
      take(client.DELETE("/api/retention", { params: { query: { environment, stream } } })),
    onSuccess: refresh,
  });
  if (!query.data) return <Waiting error={query.error} what="how long is kept" />;
  const error = set.error ?? reset.error;
  return (
    <section aria-label="How long it is kept">
      <h2>
        How long it is kept <span>what is over is thinned or dropped within minutes</span>
      </h2>
      <table className="sheet-table">
        <thead>
          <tr>
            <th>stream, of environment</th>
            <th className="num">in full, h</th>
            <th className="num">then a sample, h</th>
            <th className="num">summaries, days</th>
            <th className="pl-3!">held since</th>
            <th>
              <span className="sr-only">change</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {query.data.map((row) => (
            <Kept
              key={`${row.environment} ${row.stream} ${row.full_hours} ${row.thinned_hours} ${row.summary_days}`}
              row={row}
              administrator={administrator}
              set={(terms) => set.mutate({ ...row, ...terms })}
              reset={() => reset.mutate(row)}
            />
          ))}
        </tbody>
      </table>
      <Refused error={error} />
    </section>
  );
}

interface KeptProps {
  row: Row;
  administrator: boolean;
  set: (terms: Terms) => void;
  reset: () => void;
}

/** What is there of a stream, and since when. */
function Since({ row }: { row: Row }) {
  const parts: [string, string | null][] = [
    ["full", row.full_since],
    ["sample", row.sample_since],
    ["summaries", row.summaries_since],
  ];
  const told = parts.flatMap(([what, at]) => (at ? [{ what, at }] : []));
  if (!told.length) return "nothing";
  return told.map(({ what, at }) => (
    <Tip key={what} text={dayAndClock(at)} quiet>
      <span className="block whitespace-nowrap">
        {what} {shortDayAndClock(at)}
      </span>
    </Tip>
  ));
}

function Kept({ row, administrator, set, reset }: KeptProps) {
  const [terms, setTerms] = useState<Terms>(row);
  const changed = TERMS.some((name) => terms[name] !== row[name]);
  const shorter = TERMS.some((name) => terms[name] < row[name]);
  const sampled = SAMPLED.includes(row.stream);
  const field = (name: keyof Terms, label: string, applies: boolean) => (
    <td className="num">
      {!applies ? (
        <span className="text-second">–</span>
      ) : administrator ? (
        <input
          aria-label={`${label} of ${row.stream} in ${row.environment}`}
          className="field w-16 text-right"
          type="number"
          min={name === "full_hours" ? 1 : 0}
          value={terms[name]}
          onChange={(event) => setTerms({ ...terms, [name]: Number(event.target.value) })}
        />
      ) : (
        row[name]
      )}
    </td>
  );
  return (
    <tr data-kept={`${row.environment} ${row.stream}`}>
      <td>
        <b>{row.stream}</b>
        <span className="block text-second [overflow-wrap:anywhere]">{row.environment}</span>
      </td>
      {field("full_hours", "hours in full", true)}
      {field("thinned_hours", "hours as a sample", sampled)}
      {field("summary_days", "days of summaries", !sampled)}
      <td className="pl-3! text-second">
        <Since row={row} />
      </td>
      <td className="num">
        {administrator && changed ? (
          <KeepSo shorter={shorter} what={`${row.stream} of ${row.environment}`} keep={() => set(terms)} />
        ) : administrator && row.own ? (
          <Confirm
            title={`Keep ${row.stream} of ${row.environment} as by default?`}
            consequence="Where that is shorter, what is over it is thinned or dropped within minutes, and does not come back."
            action="As by default"
            onConfirm={reset}
          >
            <button
              type="button"
              className="underline"
              aria-label={`${row.stream} in ${row.environment} as by default`}
            >
              as by default
            </button>
          </Confirm>
        ) : (
          <span className="text-second">{row.own ? "own rule" : "default"}</span>
        )}
      </td>
    </tr>
  );
}

/** Longer can be taken back; shorter cannot: what is over it is gone. */
function KeepSo({ shorter, what, keep }: { shorter: boolean; what: string; keep: () => void }) {
  const button = (onClick?: () => void) => (
    <button type="button" className="underline" onClick={onClick}>
      keep so
    </button>
  );
  if (!shorter) return button(keep);
  return (
    <Confirm
      title={`Keep ${what} for a shorter time?`}
      consequence="What is over it is thinned or dropped within minutes, and does not come back."
      action="Keep so"
      onConfirm={keep}
    >
      {button()}
    </Confirm>
  );
}
