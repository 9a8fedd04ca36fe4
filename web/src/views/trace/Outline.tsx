import { useVirtualizer } from "@tanstack/react-virtual";
import { type FormEvent, type KeyboardEvent, useMemo, useRef, useState } from "react";
import { duration } from "../../shared/format";
import { Tip } from "../../shared/Tip";
import { matching, type SpanRow } from "./spans";
import { moved, visible } from "./tree";

const ROW = 22;
const LISTED = 320;
const INDENTED = 16; // levels; beneath, the level is written

/** The spans in order of time with nesting, for reading and for the keyboard: up, down, Home, End; left and right close and open. */
export function Outline({
  spans,
  chosen,
  onChoose,
}: {
  spans: SpanRow[];
  chosen: number;
  onChoose: (index: number) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [closed, setClosed] = useState<ReadonlySet<number>>(new Set());
  const [wanted, setWanted] = useState("");
  const shown = useMemo(() => visible(spans, closed), [spans, closed]);
  const at = Math.max(
    0,
    shown.findIndex((span) => span.index === chosen),
  );
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const turn = (index: number) => {
    const next = new Set(closed);
    if (!next.delete(index)) next.add(index);
    setClosed(next);
  };
  const go = (next: number) => {
    const span = shown[next];
    if (!span) return;
    onChoose(span.index);
    rows.scrollToIndex(next);
  };
  const onKey = (event: KeyboardEvent) => {
    const has = (spans[chosen]?.beneath ?? 0) > 0;
    const opens = event.key === "ArrowRight" && has && closed.has(chosen);
    const closes = event.key === "ArrowLeft" && has && !closed.has(chosen);
    const next = moved(shown, at, event.key);
    if (!opens && !closes && next === null) return;
    event.preventDefault();
    if (opens || closes) turn(chosen);
    else if (next !== null) go(next);
  };
  const matches = useMemo(() => matching(spans, wanted), [spans, wanted]);
  const next = (event: FormEvent) => {
    event.preventDefault();
    const hit = matches.find((index) => index > chosen) ?? matches[0];
    if (hit === undefined) return;
    setClosed(new Set());
    onChoose(hit);
    rows.scrollToIndex(hit);
  };
  return (
    <section className="mt-3" aria-label="Spans">
      <h2 className="flex items-baseline justify-between">
        <span className="font-bold! text-ink!">
          Spans <span className="font-normal text-second">in order of time; the bar marks the critical path</span>
        </span>
        <form onSubmit={next} className="font-normal">
          <label>
            <span className="text-second">find </span>
            <input
              type="search"
              className="field w-44"
              value={wanted}
              onChange={(event) => setWanted(event.target.value)}
            />
          </label>{" "}
          {wanted && (
            <span role="status" className="text-second">
              {matches.length} {matches.length === 1 ? "span" : "spans"}; Enter goes to the next
            </span>
          )}
        </form>
      </h2>
      <div
        ref={box}
        role="tree"
        aria-label="Spans"
        aria-activedescendant={`span-${chosen}`}
        tabIndex={0}
        onKeyDown={onKey}
        className="overflow-auto"
        style={{ maxHeight: LISTED }}
      >
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((item) => {
            const span = shown[item.index];
            if (!span) return null;
            return (
              <div
                key={item.key}
                id={`span-${span.index}`}
                role="treeitem"
                aria-level={span.depth + 1}
                aria-selected={span.index === chosen}
                aria-expanded={span.beneath ? !closed.has(span.index) : undefined}
                tabIndex={-1}
                onClick={() => onChoose(span.index)}
                onKeyDown={() => undefined}
                className={`absolute flex w-full cursor-pointer items-center border-b border-line ${span.index === chosen ? "bg-sheet font-semibold" : ""}`}
                style={{ top: item.start, height: ROW, paddingLeft: Math.min(span.depth, INDENTED) * 14 }}
              >
                <span
                  aria-hidden="true"
                  className={`mr-2 h-[14px] w-[3px] shrink-0 ${span.onPath ? "bg-rust" : "bg-transparent"}`}
                />
                {span.depth > INDENTED && <span className="mr-1 text-[12px] text-second">{span.depth + 1}</span>}
                <Twist closed={closed.has(span.index)} count={span.beneath} turn={() => turn(span.index)} />
                <span className="truncate">
                  {span.service}
                  {span.peer ? ` → ${span.peer}` : ""}{" "}
                  <span className="font-mono text-[12px] text-second">{span.operation}</span>
                  {span.isOrphan && <span className="text-ochre"> parent missing</span>}
                  {span.events > 0 && (
                    <span className="text-second"> · {span.events === 1 ? "1 event" : `${span.events} events`}</span>
                  )}
                </span>
                {span.outcome !== "ok" && (
                  <span className={`ml-2 ${span.outcome === "error" ? "text-rust" : "text-ochre"}`}>
                    {span.outcome}
                  </span>
                )}
                <Tip text="self time on the critical path" quiet>
                  <span className="ml-auto pl-3 whitespace-nowrap text-second">
                    {span.onPath ? `self ${duration(span.self / 1000)}` : "off the path"}
                  </span>
                </Tip>
                <span className="w-[72px] text-right whitespace-nowrap">{duration(span.duration / 1000)}</span>
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}

function Twist({ closed, count, turn }: { closed: boolean; count: number; turn: () => void }) {
  if (!count) return <span className="w-5 shrink-0" />;
  return (
    <button
      type="button"
      tabIndex={-1}
      aria-label={`${closed ? "open" : "close"} ${count} spans`}
      className="w-5 shrink-0 text-second"
      onClick={(event) => {
        event.stopPropagation();
        turn();
      }}
    >
      {closed ? "▸" : "▾"}
    </button>
  );
}
