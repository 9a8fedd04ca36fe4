import { scaleLinear } from "d3-scale";
import type { WheelEvent } from "react";
import { topOf } from "../charts/axis";
import { Band } from "../charts/Band";
import { ChangeMarks } from "../charts/ChangeMarks";
import { Earlier, reachOf } from "../charts/Earlier";
import { useTimeBrush } from "../charts/TimeBrush";
import { clockOrDay, day, dayAndClock, duration, shortDay } from "../shared/format";
import { ReadAloud } from "../shared/ReadAloud";
import { Tip } from "../shared/Tip";
import { useWidth } from "../shared/useWidth";
import { offset, timeScale } from "../shared/zone";
import { BASE, Bracket, labelOf, type Name, placed, TOP } from "./Bracket";
import { type Ribbon as RibbonData, type Span, useScope, type Windows } from "./scope";
import { TimeControl } from "./TimeControl";
import { zoomed } from "./travel";

const HEIGHT = 84;
const LEFT = 146;
const EDGE = 24; // px left free at the right
const NAMES: Name[] = ["reference", "focus"];

interface Props {
  data: RibbonData;
  windows: Windows;
  /** The range that was asked for; what is drawn may begin a little earlier, with a whole step. */
  shown: Span;
  following: boolean;
}

export function Ribbon({ data, windows, shown, following }: Props) {
  const [, setScope] = useScope();
  const [ref, width] = useWidth<HTMLDivElement>(1280);
  const start = Date.parse(data.start);
  const end = Date.parse(data.end);
  const right = width - EDGE;
  const x = timeScale([start, end], [LEFT, right]);
  const top = Math.max(topOf(data.values, data.high), ...reachOf(data.earlier));
  const y = scaleLinear([0, top], [BASE, TOP + 4]).clamp(true);
  const at = (index: number) => x(start + index * data.step_s * 1000);
  const brush = useTimeBrush({
    left: LEFT,
    right,
    height: BASE,
    timeAt: (px) => x.invert(px).getTime(),
  });
  // Only with a modifier key: without one the page is scrolled.
  const onWheel = (event: WheelEvent) => {
    if (!event.altKey && !event.shiftKey) return;
    const factor = event.deltaY + event.deltaX > 0 ? 1.25 : 0.8;
    const around = x.invert(event.nativeEvent.offsetX).getTime();
    void setScope({ range: zoomed({ start, end }, factor, around, Date.now()) });
  };
  const set = (name: Name, span: Span) => void setScope({ [name]: span });
  const reach = ({ start: from, end: to }: Span) =>
    void setScope({ range: { start: Math.min(start, from), end: Math.max(end, to) } });
  const now = Date.now();
  const isPast = !following && day(end) !== day(now);
  const whenAndWhere = isPast ? `${shortDay(start)} · ${offset(end)}` : `zone ${offset(end)}`;
  const labels = placed(
    { focus: x(windows.focus.start), reference: x(windows.reference.start) },
    {
      focus: labelOf("focus", windows.focus, following, now),
      reference: labelOf("reference", windows.reference, following, now),
    },
    LEFT,
    right,
  );
  return (
    <div ref={ref} className="relative border-b border-ink bg-ground" onWheel={onWheel}>
      <div className="absolute top-2 left-4 leading-[18px]" style={{ width: LEFT - 22 }}>
        <Tip text={data.label} quiet>
          <div className="truncate">
            <b>p95</b> <span className="text-second">{data.label}</span>
          </div>
        </Tip>
        <TimeControl shown={shown} following={following} />
        <div className="truncate text-second">{data.is_all && data.oldest ? "all there is" : whenAndWhere}</div>
      </div>
      {/* biome-ignore lint/a11y/useSemanticElements: an SVG has no fieldset */}
      <svg
        width={width}
        height={HEIGHT}
        role="group"
        aria-label={`Time ribbon: latency p95 of ${data.label}`}
        className="block"
      >
        <Band x={at} y={y} values={data.values} low={data.low} high={data.high} />
        <Earlier lines={data.earlier} x={x} y={y} top={TOP + 4} />
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
        {NAMES.map((name) => (
          <Bracket
            key={name}
            name={name}
            span={windows[name]}
            x={x}
            low={start}
            high={end}
            label={labels[name]}
            onMove={(span) => set(name, span)}
            onReach={() => reach(windows[name])}
          />
        ))}
      </svg>
      {brush.menu}
      <ReadAloud caption={`Latency p95 of ${data.label}, every tenth minute`}>
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
                <td>{dayAndClock(start + index * data.step_s * 1000)}</td>
                <td>{duration(value)}</td>
                <td>{duration(data.low[index])}</td>
                <td>{duration(data.high[index])}</td>
              </tr>
            ) : null,
          )}
        </tbody>
      </ReadAloud>
    </div>
  );
}
