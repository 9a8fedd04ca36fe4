import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { Link } from "react-router";
import { client, take } from "../../api/client";
import { inFrame, useScope, within } from "../../frame/scope";
import { dayAndClock, percent } from "../../shared/format";
import { More } from "../../shared/More";
import { Waiting } from "../../shared/Waiting";
import { inquiriesState } from "../places";

const PAGE = 100;
const MOST = 500;

export function Inquiries() {
  const [scope] = useScope();
  const [{ most }, setState] = useQueryStates(inquiriesState);
  const query = useQuery({
    queryKey: ["inquiries", within(scope), most],
    placeholderData: keepPreviousData,
    queryFn: () => take(client.GET("/api/inquiries", { params: { query: { ...within(scope), most } } })),
  });
  if (!query.data) return <Waiting error={query.error} what="inquiries" />;
  const { rows, found } = query.data;
  return (
    <>
      <h1 className="mb-3">Inquiries</h1>
      {rows.length === 0 && (
        <p>None yet. Press “Find cause” on the Overview, a service, an operation, or a stretch of a chart.</p>
      )}
      <table className="sheet-table" hidden={rows.length === 0}>
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
          {rows.map((row) => (
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
      <More
        shown={rows.length}
        found={found}
        limit={MOST}
        page={PAGE}
        more={() => void setState({ most: most + PAGE })}
        beyond="A scope shows fewer."
      />
    </>
  );
}
