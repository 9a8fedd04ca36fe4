import { useQuery } from "@tanstack/react-query";
import { client, take } from "../../api/client";
import { clockSeconds } from "../../shared/format";
import { useFirst } from "../../shared/useFirst";

const SOME = 8;

/** What was logged with the trace's id; each record leads to its span. */
export function TraceLogs({ trace, chooseSpan }: { trace: string; chooseSpan: (id: string) => void }) {
  const query = useQuery({
    queryKey: ["trace-logs", trace],
    queryFn: ({ signal }) => take(client.GET("/api/traces/{trace}/logs", { signal, params: { path: { trace } } })),
    staleTime: 60_000,
  });
  const [records, offer] = useFirst(query.data?.records ?? [], SOME, "records");
  if (!query.data) return null;
  const { count } = query.data;
  return (
    <section className="mt-4" aria-label="Logs of this trace">
      <h2>
        Logs <span>{count ? `${count} records with this trace's id` : "no record has this trace's id"}</span>
      </h2>
      <table className="sheet-table" hidden={count === 0}>
        <tbody>
          {records.map((record, index) => (
            <tr key={`${record.at} ${index}`}>
              <td className="whitespace-nowrap">{clockSeconds(record.at)}</td>
              <td className={record.severity === "error" || record.severity === "fatal" ? "text-rust" : "text-second"}>
                {record.severity}
              </td>
              <td className="whitespace-nowrap">{record.service}</td>
              <td className="font-mono text-[12px] break-all">{record.body}</td>
              <td className="num">
                {record.span && (
                  <button type="button" className="text-second underline" onClick={() => chooseSpan(record.span ?? "")}>
                    span
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {offer}
    </section>
  );
}
