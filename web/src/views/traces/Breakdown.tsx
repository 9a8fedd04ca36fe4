import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { client, type Schemas, take } from "../../api/client";
import { useScope, type Windows, windowsQuery, within } from "../../frame/scope";
import { Choice } from "../../shared/Choice";
import { Copyable } from "../../shared/Copyable";
import { duration, interval, share, signed, significant } from "../../shared/format";
import { More } from "../../shared/More";
import { Tip } from "../../shared/Tip";
import { Waiting } from "../../shared/Waiting";
import { tracesState } from "../places";
import { useAttributes } from "./useAttributes";

/** Columns that every request has; other attributes come from what was seen. */
const OWN = ["operation", "service.version", "service.instance.id", "host.name", "http.response.status_code"];
const PAGE = 50;
const MOST = 1000; // values

export interface Conditions {
  service?: string | null;
  operation?: string | null;
  version?: string | null;
  instance?: string | null;
  outcome?: "ok" | "client error" | "error" | null;
  status?: number | null;
  slower_than_s?: number | null;
  faster_than_s?: number | null;
  carrying?: string[];
}

interface Props {
  windows: Windows;
  conditions: Conditions;
  keep: (attribute: string, value: string) => void;
}

/** The same requests split by an attribute, what adds most to the change first. */
export function Breakdown({ windows, conditions, keep }: Props) {
  const [scope] = useScope();
  const [{ split: by, values }, setState] = useQueryStates({ split: tracesState.split, values: tracesState.values });
  const key = ["breakdown", by, conditions, windows, within(scope), values];
  const query = useQuery({
    queryKey: key,
    enabled: by !== null,
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/breakdown", {
          signal,
          params: {
            query: { by: by ?? "", ...conditions, ...windowsQuery(windows), ...within(scope), most: values },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const others = useAttributes().filter((name) => !OWN.includes(name));
  return (
    <section aria-label="Split" className="mb-4">
      <Choice
        label="split by"
        none="nothing"
        value={by}
        options={[...OWN, ...others]}
        choose={(name) => void setState({ split: name })}
      />
      {by === null ? null : query.data ? (
        <Values data={query.data} keep={keep} more={() => void setState({ values: values + PAGE })} />
      ) : (
        <Waiting error={query.error} what={`requests by ${by}`} stops={key} />
      )}
    </section>
  );
}

function Values({ data, keep, more }: { data: Schemas["Breakdown"]; keep: Props["keep"]; more: () => void }) {
  if (!data.rows.length) return <p className="py-2 text-second">No request in either window meets the conditions.</p>;
  return (
    <>
      <table className="sheet-table mt-1">
        <thead>
          <tr>
            <th>{data.by}</th>
            <Tip text="The focus's mean less the reference's, times the focus's requests; a value new in the focus is held against all of the reference">
              <th className="num">added latency (total)</th>
            </Tip>
            <Tip text="Failures beyond those at the reference's share">
              <th className="num">added errors</th>
            </Tip>
            <th className="num text-kelp!">requests/s</th>
            <th className="num text-rust!">focus</th>
            <th className="num text-kelp!">p95</th>
            <th className="num text-rust!">focus</th>
            <th className="num text-kelp!">errors</th>
            <th className="num text-rust!">focus</th>
          </tr>
        </thead>
        <tbody>
          {data.rows.map((row) => (
            <Row key={row.value ?? ""} by={data.by} row={row} keep={keep} />
          ))}
        </tbody>
      </table>
      <More
        shown={data.rows.length}
        found={data.values}
        what="values, those that add most,"
        limit={MOST}
        page={PAGE}
        more={more}
        beyond="Conditions show fewer."
      />
    </>
  );
}

function Row({ by, row, keep }: { by: string; row: Schemas["BreakdownRow"]; keep: Props["keep"] }) {
  const { focus, reference, more_seconds, more_failures } = row;
  const value = row.value;
  return (
    <tr data-value={value ?? ""}>
      <Tip text={value ?? undefined} quiet>
        <td className="max-w-[320px] truncate font-mono text-[12px]">
          {value === null ? (
            <span className="font-sans text-second">without it</span>
          ) : (
            <Copyable text={value}>
              <button
                type="button"
                className="underline decoration-line underline-offset-2 hover:decoration-ink"
                aria-label={`keep only ${by} ${value}`}
                onClick={() => keep(by, value)}
              >
                {value}
              </button>
            </Copyable>
          )}
        </td>
      </Tip>
      <td className="num font-semibold">{more_seconds == null ? "–" : signed(duration(more_seconds), more_seconds)}</td>
      <td className="num">{more_failures == null ? "–" : signed(significant(more_failures, 2), more_failures)}</td>
      <td className="num text-kelp">{significant(reference.rate)}</td>
      <td className="num">{significant(focus.rate)}</td>
      <Tip text={`${interval(reference.p95_interval)}; ${reference.requests} requests`} quiet>
        <td className="num text-kelp">{duration(reference.p95)}</td>
      </Tip>
      <Tip text={`${interval(focus.p95_interval)}; ${focus.requests} requests`}>
        <td className="num">{duration(focus.p95)}</td>
      </Tip>
      <td className="num text-kelp">{share(reference.failed_share)}</td>
      <td className="num">{share(focus.failed_share)}</td>
    </tr>
  );
}
