import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useRef } from "react";
import type { Schemas } from "../../api/client";
import { duration } from "../../shared/format";

const ROW = 22;
const LISTED = 320;

/** The spans in order of time with nesting, for reading and for the keyboard (up, down). */
export function Outline({
  view,
  chosen,
  onChoose,
}: {
  view: Schemas["TraceView"];
  chosen: number;
  onChoose: (index: number) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: view.spans.length,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const onKey = (event: KeyboardEvent) => {
    const way = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (!way) return;
    event.preventDefault();
    const next = Math.max(0, Math.min(view.spans.length - 1, chosen + way));
    onChoose(next);
    rows.scrollToIndex(next);
  };
  return (
    <section className="mt-3" aria-label="Spans">
      <h2>
        Spans <span>in order of time; the bar marks the critical path</span>
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
            const span = view.spans[item.index];
            if (!span) return null;
            const onPath = span.path_from_ms !== null;
            return (
              <div
                key={item.key}
                id={`span-${span.index}`}
                role="treeitem"
                aria-level={span.depth + 1}
                aria-selected={span.index === chosen}
                tabIndex={-1}
                onClick={() => onChoose(span.index)}
                onKeyDown={() => undefined}
                className={`absolute flex w-full cursor-pointer items-center border-b border-line ${span.index === chosen ? "bg-sheet font-semibold" : ""}`}
                style={{ top: item.start, height: ROW, paddingLeft: span.depth * 14 }}
              >
                <span
                  aria-hidden="true"
                  className={`mr-2 h-[14px] w-[3px] shrink-0 ${onPath ? "bg-rust" : "bg-transparent"}`}
                />
                <span className="truncate">
                  {span.service}
                  {span.peer ? ` → ${span.peer}` : ""}{" "}
                  <span className="font-mono text-[12px] text-second">{span.operation}</span>
                  {span.missing_parent && <span className="text-ochre"> parent missing</span>}
                  {span.events.length > 0 && <span className="text-second"> · {span.events.length} events</span>}
                </span>
                {span.outcome !== "ok" && (
                  <span className={`ml-2 ${span.outcome === "error" ? "text-rust" : "text-ochre"}`}>
                    {span.outcome}
                  </span>
                )}
                <span className="ml-auto pl-3 whitespace-nowrap text-second" title="self time on the critical path">
                  {onPath ? `self ${duration(span.self_ms / 1000)}` : "off the path"}
                </span>
                <span className="w-[72px] text-right whitespace-nowrap">{duration(span.duration_ms / 1000)}</span>
              </div>
            );
          })}
        </div>
      </div>
    </section>
  );
}
