import { useQuery } from "@tanstack/react-query";
import { parseAsString, useQueryState } from "nuqs";
import { Link, useLocation, useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import type { FrameContext } from "../../frame/Frame";
import { timesOf, useScope } from "../../frame/scope";
import { clockSeconds, dayAndClock } from "../../shared/format";
import { Waiting } from "../../shared/Waiting";

/** All changes in the ribbon's range, newest first, with what they altered. */
export function Changes() {
  const { ribbon } = useOutletContext<FrameContext>();
  const [scope] = useScope();
  const { search } = useLocation();
  const [chosen] = useQueryState("change", parseAsString);
  const range = { start: Date.parse(ribbon.start), end: Date.parse(ribbon.end) };
  const query = useQuery({
    queryKey: ["changes", range.start, Math.round(range.end / 60_000), scope.environment],
    queryFn: () =>
      take(client.GET("/api/changes", { params: { query: { ...timesOf(range), environment: scope.environment } } })),
  });
  if (!query.data) return <Waiting error={query.error} what="changes" />;
  return (
    <>
      <h1 className="mb-3">Changes</h1>
      {query.data.length === 0 && <p>None was announced in this time. Send them to /v1/changes.</p>}
      <table className="sheet-table">
        <thead>
          <tr>
            <th>at</th>
            <th>kind</th>
            <th>service</th>
            <th>version</th>
            <th>what</th>
            <th>before → after</th>
            <th>by</th>
          </tr>
        </thead>
        <tbody>
          {[...query.data].reverse().map((change) => (
            <tr
              key={change.id}
              className={change.id === chosen ? "bg-sheet outline outline-kelp" : ""}
              aria-current={change.id === chosen}
            >
              <td className="whitespace-nowrap">
                {dayAndClock(change.at)}
                {change.until ? ` – ${clockSeconds(change.until)}` : ""}
              </td>
              <td>{change.kind}</td>
              <td>
                {change.service ? (
                  <Link to={{ pathname: `/services/${encodeURIComponent(change.service)}`, search }}>
                    {change.service}
                  </Link>
                ) : (
                  "–"
                )}
              </td>
              <td>{change.version ?? ""}</td>
              <td>
                {change.summary}
                {change.link && (
                  <>
                    {" "}
                    <a href={change.link} rel="noreferrer" className="underline">
                      more
                    </a>
                  </>
                )}
              </td>
              <td className="font-mono text-[12px]">
                <Difference change={change} />
              </td>
              <td>{change.actor ?? ""}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** Only the lines that differ. */
function Difference({ change }: { change: Schemas["ChangeOut"] }) {
  const lines = (value: unknown): Record<string, unknown> =>
    value && typeof value === "object" ? (value as Record<string, unknown>) : {};
  const before = lines(change.before);
  const after = lines(change.after);
  const keys = [...new Set([...Object.keys(before), ...Object.keys(after)])].filter(
    (key) => JSON.stringify(before[key]) !== JSON.stringify(after[key]),
  );
  return keys.map((key) => (
    <div key={key}>
      {key}: {JSON.stringify(before[key]) ?? "–"} → {JSON.stringify(after[key]) ?? "–"}
    </div>
  ));
}
