import { scaleLinear, scaleTime } from "d3-scale";
import { type KeyboardEvent, type PointerEvent, useRef, useState } from "react";
import { Band } from "../charts/Band";
import { ChangeMarks } from "../charts/ChangeMarks";
import { useTimeBrush } from "../charts/TimeBrush";
import { clock, clockOrDay, duration, span, zone } from "../shared/format";
import { useWidth } from "../shared/useWidth";
import { type Ribbon as RibbonData, type Span, useScope, type Windows } from "./scope";

const HEIGHT = 84;
const LEFT = 132;
const TOP = 20;
const BASE = 62;
const MINUTE = 60_000;

type Name = "focus" | "reference";
type Edge = "start" | "end" | "whole";

/** Moves a window by an edge or as a whole, on whole minutes, inside the ribbon, never shorter than a minute. */
export function moved(span: Span, edge: Edge, by: number, low: number, high: number): Span {
  if (edge === "whole") {
    const shift = Math.max(low - span.start, Math.min(high - span.end, by));
    return { start: span.start + shift, end: span.end + shift };
  }
  const at = Math.round((span[edge] + by) / MINUTE) * MINUTE;
  return edge === "start"
    ? { ...span, start: Math.max(low, Math.min(at, span.end - MINUTE)) }
    : { ...span, end: Math.min(high, Math.max(at, span.start + MINUTE)) };
}

export function Ribbon({ data, windows }: { data: RibbonData; windows: Windows }) {
  const [scope, setScope] = useScope();
  const [ref, width] = useWidth<HTMLDivElement>(1280);
  const start = Date.parse(data.start);
  const end = Date.parse(data.end);
  const x = scaleTime([start, end], [LEFT + 14, width - 24]);
  const top = Math.max(...data.values.map((v) => v ?? 0), ...data.high.map((v) => v ?? 0), 1e-6);
  const y = scaleLinear([0, top], [BASE, TOP + 4]);
  const at = (index: number) => x(start + index * data.step_s * 1000);
  const brush = useTimeBrush({
    left: LEFT + 14,
    right: width - 24,
    height: BASE,
    timeAt: (px) => x.invert(px).getTime(),
  });
  const zoom = (factor: number, around: number) => {
    const length = Math.max(10 * MINUTE, Math.min(14 * 24 * 60 * MINUTE, (end - start) * factor));
    const part = (around - start) / (end - start);
    const from = Math.round((around - length * part) / MINUTE) * MINUTE;
    void setScope({ range: { start: from, end: from + Math.round(length / MINUTE) * MINUTE } });
  };
  const set = (name: Name, span: Span) => void setScope({ [name]: span });
  return (
    <div
      ref={ref}
      className="relative border-b border-ink bg-ground"
      onWheel={(event) =>
        event.ctrlKey || zoom(event.deltaY > 0 ? 1.25 : 0.8, x.invert(event.nativeEvent.offsetX).getTime())
      }
    >
      <div className="absolute top-3 left-4 leading-[18px]" style={{ width: LEFT - 12 }}>
        <div className="font-semibold">latency p95</div>
        <div className="truncate text-second">{data.label}</div>
        <div className="text-second">
          {span((end - start) / 1000)} · zone {zone()}
        </div>
      </div>
      <svg
        width={width}
        height={HEIGHT}
        role="group"
        aria-label={`Time ribbon: latency p95 of ${data.label}`}
        className="block"
      >
        <Band x={at} y={y} values={data.values} low={data.low} high={data.high} />
        {brush.layer}
        {data.deviations.map((deviation) => (
          <path
            key={deviation.start}
            d={`M${x(Date.parse(deviation.start))} ${BASE + 4}H${x(Date.parse(deviation.end))}`}
            stroke="var(--rust)"
            strokeWidth="2"
          />
        ))}
        {x.ticks(8).map((tick) => (
          <text key={tick.getTime()} x={x(tick)} y={HEIGHT - 5} textAnchor="middle">
            {clockOrDay(tick.getTime())}
          </text>
        ))}
        <ChangeMarks changes={data.changes} x={x} y={BASE - 10} />
        {(["reference", "focus"] as const).map((name) => (
          <Bracket
            key={name}
            name={name}
            span={windows[name]}
            x={x}
            low={start}
            high={end}
            following={scope.range === null}
            labelEnd={name === "reference" ? x(windows.focus.end) - FOCUS_LABEL : undefined}
            onMove={(span) => set(name, span)}
          />
        ))}
      </svg>
      {brush.menu}
      <table className="sr-only">
        <caption>Latency p95 of {data.label}, every tenth minute</caption>
        <thead>
          <tr>
            <th>time</th>
            <th>p95</th>
            <th>expected from</th>
            <th>expected to</th>
          </tr>
        </thead>
        <tbody>
          {data.values.map((value, index) =>
            index % 10 === 0 ? (
              <tr key={index}>
                <td>{clock(start + index * data.step_s * 1000)}</td>
                <td>{duration(value)}</td>
                <td>{duration(data.low[index])}</td>
                <td>{duration(data.high[index])}</td>
              </tr>
            ) : null,
          )}
        </tbody>
      </table>
    </div>
  );
}

/** Room for the labels of the windows, px: beside a short reference there is not enough for both. */
const FOCUS_LABEL = 126;
const REFERENCE_LABEL = 145;

interface BracketProps {
  name: Name;
  span: Span;
  x: { (at: number): number; invert: (px: number) => Date };
  low: number;
  high: number;
  following: boolean;
  /** Where its label has to end, if it comes that far. */
  labelEnd?: number | undefined;
  onMove: (span: Span) => void;
}

/** One window as two brackets that can be dragged, and moved by arrow keys (with Shift by ten minutes). */
function Bracket({ name, span, x, low, high, following, labelEnd, onMove }: BracketProps) {
  const [held, setHeld] = useState<Span | null>(null);
  const grip = useRef<{ edge: Edge; from: number; span: Span } | null>(null);
  const shown = held ?? span;
  const colour = name === "focus" ? "var(--rust)" : "var(--kelp)";
  const [a, b] = [Math.max(x(shown.start), x(low)), Math.min(x(shown.end), x(high))];
  const isNow = following && name === "focus" && Math.abs(span.end - high) < 90_000;
  const label = `${name} ${clock(shown.start)} – ${isNow && !held ? "now" : clock(shown.end)}`;
  const isCramped = labelEnd !== undefined && a < labelEnd && a + REFERENCE_LABEL > labelEnd;
  const isAtEnd = name === "focus" || isCramped;
  const grab = (edge: Edge) => ({
    onPointerDown: (event: PointerEvent) => {
      (event.target as Element).setPointerCapture(event.pointerId);
      grip.current = { edge, from: event.clientX, span };
      event.preventDefault();
      (event.currentTarget as SVGElement).focus();
    },
    onPointerMove: (event: PointerEvent) => {
      const held = grip.current;
      if (!held) return;
      const by = x.invert(x(low) + event.clientX - held.from).getTime() - low;
      setHeld(moved(held.span, edge, edge === "whole" ? Math.round(by / MINUTE) * MINUTE : by, low, high));
    },
    onPointerUp: () => {
      if (held) onMove(held);
      grip.current = null;
      setHeld(null);
    },
  });
  const onKey = (edge: Edge) => (event: KeyboardEvent) => {
    const way = event.key === "ArrowLeft" ? -1 : event.key === "ArrowRight" ? 1 : 0;
    if (!way) return;
    event.preventDefault();
    onMove(moved(span, edge, way * MINUTE * (event.shiftKey ? 10 : 1), low, high));
  };
  const slider = (edge: Edge, now: number, text: string) => ({
    role: "slider",
    tabIndex: 0,
    "aria-label": edge === "whole" ? `${name} window` : `${name} ${edge}`,
    "aria-valuemin": low,
    "aria-valuemax": high,
    "aria-valuenow": now,
    "aria-valuetext": text,
    onKeyDown: onKey(edge),
    ...grab(edge),
  });
  const bracket = (at: number, way: number) => `M${at + way * 5} ${TOP}H${at}V${BASE}H${at + way * 5}`;
  return (
    <g style={{ touchAction: "none" }} data-window={name}>
      <path d={bracket(a, 1)} stroke={colour} strokeWidth="1.6" fill="none" />
      <path d={bracket(b, -1)} stroke={colour} strokeWidth="1.6" fill="none" />
      <path d={`M${a} ${TOP}H${b}`} stroke={colour} strokeWidth="1" />
      <path d={`M${a} ${TOP + 14}V${BASE - 14}M${b} ${TOP + 14}V${BASE - 14}`} stroke={colour} strokeWidth="4" />
      <rect
        {...slider("whole", shown.start, label)}
        x={a + 4}
        y={TOP - 16}
        width={Math.max(6, b - a - 8)}
        height={18}
        fill="transparent"
        style={{ cursor: "grab" }}
      />
      <text
        x={isCramped ? labelEnd : isAtEnd ? Math.min(b, x(high)) : a + 2}
        y={TOP - 5}
        textAnchor={isAtEnd ? "end" : "start"}
        fontWeight="600"
        pointerEvents="none"
        style={{ fill: colour }}
      >
        {label}
      </text>
      <rect
        {...slider("start", shown.start, clock(shown.start))}
        x={a - 5}
        y={TOP}
        width={10}
        height={BASE - TOP}
        fill="transparent"
        style={{ cursor: "ew-resize" }}
      />
      <rect
        {...slider("end", shown.end, clock(shown.end))}
        x={b - 5}
        y={TOP}
        width={10}
        height={BASE - TOP}
        fill="transparent"
        style={{ cursor: "ew-resize" }}
      />
    </g>
  );
}
