import { useQuery } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { useMemo } from "react";
import { Link, useParams } from "react-router";
import { client, type Schemas, take } from "../../api/client";
import { useJump } from "../../frame/jump";
import { CopyButton } from "../../shared/CopyButton";
import { dayAndClock, duration, signed, significant } from "../../shared/format";
import { useFirst } from "../../shared/useFirst";
import { Waiting } from "../../shared/Waiting";
import { toTraces, traceState } from "../places";
import { Channels } from "./Channels";
import { Outline } from "./Outline";
import { SpanDetail } from "./SpanDetail";
import { rowsOf } from "./spans";
import { TraceLogs } from "./TraceLogs";

const MOST_PARTS = 12;

/** One request as channels, beside a normal one at the same scale; its spans to read; one span in full. */
export function Trace() {
  const { trace = "" } = useParams();
  const jump = useJump();
  const [place, setPlace] = useQueryStates(traceState);
  const query = useQuery({
    queryKey: ["trace", trace, place.span, place.against],
    queryFn: () =>
      take(
        client.GET("/api/traces/{trace}", {
          params: { path: { trace }, query: { span: place.span, against: place.against } },
        }),
      ),
    staleTime: 60_000,
  });
  const pair = query.data;
  const spans = useMemo(() => (pair ? rowsOf(pair.this) : []), [pair]);
  const usual = useMemo(() => (pair?.normal ? rowsOf(pair.normal) : []), [pair]);
  if (!pair) return <Waiting error={query.error} what="the trace" />;
  const { this: view, normal, ratio } = pair;
  const chosen = spans[place.at ?? view.root] ?? spans[0];
  const choose = (index: number) => void setPlace({ at: index });
  const scale = Math.max(view.seconds, normal?.seconds ?? 0) * 1000;
  return (
    <>
      <div className="flex items-start gap-4">
        <h1 className="flex-1">
          {view.operation}{" "}
          <span className="text-[15px] text-rust">
            {duration(view.seconds)}
            {ratio ? `, ${significant(ratio, 2)}× a normal one` : ""}
          </span>
        </h1>
        <Link
          className="action hover:no-underline"
          to={jump(toTraces({ service: view.service, operation: view.operation }))}
        >
          Others like it
        </Link>
      </div>
      <p className="mb-2 text-second">
        {view.service} · {dayAndClock(view.at)} · <span className="font-mono text-[12px] select-all">{view.trace}</span>{" "}
        <CopyButton text={view.trace} /> · {spans.length} spans, {view.levels} deep, {view.channels.length} channels
        {view.left_out ? ` · ${view.left_out} more spans are not shown` : ""}
        {view.more_runs ? ` · ${view.more_runs} more runs of like calls are not marked` : ""}
        {view.beside > 0 && (
          <>
            {" · "}
            <Link to={jump(`/traces/${view.trace}`)}>
              {view.beside} more {view.beside === 1 ? "span" : "spans"} above and beside it
            </Link>
          </>
        )}
      </p>
      {view.notes.map((note) => (
        <p key={note} className="mb-1 border-l-[3px] border-ochre pl-2">
          {note}
        </p>
      ))}
      <div className="grid grid-cols-[minmax(0,1fr)_310px] gap-6">
        <div>
          <h2 className="flex justify-between">
            <span className="font-normal! text-second!">
              <b className="text-ink">This request</b> one channel a service; the line is where the time really passed
            </span>
            <b className="text-rust!">{duration(view.seconds)}</b>
          </h2>
          <Channels
            view={view}
            spans={spans}
            scale={scale}
            colour="var(--rust)"
            chosen={chosen?.index ?? 0}
            onChoose={choose}
          />
          {normal && (
            <>
              <h2 className="mt-2 flex justify-between">
                <span className="font-normal! text-second!">
                  <b className="text-ink">A normal one</b> same operation, from the reference, same scale
                </span>
                <b className="text-kelp!">{duration(normal.seconds)}</b>
              </h2>
              <Channels view={normal} spans={usual} scale={scale} colour="var(--kelp)" small />
            </>
          )}
          <Passed view={view} compared={normal !== null} />
          <Outline spans={spans} chosen={chosen?.index ?? 0} onChoose={choose} />
          <TraceLogs
            trace={view.trace}
            chooseSpan={(id) => {
              const span = spans.find((one) => one.span === id);
              if (span) choose(span.index);
            }}
          />
        </div>
        {chosen && <SpanDetail trace={view.trace} span={chosen} of={spans.length} />}
      </div>
    </>
  );
}

/** Where this request's time passed; the parts add up to its duration. */
function Passed({ view, compared }: { view: Schemas["TraceView"]; compared: boolean }) {
  const [parts, offer] = useFirst(view.parts, MOST_PARTS, "parts");
  return (
    <>
      <table className="sheet-table mt-3">
        <thead>
          <tr>
            <th>where the time passed</th>
            <th className="num">calls</th>
            {compared && <th className="num text-kelp!">normal</th>}
            <th className="num text-rust!">here</th>
            {compared && <th className="num">more</th>}
          </tr>
        </thead>
        <tbody>
          {parts.map((part) => (
            <tr key={part.label}>
              <td>{part.label}</td>
              <td className="num">
                {part.normal_calls != null && part.normal_calls !== part.calls
                  ? `${part.normal_calls} → ${part.calls}`
                  : part.calls}
              </td>
              {compared && <td className="num">{duration((part.normal_ms ?? 0) / 1000)}</td>}
              <td className="num">{duration(part.here_ms / 1000)}</td>
              {compared && (
                <td className={`num ${(part.more_ms ?? 0) > 1 ? "text-rust" : "text-second"}`}>
                  {signed(duration((part.more_ms ?? 0) / 1000), part.more_ms ?? 0)}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
      {offer}
    </>
  );
}
