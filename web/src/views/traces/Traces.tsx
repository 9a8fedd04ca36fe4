import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { parseAsArrayOf, parseAsFloat, parseAsString, parseAsStringLiteral, useQueryStates } from "nuqs";
import { Link, useLocation, useOutletContext } from "react-router";
import { client, take } from "../../api/client";
import type { FrameContext } from "../../frame/Frame";
import { timesOf, useScope } from "../../frame/scope";
import { clock, clockSeconds, duration, significant } from "../../shared/format";
import { withSpan } from "../../shared/links";
import { Told } from "../../shared/Told";
import { Waiting } from "../../shared/Waiting";
import { Breakdown } from "./Breakdown";

const orders = ["slowest", "fastest", "newest", "oldest"] as const;
const outcomes = ["ok", "client error", "error"] as const;
const MOST = 100;

/** Requests of one window that meet all conditions; each condition can be removed. */
export function Traces() {
  const { windows } = useOutletContext<FrameContext>();
  const [scope] = useScope();
  const { search } = useLocation();
  const [filter, setFilter] = useQueryStates({
    service: parseAsString,
    operation: parseAsString,
    version: parseAsString,
    instance: parseAsString,
    outcome: parseAsStringLiteral(outcomes),
    slower: parseAsFloat,
    carrying: parseAsArrayOf(parseAsString).withDefault([]),
    order: parseAsStringLiteral(orders).withDefault("slowest"),
    window: parseAsStringLiteral(["focus", "reference"] as const).withDefault("focus"),
  });
  const { order, window, slower, carrying, ...named } = filter;
  const conditions = { ...named, carrying, slower_than_s: slower };
  const key = ["traces", filter, windows[window], scope.environment];
  const query = useQuery({
    queryKey: key,
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/traces", {
          signal,
          params: {
            query: {
              ...timesOf(windows[window]),
              ...conditions,
              order,
              most: MOST,
              environment: scope.environment,
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const set: [string, string, () => void][] = [
    ...Object.entries(named)
      .filter(([, value]) => value)
      .map(([name, value]): [string, string, () => void] => [
        name,
        String(value),
        () => void setFilter({ [name]: null }),
      ]),
    ...(slower
      ? [["slower than", duration(slower), () => void setFilter({ slower: null })] as [string, string, () => void]]
      : []),
    ...carrying.map((pair): [string, string, () => void] => [
      pair.slice(0, pair.indexOf("=")),
      pair.slice(pair.indexOf("=") + 1),
      () => void setFilter({ carrying: carrying.filter((other) => other !== pair) }),
    ]),
  ];
  const select = "border-b border-ink bg-transparent";
  return (
    <>
      <div className="mb-3 flex items-start gap-4">
        <div className="flex-1">
          <h1>Requests {filter.service ? `at ${filter.service}` : "from outside"}</h1>
          <p className="text-second">
            {query.data
              ? `${query.data.found} in the ${window} ${clock(windows[window].start)} – ${clock(windows[window].end)}, ${query.data.shown} shown${query.data.stand_for > query.data.found + 0.5 ? `, a sample of about ${significant(query.data.stand_for)} requests` : ""}`
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
            onChange={(e) => void setFilter({ window: e.target.value as "focus" | "reference" })}
          >
            <option>focus</option>
            <option>reference</option>
          </select>
        </label>
        <label className="text-second">
          outcome{" "}
          <select
            className={select}
            value={filter.outcome ?? ""}
            onChange={(e) => void setFilter({ outcome: (e.target.value || null) as (typeof outcomes)[number] | null })}
          >
            <option value="">any</option>
            {outcomes.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
        <label className="text-second">
          order{" "}
          <select
            className={select}
            value={order}
            onChange={(e) => void setFilter({ order: e.target.value as (typeof orders)[number] })}
          >
            {orders.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </label>
      </div>
      {set.length > 0 && (
        <p className="mb-2 flex gap-2">
          {set.map(([name, value, remove]) => (
            <button
              key={name}
              type="button"
              className="action px-2! py-0!"
              onClick={remove}
              aria-label={`remove ${name} ${value}`}
            >
              {name} <span className="font-mono text-[12px]">{value}</span> ×
            </button>
          ))}
        </p>
      )}
      <Breakdown
        windows={windows}
        conditions={conditions}
        keep={(attribute, value) =>
          void setFilter({
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
        <table className="sheet-table">
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
            {query.data.rows.map((row) => (
              <tr key={row.span}>
                <td>{clockSeconds(row.at)}</td>
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
                  <Link to={{ pathname: `/traces/${row.trace}`, search: withSpan(search, row.span) }}>
                    {row.trace.slice(0, 12)}…
                  </Link>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}
