import { useQuery } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { Link, useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import type { ComparedContext } from "../../frame/Frame";
import { useJump } from "../../frame/jump";
import { timesOf, useScope, windowsQuery, within } from "../../frame/scope";
import { Copyable } from "../../shared/Copyable";
import { FromBefore, keptOf, useStale } from "../../shared/FromBefore";
import { between, duration, moment, significant } from "../../shared/format";
import { More } from "../../shared/More";
import { Told } from "../../shared/Told";
import { Waiting } from "../../shared/Waiting";
import { type TracesChange, type TracesState, toTrace, traceOrders, tracesState } from "../places";
import { Breakdown } from "./Breakdown";
import { Conditions } from "./Conditions";
import { Distribution } from "./Distribution";

const PAGE = 100;
const MOST = 2_000;

/** Requests of one window that meet all conditions; each condition can be set here, and removed. */
export function Traces() {
  const { windows } = useOutletContext<ComparedContext>();
  const [scope] = useScope();
  const [state, setState] = useQueryStates(tracesState);
  const { order, window, slower, faster, carrying, split: _, most, ...named } = state;
  const conditions = { ...named, carrying, slower_than_s: slower, faster_than_s: faster };
  const key = ["traces", named.service, conditions, order, most, windows[window], within(scope)];
  const query = useQuery({
    queryKey: key,
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/traces", {
          signal,
          params: {
            query: { ...timesOf(windows[window]), ...conditions, order, most, ...within(scope) },
          },
        }),
      ),
    placeholderData: keptOf(named.service),
  });
  const spread = useQuery({
    queryKey: ["distribution", named.service, named, carrying, windows, within(scope)],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/distribution", {
          signal,
          params: {
            query: { ...named, carrying, ...windowsQuery(windows), ...within(scope) },
          },
        }),
      ),
    placeholderData: keptOf(named.service),
  });
  const stale = useStale(query, [state, scope]);
  const select = "border-b border-ink bg-transparent";
  return (
    <>
      <div className="mb-2 flex items-start gap-4">
        <div className="flex-1">
          <h1>Requests {state.service ? `at ${state.service}` : "from outside"}</h1>
          <p className="text-second">
            {query.data
              ? `${query.data.found} in the ${window} ${between(windows[window])}, ${query.data.shown} shown${query.data.stand_for > query.data.found + 0.5 ? `, a sample of about ${significant(query.data.stand_for)} requests` : ""}`
              : "…"}
          </p>
          {query.data?.detail && (
            <p className="text-second">
              <Told text={query.data.detail} />
            </p>
          )}
        </div>
        <label className="text-second">
          in the{" "}
          <select
            className={select}
            value={window}
            onChange={(e) => void setState({ window: e.target.value as "focus" | "reference" })}
          >
            <option>focus</option>
            <option>reference</option>
          </select>
        </label>
        <label className="text-second">
          order{" "}
          <select
            className={select}
            value={order}
            onChange={(e) => void setState({ order: e.target.value as (typeof traceOrders)[number] })}
          >
            {traceOrders.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
      </div>
      <Conditions state={state} window={windows[window]} setState={(change) => void setState(change)} />
      <Removable state={state} setState={(change) => void setState(change)} />
      {spread.data && (
        <Distribution data={spread.data} slower={slower} faster={faster} choose={(bounds) => void setState(bounds)} />
      )}
      <Breakdown
        windows={windows}
        conditions={conditions}
        keep={(attribute, value) =>
          void setState({
            carrying: [...carrying.filter((pair) => pair !== `${attribute}=${value}`), `${attribute}=${value}`],
          })
        }
      />
      {!query.data ? (
        <Waiting error={query.error} what="traces" stops={key} />
      ) : query.data.rows.length === 0 ? (
        <p className="py-6">
          No request in this window meets all conditions.{" "}
          {query.data.hidden_by.length > 0 && `Without ${query.data.hidden_by.join(" or ")} there are some.`}
        </p>
      ) : (
        <FromBefore stale={stale} queryKey={key} what="traces">
          <List rows={query.data.rows} />
          <More
            shown={query.data.shown}
            found={query.data.found}
            limit={MOST}
            page={PAGE}
            more={() => void setState({ most: Math.min(most + PAGE, MOST) })}
            beyond="Conditions or another order show the others."
          />
        </FromBefore>
      )}
    </>
  );
}

/** Conditions in force, each with what takes it away. */
function Removable({ state, setState }: { state: TracesState; setState: (change: TracesChange) => void }) {
  const { carrying } = state;
  const named = ["service", "operation", "version", "instance", "outcome", "status"] as const;
  const set: [string, string, () => void][] = [
    ...named
      .filter((name) => state[name] !== null)
      .map((name): [string, string, () => void] => [name, String(state[name]), () => setState({ [name]: null })]),
    ...(["slower", "faster"] as const)
      .filter((name) => state[name] !== null)
      .map((name): [string, string, () => void] => [
        `${name} than`,
        duration(state[name]),
        () => setState({ [name]: null }),
      ]),
    ...carrying.map((pair): [string, string, () => void] => [
      pair.slice(0, pair.indexOf("=")),
      pair.slice(pair.indexOf("=") + 1),
      () => setState({ carrying: carrying.filter((other) => other !== pair) }),
    ]),
  ];
  if (!set.length) return null;
  return (
    <p className="mb-2 flex flex-wrap gap-2">
      {set.map(([name, value, remove]) => (
        <button
          key={`${name} ${value}`}
          type="button"
          className="action px-2! py-0!"
          onClick={remove}
          aria-label={`remove ${name} ${value}`}
        >
          {name} <span className="font-mono text-[12px]">{value}</span> ×
        </button>
      ))}
    </p>
  );
}

function List({ rows }: { rows: Schemas["TraceRow"][] }) {
  const jump = useJump();
  return (
    <table className="sheet-table" aria-label="Requests">
      <thead>
        <tr>
          <th>began</th>
          <th>service</th>
          <th>operation</th>
          <th className="num">took</th>
          <th className="pl-4!">outcome</th>
          <th>version</th>
          <th>instance</th>
          <th className="num">spans</th>
          <th className="num">services</th>
          <th className="pl-4!">trace</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.span}>
            <td className="whitespace-nowrap">{moment(row.at)}</td>
            <td>{row.service}</td>
            <td className="max-w-[240px] truncate font-mono text-[12px]">{row.operation}</td>
            <td className="num font-semibold">{duration(row.seconds)}</td>
            <td
              className={`pl-4! ${row.outcome === "error" ? "text-rust" : row.outcome === "client error" ? "text-ochre" : "text-second"}`}
            >
              {row.outcome} {row.status_code ?? ""}
            </td>
            <td>{row.version ?? "–"}</td>
            <td>{row.instance ?? "–"}</td>
            <td className="num">{row.spans}</td>
            <td className="num">{row.services}</td>
            <td className="pl-4! font-mono text-[12px]">
              <Copyable text={row.trace}>
                <Link to={jump(toTrace(row))}>{row.trace.slice(0, 12)}…</Link>
              </Copyable>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
