import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { type ReactNode, useContext, useMemo } from "react";
import { Link } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { ChosenMoment } from "../../charts/moment";
import { useJump } from "../../frame/jump";
import { useScope } from "../../frame/scope";
import { minute } from "../../shared/format";
import { Measure } from "../../shared/Measure";
import { useFirst } from "../../shared/useFirst";
import { Waiting } from "../../shared/Waiting";
import { serviceState, toDisturbance } from "../places";

const MINUTE = 60_000;
const SOME = 12; // rows before the rest is offered

/** Charts inside choose a minute by a click; ``Snapshot`` shows everything that is watched at it. */
export function Moments({ children }: { children: ReactNode }) {
  const [{ at }, set] = useQueryStates({ at: serviceState.at });
  const chosen = useMemo(
    () => ({
      at: at?.getTime() ?? null,
      choose: (time: number | null) =>
        void set({ at: time === null ? null : new Date(Math.floor(time / MINUTE) * MINUTE) }),
    }),
    [at, set],
  );
  return <ChosenMoment.Provider value={chosen}>{children}</ChosenMoment.Provider>;
}

/** In place of what stands beside the charts, where it stays while they are scrolled: what was clicked does not move away. */
export function Snapshot({ service, first, children }: { service: string; first: number; children: ReactNode }) {
  const chosen = useContext(ChosenMoment);
  if (!chosen) return children;
  if (chosen.at === null)
    return (
      <>
        <p className="mb-4 text-second">
          <button type="button" className="underline" onClick={() => chosen.choose(first)}>
            Every measure at one minute
          </button>
          : click a chart, or begin where the focus does.
        </p>
        {children}
      </>
    );
  return <Measured service={service} at={chosen.at} choose={chosen.choose} />;
}

interface MeasuredProps {
  service: string;
  at: number;
  choose: (at: number | null) => void;
}

function Measured({ service, at, choose }: MeasuredProps) {
  const [scope] = useScope();
  const query = useQuery({
    queryKey: ["moment", service, at, scope.environment],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/moment", {
          signal,
          params: { query: { service, at: new Date(at).toISOString(), environment: scope.environment } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const step = (label: string, by: number) => (
    <button type="button" className="action" aria-label={label} onClick={() => choose(at + by)}>
      {by < 0 ? "‹" : "›"}
    </button>
  );
  return (
    <section
      className="sticky top-2 mb-5 max-h-[calc(100vh-16px)] overflow-y-auto border border-ink bg-sheet px-3 py-2"
      aria-label={`Every measure at ${minute(at)}`}
    >
      <div className="mb-1 flex items-center gap-2">
        <h2 className="mr-auto">Every measure at {minute(at)}</h2>
        {step("A minute before", -MINUTE)}
        {step("A minute after", MINUTE)}
        <button type="button" className="action" onClick={() => choose(null)}>
          Close
        </button>
      </div>
      {query.data && !query.isError ? (
        <Measures told={query.data} />
      ) : (
        <Waiting error={query.error} what={`what was measured at ${minute(at)}`} />
      )}
    </section>
  );
}

function Measures({ told }: { told: Schemas["Moment"] }) {
  const jump = useJump();
  const [rows, offer] = useFirst(told.rows, SOME, "measures");
  if (!rows.length) return <p>Nothing that is watched of it was sent in this minute.</p>;
  return (
    <>
      <p className="text-second" role="status">
        {told.deviating} of {told.found} deviate
        {told.rows.length < told.found && `; the first ${told.rows.length} are told`}
      </p>
      <table className="sheet-table">
        <thead>
          <tr>
            <th>measure</th>
            <th>value, and what was expected</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={row.series} data-measure={row.series}>
              <td className="w-[212px] max-w-[212px]">
                <Measure name={row.measure} />
                <div className="truncate text-second">{row.entity.name}</div>
              </td>
              <td className={row.deviation ? "text-rust" : ""}>
                {row.told}
                {row.deviation && (
                  <div>
                    <Link to={jump(toDisturbance(row.deviation))}>deviates</Link>
                  </div>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {offer}
    </>
  );
}
