import { useQuery } from "@tanstack/react-query";
import { client, take } from "../../api/client";
import { LogTable } from "../../shared/LogTable";
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
      <LogTable
        label="Log records"
        records={records}
        withService
        lead={({ span }) =>
          span && (
            <button type="button" className="text-second underline" onClick={() => chooseSpan(span)}>
              span
            </button>
          )
        }
      />
      {offer}
    </section>
  );
}
