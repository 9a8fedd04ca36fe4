import { useMutation, useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { Link, useOutletContext, useParams } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { ChangeMark, changeTitle } from "../../charts/ChangeMark";
import type { ComparedContext } from "../../frame/Frame";
import { useJump } from "../../frame/jump";
import { useScope } from "../../frame/scope";
import { useDisturbance } from "../../shared/disturbances";
import { FindCause } from "../../shared/FindCause";
import { clock, dayAndClock, minute, span } from "../../shared/format";
import { Measure } from "../../shared/Measure";
import { Tip } from "../../shared/Tip";
import { told } from "../../shared/Toasts";
import { Waiting } from "../../shared/Waiting";
import { timeScale } from "../../shared/zone";
import { toService } from "../places";
import { Surprise, Threshold } from "./Disturbances";

type Row = Schemas["DisturbanceRow"];
type Deviation = Schemas["DeviationOut"];

const LADDER = 230; // px
const HEIGHT = 18;
const MINUTE_S = 60; // onsets are known to the minute
const BEFORE_MS = 10 * 60_000; // that is drawn before the first onset

/** One disturbance: its deviations in order of onset, what changed before, and the way to the cause. */
export function Disturbance() {
  const { id } = useParams();
  const { windows } = useOutletContext<ComparedContext>();
  const query = useDisturbance(id);
  if (!query.data) return <Waiting error={query.error} what="the disturbance" />;
  const row = query.data;
  const asked = row.deviations.find((one) => one.service && one.signal);
  return (
    <>
      <div className="mb-3 flex items-start gap-4">
        <div className="flex-1">
          <h1>{row.sentence}</h1>
          <p className="text-second">{whenOf(row)}</p>
        </div>
        {asked?.service && asked.signal && (
          <FindCause main windows={windows} asked={{ service: asked.service, signal: asked.signal }} />
        )}
      </div>
      {row.provisional && (
        <p className="mb-3">
          Provisional: what these series do over a day is not known yet, so this was judged by the hours before only.
        </p>
      )}
      <Deviations row={row} />
      <Before row={row} />
    </>
  );
}

function whenOf(row: Row): string {
  const start = Date.parse(row.start);
  if (row.no_data_since !== null)
    return `Since ${minute(row.start)}; no data since ${minute(row.no_data_since)}, so that nobody can say whether it goes on.`;
  if (row.end === null) return `Since ${minute(row.start)}; it goes on.`;
  return `From ${minute(row.start)} to ${minute(row.end)}, ${span((Date.parse(row.end) - start) / 1000)}.`;
}

function Deviations({ row }: { row: Row }) {
  const jump = useJump();
  const { me } = useOutletContext<ComparedContext>();
  const start = Date.parse(row.start) - BEFORE_MS;
  const end = Math.max(Date.parse(row.focus.end), start + 2 * BEFORE_MS);
  const x = timeScale([start, end], [2, LADDER - 2]);
  return (
    <>
      <h2>
        Deviations <span>in the order in which they began</span>
      </h2>
      <table className="sheet-table mb-5">
        <thead>
          <tr>
            <th>began</th>
            <th>
              <span className="sr-only">over time</span>
              <span aria-hidden="true" className="flex justify-between pr-2 font-normal">
                <span>{clock(start)}</span>
                <span>{clock(end)}</span>
              </span>
            </th>
            <th>of</th>
            <th>measure</th>
            <th>at its farthest</th>
            <th className="num">surprise (bits)</th>
            <th className="num max-[1180px]:hidden">noticed after</th>
            <th className="pl-3">a plain threshold</th>
            {me.may_respond && <th>mark</th>}
          </tr>
        </thead>
        <tbody>
          {row.deviations.map((one) => (
            <tr key={one.id} data-deviation={one.id}>
              <td className="whitespace-nowrap">
                <Tip text={`${dayAndClock(one.onset)}, between ${minute(one.onset_low)} and ${minute(one.onset_high)}`}>
                  <span>{minute(one.onset)}</span>
                </Tip>
              </td>
              <td style={{ width: LADDER }}>
                <Ladder one={one} x={x} end={end} changes={row.changes} />
              </td>
              <td className="font-semibold whitespace-nowrap">
                {one.service ? <Link to={jump(toService(one.service))}>{one.service}</Link> : one.entity.name}
              </td>
              <td className="wrap-anywhere">
                <Measure name={one.measure} />
              </td>
              <td className="text-balance">
                {one.deviates}
                {one.mark && (
                  <span className="text-second">
                    {" "}
                    · marked as {one.mark} by {one.marked_by ?? "somebody"}
                  </span>
                )}
              </td>
              <td className="num">
                <Surprise bits={one.surprise_bits} most={row.bits} />
              </td>
              <td className="num max-[1180px]:hidden">
                {span((Date.parse(one.opened) - Date.parse(one.onset)) / 1000)}
              </td>
              <td className="pl-3!">
                <Threshold lead={one.lead_over_threshold_s} />
              </td>
              {me.may_respond && (
                <td>
                  <Marking one={one} />
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

interface LadderProps {
  one: Deviation;
  x: ReturnType<typeof timeScale>;
  end: number;
  changes: Schemas["ChangeOut"][];
}

/** From when to when: the onset with its interval, when it was noticed, and the changes before. */
function Ladder({ one, x, end, changes }: LadderProps) {
  const colour = one.direction === "high" ? "var(--rust)" : "var(--plum)";
  const [from, to] = [x(Date.parse(one.onset)), x(one.ended ? Math.min(Date.parse(one.ended), end) : end)];
  const middle = HEIGHT / 2;
  return (
    <svg width={LADDER} height={HEIGHT} className="block" aria-hidden="true">
      {changes.map((change) => {
        const at = x(Date.parse(change.at));
        return at < 0 ? null : <path key={change.id} d={`M${at} 0V${HEIGHT}`} stroke="var(--second)" />;
      })}
      <rect
        x={from}
        y={middle - 3}
        width={Math.max(2, to - from)}
        height="6"
        fill={one.ended === null ? colour : "none"}
        stroke={colour}
      />
      <path
        d={`M${x(Date.parse(one.onset_low))} ${middle - 6}V${middle + 6}M${x(Date.parse(one.onset_high))} ${middle - 6}V${middle + 6}`}
        stroke="var(--ink)"
      />
      <circle cx={x(Date.parse(one.opened))} cy={middle} r="2.5" fill="var(--ink)" />
    </svg>
  );
}

const MARKS = [
  ["expected", "As expected", "Nothing is learned from it."],
  ["noise", "Noise", "The series learns that it does so."],
  ["new normal", "The new normal", "What holds from now on; one that goes on ends."],
] as const;
type Mark = (typeof MARKS)[number][0];

function Marking({ one }: { one: Deviation }) {
  const queries = useQueryClient();
  const set = useMutation({
    mutationFn: (mark: Mark | null) =>
      take(client.PUT("/api/deviations/{identity}/mark", { params: { path: { identity: one.id } }, body: { mark } })),
    onSuccess: (_, mark) => {
      void queries.invalidateQueries({ queryKey: ["disturbance"] });
      void queries.invalidateQueries({ queryKey: ["disturbances"] });
      if (mark) told(`Marked as ${mark}; the band follows within ten seconds.`, () => set.mutate(null));
      else told("The mark was taken back.");
    },
    onError: (error) => told(error.message),
  });
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        className="underline"
        aria-label={`mark ${one.measure} of ${one.service ?? one.entity.name}`}
      >
        {one.mark ?? "mark"}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="z-40 border border-ink bg-sheet py-1">
          {MARKS.map(([mark, name, meaning]) => (
            <DropdownMenu.Item
              key={mark}
              className="cursor-pointer px-3 py-1 outline-none data-[highlighted]:bg-ground"
              onSelect={() => set.mutate(mark)}
            >
              <b>{name}</b> <span className="text-second">{meaning}</span>
            </DropdownMenu.Item>
          ))}
          {one.mark && (
            <DropdownMenu.Item
              className="cursor-pointer px-3 py-1 outline-none data-[highlighted]:bg-ground"
              onSelect={() => set.mutate(null)}
            >
              <b>Take the mark back</b>
            </DropdownMenu.Item>
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

function Before({ row }: { row: Row }) {
  const [scope] = useScope();
  const jump = useJump();
  return (
    <>
      <h2>
        Changed before <span>of what it touches and what that is linked with</span>
      </h2>
      {row.changes.length === 0 && <p>Nothing was announced{scope.environment ? ` in ${scope.environment}` : ""}.</p>}
      <ul>
        {row.changes.map((change) => {
          const earlier = (Date.parse(row.start) - Date.parse(change.at)) / 1000;
          return (
            <li key={change.id} className="flex min-h-7 items-center gap-2">
              <svg width="22" height="16" aria-hidden="true">
                <ChangeMark
                  change={{ ...change, until: null }}
                  x={Object.assign(() => 10, { range: () => [0, 22] })}
                  y={2}
                />
              </svg>
              <Link to={jump({ pathname: "/changes", search: `?change=${encodeURIComponent(change.id)}` })}>
                {changeTitle(change)}
              </Link>
              <span className="text-second">
                {Math.abs(earlier) < MINUTE_S
                  ? "in the minute of its onset"
                  : `${span(earlier)} ${earlier > 0 ? "before" : "after"} its onset`}
              </span>
            </li>
          );
        })}
      </ul>
    </>
  );
}
