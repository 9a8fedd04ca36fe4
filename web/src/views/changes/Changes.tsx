import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { Link, useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import type { ComparedContext } from "../../frame/Frame";
import { useJump } from "../../frame/jump";
import { spanOf, timesOf, useScope, within } from "../../frame/scope";
import { clockSeconds, dayAndClock } from "../../shared/format";
import { More } from "../../shared/More";
import { Waiting } from "../../shared/Waiting";
import { changesState, toService } from "../places";

const PAGE = 100;
const MOST = 2000;

/** All changes in the ribbon's range, newest first, with what they altered. */
export function Changes() {
  const { ribbon, windows } = useOutletContext<ComparedContext>();
  const [scope] = useScope();
  const jump = useJump();
  const [{ change: chosen, most }, setState] = useQueryStates(changesState);
  const range = scope.range ?? (ribbon ? spanOf(ribbon) : { start: windows.reference.start, end: windows.focus.end });
  const query = useQuery({
    queryKey: ["changes", range.start, Math.round(range.end / 60_000), within(scope), most],
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(client.GET("/api/changes", { params: { query: { ...timesOf(range), ...within(scope), most } } })),
  });
  if (!query.data) return <Waiting error={query.error} what="changes" />;
  const { rows, found } = query.data;
  return (
    <>
      <h1 className="mb-3">Changes</h1>
      {rows.length === 0 && <p>None was announced in this time. Send them to /v1/changes.</p>}
      <table className="sheet-table" hidden={rows.length === 0}>
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
          {rows.map((change) => (
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
                  <Link to={jump(toService(change.service))} className="any-length">
                    {change.service}
                  </Link>
                ) : (
                  "–"
                )}
              </td>
              <td>
                <span className="any-length">{change.version ?? ""}</span>
              </td>
              <td>
                <span className="any-length">{change.summary}</span>
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
                <span className="any-length">
                  <Difference change={change} />
                </span>
              </td>
              <td>
                <span className="any-length">{change.actor ?? ""}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <More
        shown={rows.length}
        found={found}
        what="changes, the newest,"
        limit={MOST}
        page={PAGE}
        more={() => void setState({ most: most + PAGE })}
        beyond="A shorter range shows the others."
      />
    </>
  );
}

/** Only the lines that differ. */
function Difference({ change }: { change: Schemas["ChangeOut"] }) {
  return (
    <>
      {change.lines.map((line) => (
        <div key={line.key}>
          {line.key}: {line.before ?? "–"} → {line.after ?? "–"}
        </div>
      ))}
      {change.more_lines > 0 && <div>and {change.more_lines} more lines</div>}
    </>
  );
}
