import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { useMemo } from "react";
import { Link, useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { Gauge, healthColour } from "../../charts/Gauge";
import type { ComparedContext } from "../../frame/Frame";
import { useJump } from "../../frame/jump";
import { rangeQuery, useScope, windowsQuery, within } from "../../frame/scope";
import { FromBefore, useStale } from "../../shared/FromBefore";
import { age, duration, rate, share } from "../../shared/format";
import { ScrolledTable } from "../../shared/ScrolledTable";
import { Tip } from "../../shared/Tip";
import { Waiting } from "../../shared/Waiting";
import { servicesState, toService } from "../places";
import { arranged, type Line, type Sort } from "./arrange";

type Row = Schemas["ServiceRow"];
const ROW = 29; // px
const WHAT = "the table of all services";

const columns: [Sort, string, string?][] = [
  ["health", "health"],
  ["name", "service"],
  ["rate", "requests/s", "num"],
  ["errors", "errors", "num"],
  ["p95", "p95", "num"],
];

/** All services, as many as there are: filtered, sorted and grouped here, as nothing but what is shown changes. */
export function Services() {
  const { windows } = useOutletContext<ComparedContext>();
  const [scope] = useScope();
  const [state, setState] = useQueryStates(servicesState);
  const queryKey = ["services-table", scope.range, scope.last, within(scope), windowsQuery(windows)];
  const query = useQuery({
    queryKey,
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/services-table", {
          signal,
          params: { query: { ...rangeQuery(scope), ...windowsQuery(windows), ...within(scope) } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const stale = useStale(query, [scope]);
  const lines = useMemo(() => arranged(query.data ?? [], state), [query.data, state]);
  if (!query.data) return <Waiting error={query.error} what={WHAT} stops={queryKey} />;
  const found = lines.filter((line) => line.row).length;
  return (
    <FromBefore stale={stale} queryKey={queryKey} what={WHAT}>
      <h1 className="mb-2">Services</h1>
      <div className="mb-2 flex items-baseline gap-5">
        <label>
          <span className="text-second">name contains </span>
          <input
            type="search"
            className="field w-64"
            value={state.filter ?? ""}
            onChange={(event) => void setState({ filter: event.target.value || null })}
          />
        </label>
        <label className="text-second">
          grouped by{" "}
          <select
            className="border-b border-ink bg-transparent"
            value={state.group ?? ""}
            onChange={(event) =>
              void setState({ group: event.target.value === "" ? null : (event.target.value as "health" | "sends") })
            }
          >
            <option value="">nothing</option>
            <option value="health">health</option>
            <option value="sends">what they send</option>
          </select>
        </label>
        <span role="status" className="text-second">
          {found === query.data.length
            ? `${found} ${found === 1 ? "service" : "services"}`
            : `${found} of ${query.data.length} services`}
        </span>
      </div>
      {found === 0 ? (
        <p className="py-4">
          {query.data.length === 0 ? "Nothing has been sent yet." : `No service's name contains “${state.filter}”. `}
          {state.filter && (
            <button type="button" className="underline" onClick={() => void setState({ filter: null })}>
              show all
            </button>
          )}
        </p>
      ) : (
        <Table lines={lines} sort={state.sort} down={state.down} setState={setState} />
      )}
    </FromBefore>
  );
}

interface TableProps {
  lines: Line[];
  sort: Sort;
  down: boolean;
  setState: (state: { sort: Sort; down: boolean }) => unknown;
}

function Table({ lines, sort, down, setState }: TableProps) {
  const head = (
    <tr>
      {columns.map(([key, name, kind]) => (
        <Heading
          key={key}
          name={name}
          kind={kind}
          current={sort === key ? down : null}
          onSort={(next) => setState({ sort: key, down: next })}
          wide={kind === "num"}
        />
      ))}
      <th>sends</th>
      <th className="num">newest</th>
    </tr>
  );
  return (
    <ScrolledTable label="All services" count={lines.length} row={ROW} columns={10} head={head}>
      {(index) => {
        const line = lines[index];
        return line?.row ? (
          <ServiceLine key={index} row={line.row} index={index} />
        ) : (
          <GroupLine key={index} line={line} />
        );
      }}
    </ScrolledTable>
  );
}

function Heading({
  name,
  kind,
  current,
  onSort,
  wide,
}: {
  name: string;
  kind?: string;
  current: boolean | null;
  onSort: (down: boolean) => void;
  wide: boolean;
}) {
  return (
    <th
      className={kind}
      colSpan={wide ? 2 : 1}
      aria-sort={current === null ? undefined : current ? "descending" : "ascending"}
    >
      <button type="button" className="font-semibold" onClick={() => onSort(current === null ? wide : !current)}>
        {wide && <span className="text-kelp">reference, </span>}
        {name} {current === null ? "" : current ? "↓" : "↑"}
      </button>
    </th>
  );
}

function GroupLine({ line }: { line: Line | undefined }) {
  return (
    <tr style={{ height: ROW }}>
      <th colSpan={10} scope="rowgroup" className="pt-2">
        {line?.group} <span className="font-normal">{line?.count}</span>
      </th>
    </tr>
  );
}

function ServiceLine({ row, index }: { row: Row; index: number }) {
  const jump = useJump();
  const { focus, reference } = row;
  return (
    <tr style={{ height: ROW }} aria-rowindex={index + 1} data-service={row.service}>
      <td className="w-[100px] whitespace-nowrap">
        {row.health && (
          <>
            <Gauge health={row.health} /> <span className={healthColour(row.health)}>{row.health}</span>
          </>
        )}
      </td>
      <td className="max-w-[420px] truncate font-semibold">
        <Tip text={row.service} focusable>
          <Link to={jump(toService(row.service))}>{row.service}</Link>
        </Tip>
      </td>
      {focus && reference ? (
        <>
          <td className="num text-kelp">{rate(reference.rate)}</td>
          <td className="num">{rate(focus.rate)}</td>
          <td className="num text-kelp">{share(reference.failed_share)}</td>
          <td className="num">{share(focus.failed_share)}</td>
          <td className="num text-kelp">{duration(reference.p95)}</td>
          <td className="num font-semibold">{duration(focus.p95)}</td>
        </>
      ) : (
        <td colSpan={6} className="text-second">
          serves no requests in this time
        </td>
      )}
      <td className="pl-4! text-second">{row.sends.join(", ")}</td>
      <td className="num text-second">{row.newest ? `${age(row.newest, Date.now())} ago` : "just now"}</td>
    </tr>
  );
}
