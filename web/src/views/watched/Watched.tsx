import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { useOutletContext } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import type { ComparedContext } from "../../frame/Frame";
import { useScope, within } from "../../frame/scope";
import { moment } from "../../shared/format";
import { Measure } from "../../shared/Measure";
import { More } from "../../shared/More";
import { Tip } from "../../shared/Tip";
import { told } from "../../shared/Toasts";
import { Waiting } from "../../shared/Waiting";
import { type WatchedChange, watchedState, watchedStates } from "../places";
import { often } from "./budget";
import { Choose } from "./Choose";
import { Days } from "./Days";
import { Replay } from "./Replay";

type Row = Schemas["WatchedRow"];

const PAGE = 100;
const MOST = 1000;

/** All series that are watched: how well each is known, how closely it is watched, and what another budget would have found. */
export function Watched() {
  const { me } = useOutletContext<ComparedContext>();
  const [scope] = useScope();
  const [{ containing, only, series, most }, setState] = useQueryStates(watchedState);
  const query = useQuery({
    queryKey: ["watched", within(scope), containing, only, most],
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/watched", {
          signal,
          params: { query: { ...within(scope), containing, only: only ?? undefined, most } },
        }),
      ),
  });
  const choose = (change: WatchedChange) => void setState(change);
  const chosen = query.data?.rows.find((row) => row.id === series);
  return (
    <>
      <h1>Watched series</h1>
      <p className="mb-1 text-second">
        Requests of services, what hosts and services run short of, and what is logged are watched from the start, under
        one budget together; what you choose has its own.
      </p>
      <Days mayChange={me.may_administer} />
      {chosen && <Replay key={chosen.id} row={chosen} close={() => choose({ series: null, budget: null })} />}
      <div className="mb-2 flex items-baseline gap-5">
        <label className="text-second">
          containing{" "}
          <input
            className="field w-56"
            value={containing}
            onChange={(event) => choose({ containing: event.target.value || null, series: null })}
          />
        </label>
        <label className="text-second">
          only{" "}
          <select
            className="border-b border-ink bg-transparent"
            value={only ?? ""}
            onChange={(event) => choose({ only: watchedStates.find((state) => state === event.target.value) ?? null })}
          >
            <option value="">all</option>
            {watchedStates.map((state) => (
              <option key={state}>{state}</option>
            ))}
          </select>
        </label>
        {me.may_respond && <Choose />}
      </div>
      {query.data ? (
        <Rows list={query.data} series={series} choose={choose} most={most} />
      ) : (
        <Waiting error={query.error} what="watched series" />
      )}
    </>
  );
}

interface RowsProps {
  list: Schemas["WatchedList"];
  series: number | null;
  choose: (change: WatchedChange) => void;
  most: number;
}

function Rows({ list, series, choose, most }: RowsProps) {
  const { me } = useOutletContext<ComparedContext>();
  const { rows, found } = list;
  if (!rows.length && !list.failing)
    return <p>No series is watched that fits; the watch takes up what it finds every ten seconds.</p>;
  return (
    <>
      {list.failing && (
        <p role="alert" className="mb-2 border-l-4 border-rust pl-2">
          <b>Nothing is judged since {moment(list.failing.since)}:</b> the watch fails and is tried again every ten
          seconds. <span className="text-second">{list.failing.reason}</span>
        </p>
      )}
      <table className="sheet-table">
        <thead>
          <tr>
            <th>of</th>
            <th>measure</th>
            <th>now</th>
            <th>what is normal</th>
            <th className="num">deviations, 7 days</th>
            <th className="num">false ones it may have</th>
            <th className="pl-4">chosen by</th>
            {me.may_respond && <th>watching</th>}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr
              key={row.id}
              data-series={row.id}
              aria-current={row.id === series}
              className={row.id === series ? "bg-sheet outline outline-kelp" : ""}
            >
              <td className="font-semibold whitespace-nowrap">{row.entity.name}</td>
              <td>
                <button
                  type="button"
                  className="text-left underline decoration-line underline-offset-2 hover:decoration-ink"
                  onClick={() => choose({ series: row.id === series ? null : row.id, budget: null })}
                >
                  <Measure name={row.measure} />
                </button>
              </td>
              <td>
                <Now row={row} />
              </td>
              <td className={row.state === "learning" ? "text-second" : ""}>{STATES[row.state]}</td>
              <td className="num">{row.lately}</td>
              <td className="num">{often(row)}</td>
              <td className="pl-4!">{row.made_by ?? ""}</td>
              {me.may_respond && (
                <td>
                  <Pause row={row} />
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      <More
        shown={rows.length}
        found={found}
        what="series"
        limit={MOST}
        page={PAGE}
        more={() => choose({ most: most + PAGE })}
        beyond="Name a part of what you look for."
      />
    </>
  );
}

function Now({ row }: { row: Row }) {
  if (row.is_paused) return <>paused</>;
  if (row.error)
    return (
      <Tip text={`It could not be followed, and is tried again within an hour. ${row.error}`}>
        <b className="text-ochre">not followed</b>
      </Tip>
    );
  return row.deviates ? <b className="text-rust">deviates</b> : <>as expected</>;
}

/** What is known, and what is missing for more. */
const STATES: Record<Row["state"], string> = {
  learning: "learning, wants an hour",
  provisional: "provisional, wants two days",
  steady: "known, alike at all hours",
  seasonal: "known by the hour of the day",
  weekly: "known by the hour, days off apart",
};

function Pause({ row }: { row: Row }) {
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: (is_paused: boolean) =>
      take(client.PUT("/api/watched/{series}", { params: { path: { series: row.id } }, body: { is_paused } })),
    onSuccess: (_, paused) => {
      void queries.invalidateQueries({ queryKey: ["watched"] });
      told(`${row.measure} of ${row.entity.name} is ${paused ? "paused" : "watched again"}.`, () =>
        set.mutate(!paused),
      );
    },
    onError: (error) => told(error.message),
  });
  return (
    <button
      type="button"
      className="underline"
      aria-label={`${row.is_paused ? "watch again" : "pause"} ${row.measure} of ${row.entity.name}`}
      onClick={() => set.mutate(!row.is_paused)}
    >
      {row.is_paused ? "watch again" : "pause"}
    </button>
  );
}
