import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { client, take } from "../../api/client";
import { inFrame, useScope, within } from "../../frame/scope";
import { dayAndClock, percent } from "../../shared/format";
import { Waiting } from "../../shared/Waiting";

export function Inquiries() {
  const [scope] = useScope();
  const query = useQuery({
    queryKey: ["inquiries", within(scope)],
    queryFn: () => take(client.GET("/api/inquiries", { params: { query: within(scope) } })),
  });
  if (!query.data) return <Waiting error={query.error} what="inquiries" />;
  return (
    <>
      <h1 className="mb-3">Inquiries</h1>
      {query.data.length === 0 && (
        <p>None yet. Press “Find cause” on the Overview, a service, an operation, or a stretch of a chart.</p>
      )}
      <table className="sheet-table" hidden={query.data.length === 0}>
        <thead>
          <tr>
            <th>asked</th>
            <th>by</th>
            <th>symptom</th>
            <th>first candidate</th>
            <th className="num">confidence</th>
          </tr>
        </thead>
        <tbody>
          {query.data.map((row) => (
            <tr key={row.id}>
              <td>{dayAndClock(row.created)}</td>
              <td>{row.asked_by ?? ""}</td>
              <td>
                <Link
                  to={{ pathname: `/inquiries/${row.id}`, search: inFrame(within(scope)) }}
                  className="font-semibold"
                >
                  {row.service} {row.operation ?? ""}
                </Link>{" "}
                {row.signal}
              </td>
              <td>{row.candidate ?? "nothing stands out"}</td>
              <td className="num">{row.confidence == null ? "" : percent(row.confidence)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
