import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import { useQueryStates } from "nuqs";
import { useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { GridLine, largest, nothing, ticksOf } from "../../charts/axis";
import { Band } from "../../charts/Band";
import { TimeChart } from "../../charts/TimeChart";
import type { ComparedContext } from "../../frame/Frame";
import { Confirm } from "../../shared/Confirm";
import { inUnit, minute, significant, span } from "../../shared/format";
import { told } from "../../shared/Toasts";
import { Waiting } from "../../shared/Waiting";
import { watchedState } from "../places";
import { BUDGETS, every } from "./budget";
import { Forecast } from "./Forecast";

type Row = Schemas["WatchedRow"];
type Found = Schemas["Replay"];

const HEIGHT = 150;
const ROOM = 22; // px between ticks
const MARK = 6; // px

/** One series over its history: what would have been found under a budget, before that is set. */
export function Replay({ row, close }: { row: Row; close: () => void }) {
  const { me, windows } = useOutletContext<ComparedContext>();
  const [{ budget }, setState] = useQueryStates(watchedState);
  const asked = budget ?? row.budget;
  const query = useQuery({
    queryKey: ["replay", row.id, asked],
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/watched/{series}/replay", {
          signal,
          params: { path: { series: row.id }, query: { budget: asked } },
        }),
      ),
  });
  const options = [...new Set([...BUDGETS, row.budget])].sort((a, b) => a - b);
  return (
    <section aria-label={`${row.measure} of ${row.entity.name}`} className="mb-4 border border-line bg-sheet px-3 py-2">
      <div className="mb-1 flex items-baseline gap-5">
        <h2 className="mb-0! border-0!">
          {row.entity.name}: {row.measure}
        </h2>
        <fieldset className="flex items-baseline gap-3 text-second">
          <legend className="sr-only">How many false deviations it may have</legend>
          <span aria-hidden="true">false ones it may have:</span>
          {options.map((option) => (
            <label key={option} className="whitespace-nowrap">
              <input
                type="radio"
                name="budget"
                checked={option === asked}
                onChange={() => void setState({ budget: option === row.budget ? null : option })}
              />{" "}
              {every(option)}
              {option === row.budget && !row.has_own_budget && " (its part now)"}
            </label>
          ))}
        </fieldset>
        <span className="ml-auto flex gap-4">
          {me.may_respond && <Keep row={row} budget={asked} />}
          {me.may_respond && row.made_by !== null && <Delete row={row} close={close} />}
          <button type="button" className="underline" onClick={close}>
            close
          </button>
        </span>
      </div>
      {query.data ? (
        <>
          <Drawn found={query.data} windows={windows} row={row} />
          <FoundList found={query.data} />
        </>
      ) : (
        <Waiting error={query.error} what="its history" />
      )}
      <Forecast row={row} />
    </section>
  );
}

function Drawn({ found, windows, row }: { found: Found; windows: ComparedContext["windows"]; row: Row }) {
  const { values, low, high, expected } = found;
  const say = inUnit(found.unit);
  return (
    <TimeChart
      title={`the last ${span(found.days * 86_400)}`}
      label={`${row.measure} of ${row.entity.name}, and what was expected`}
      start={found.start}
      step_s={found.step_s}
      count={values.length}
      height={HEIGHT}
      isEmpty={nothing(values)}
      known={(index) => values[index] != null}
      windows={windows}
      changes={[]}
      legend={(index) => `${say(values[index])}, expected ${say(low[index])} to ${say(high[index])}`}
      columns={[
        { name: "value", at: (index) => say(values[index]) },
        { name: "expected", at: (index) => say(expected[index]) },
        { name: "from", at: (index) => say(low[index]) },
        { name: "to", at: (index) => say(high[index]) },
      ]}
      draw={({ at, x, top, bottom, left, right }) => {
        const y = scaleLinear([0, largest(values, high)], [bottom, top]).nice(3);
        return (
          <>
            {ticksOf(y.ticks(4), y, ROOM).map((tick) => (
              <GridLine key={tick} y={y(tick)} left={left} right={right} text={say(tick)} />
            ))}
            <Band x={at} y={y} values={values} low={low} high={high} />
            {found.found.map((one) => {
              const from = x(Date.parse(one.onset));
              const to = one.ended ? x(Date.parse(one.ended)) : right;
              return (
                <path
                  key={`${one.onset} ${one.direction}`}
                  d={`M${from} ${bottom - 1}H${Math.max(to, from + 3)}M${from} ${bottom - 1}V${bottom - MARK}`}
                  stroke={one.direction === "high" ? "var(--rust)" : "var(--plum)"}
                  strokeWidth="2"
                />
              );
            })}
          </>
        );
      }}
    />
  );
}

function FoundList({ found }: { found: Found }) {
  const count = found.found.length;
  return (
    <div role="status">
      <p>
        {count === 0 ? "Nothing" : count === 1 ? "One deviation" : `${count} deviations`} would have been found in{" "}
        {span(found.days * 86_400)}.
      </p>
      <ul className="max-h-32 overflow-auto">
        {found.found.map((one) => (
          <li key={`${one.onset} ${one.direction}`}>
            {minute(one.onset)} – {one.ended ? minute(one.ended) : "now"}: {one.deviates}{" "}
            <span className="text-second">
              {significant(one.bits)} bits{one.provisional ? ", provisional" : ""}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Keep({ row, budget }: { row: Row; budget: number }) {
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: (to: number) =>
      take(client.PUT("/api/watched/{series}", { params: { path: { series: row.id } }, body: { budget: to } })),
    onSuccess: (_, to) => {
      void queries.invalidateQueries({ queryKey: ["watched"] });
      told(`${row.measure} of ${row.entity.name} may now have ${every(to)}; its history is read anew.`, () =>
        set.mutate(row.budget),
      );
    },
    onError: (error) => told(error.message),
  });
  if (budget === row.budget) return null;
  return (
    <button type="button" className="action" disabled={set.isPending} onClick={() => set.mutate(budget)}>
      Watch it so
    </button>
  );
}

function Delete({ row, close }: { row: Row; close: () => void }) {
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: () => take(client.DELETE("/api/watched/{series}", { params: { path: { series: row.id } } })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["watched"] });
      told(`${row.measure} of ${row.entity.name} is no longer watched.`);
      close();
    },
    onError: (error) => told(error.message),
  });
  return (
    <Confirm
      title={`Stop watching ${row.measure} of ${row.entity.name}?`}
      consequence="What was found in it is forgotten."
      action="Stop watching"
      onConfirm={() => remove.mutate()}
    >
      <button type="button" className="underline">
        delete
      </button>
    </Confirm>
  );
}
