import type { ScaleTime } from "d3-scale";
import { type ReactNode, useContext } from "react";
import type { Schemas } from "../api/client";
import type { Span, Windows } from "../frame/scope";
import { clockOrDay, moment } from "../shared/format";
import { useWidth } from "../shared/useWidth";
import { timeScale } from "../shared/zone";
import { AsTable, type Column } from "./AsTable";
import { ChangeMarks } from "./ChangeMarks";
import { useCursor } from "./cursor";
import { ChosenMoment } from "./moment";
import { useTimeBrush } from "./TimeBrush";

export interface Drawing {
  x: ScaleTime<number, number>;
  /** Position of the n-th minute. */
  at: (index: number) => number;
  top: number;
  bottom: number;
  left: number;
  right: number;
}

interface TimeChartProps {
  title: ReactNode;
  /** What the legend says about the point under the cursor, or the last one of the focus. */
  legend: (index: number, time: number) => ReactNode;
  start: string;
  step_s: number;
  count: number;
  height: number;
  windows: Windows;
  changes: Schemas["ChangeOut"][];
  draw: (drawing: Drawing) => ReactNode;
  onCause?: ((span: Span) => void) | undefined;
  /** Whether anything is known of a point: the legend tells the last such of the focus. */
  known?: (index: number) => boolean;
  /** Nothing is known of this time: there is no axis either. */
  isEmpty?: boolean;
  label: string;
  /** The same as a table, for who does not see the drawing. */
  columns: Column[];
}

const LEFT = 46;
const MARKS = 18;

/** A chart over time with the two windows, change marks, a shared cursor and a brush. */
export function TimeChart(props: TimeChartProps) {
  const [ref, width] = useWidth<HTMLDivElement>(680);
  const [cursor, setCursor] = useCursor();
  const chosen = useContext(ChosenMoment);
  const start = Date.parse(props.start);
  const end = start + props.count * props.step_s * 1000;
  const right = width - 34;
  const x = timeScale([start, end], [LEFT, right]);
  const bottom = props.height - 18;
  const step = props.step_s * 1000;
  const inside = cursor !== null && cursor >= start && cursor < end;
  const last = Math.min(props.count - 1, Math.floor((Math.min(props.windows.focus.end, end) - 1 - start) / step));
  const known = props.known ? Array.from({ length: last + 1 }, (_, n) => n).findLast(props.known) : last;
  const shown = Math.max(0, inside ? Math.floor((cursor - start) / step) : (known ?? last));
  const brush = useTimeBrush({
    left: LEFT,
    right,
    height: bottom,
    timeAt: (px) => x.invert(px).getTime(),
    onCause: props.onCause,
    onMoment: chosen?.choose,
  });
  return (
    <section ref={ref} className="relative mb-2" aria-label={props.label}>
      <div className="flex items-baseline justify-between gap-3">
        <div className="font-bold">{props.title}</div>
        <div className="text-second">
          {props.isEmpty ? (
            ""
          ) : (
            <>
              <AsTable {...props} />
              {moment(start + shown * step)} {props.legend(shown, start + shown * step)}
            </>
          )}
        </div>
      </div>
      <svg
        width={width}
        height={props.height}
        className="block"
        role="img"
        aria-label={props.label}
        onPointerMove={(event) => setCursor(x.invert(event.nativeEvent.offsetX).getTime())}
        onPointerLeave={() => setCursor(null)}
      >
        {props.isEmpty && (
          <text x={(LEFT + right) / 2} y={(MARKS + bottom) / 2 + 4} textAnchor="middle">
            nothing was sent in this time
          </text>
        )}
        {!props.isEmpty &&
          props.draw({
            x,
            at: (i) => x(start + (i + 0.5) * props.step_s * 1000),
            top: MARKS,
            bottom,
            left: LEFT,
            right,
          })}
        {(["reference", "focus"] as const).map((name) => (
          <g key={name} stroke={name === "focus" ? "var(--rust)" : "var(--kelp)"} strokeWidth="1.4">
            {[props.windows[name].start, props.windows[name].end].map((time) =>
              time >= start && time <= end ? <path key={time} d={`M${x(time)} ${MARKS}V${bottom}`} /> : null,
            )}
          </g>
        ))}
        {x.ticks(6).map((tick) => (
          <text key={tick.getTime()} x={x(tick)} y={props.height - 4} textAnchor="middle">
            {clockOrDay(tick.getTime())}
          </text>
        ))}
        {chosen?.at != null && chosen.at >= start && chosen.at < end && (
          <path d={`M${x(chosen.at)} ${MARKS}V${bottom}`} stroke="var(--ink)" strokeDasharray="2 2" />
        )}
        {brush.layer}
        <ChangeMarks changes={props.changes} x={x} y={3} />
        {inside && cursor !== null && (
          <path d={`M${x(cursor)} 0V${bottom}`} stroke="var(--second)" pointerEvents="none" />
        )}
      </svg>
      {brush.menu}
    </section>
  );
}
