import { scaleLog, scaleSqrt } from "d3-scale";
import { type PointerEvent, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { logTicks } from "../../charts/axis";
import { duration, percent } from "../../shared/format";
import { ReadAloud } from "../../shared/ReadAloud";
import { useWidth } from "../../shared/useWidth";

interface Props {
  data: Schemas["Distribution"];
  /** Bounds that hold now, s. */
  slower: number | null;
  faster: number | null;
  choose: (bounds: { slower: number | null; faster: number | null }) => void;
}

const HEIGHT = 92;
const TOP = 6;
const BASE = 72;
const LEFT = 40;
const LEAST_PIXELS = 5;

/** How long requests take, focus beside reference; a stretch of it can be dragged over to see only those. */
export function Distribution({ data, slower, faster, choose }: Props) {
  const [ref, width] = useWidth<HTMLDivElement>(1000);
  const [drag, setDrag] = useState<[number, number] | null>(null);
  const surface = useRef<SVGSVGElement>(null);
  const { edges, focus, reference } = data;
  const [first, last] = [edges[0], edges.at(-1)];
  if (first === undefined || last === undefined)
    return <p className="text-second">No request in either window meets the conditions.</p>;
  const x = scaleLog([first, last], [LEFT, width - 12]).clamp(true);
  const top = Math.max(...focus.map((share) => share ?? 0), ...reference.map((share) => share ?? 0));
  const y = scaleSqrt([0, top], [BASE, TOP]);
  const steps = (shares: (number | null)[]) =>
    shares
      .map((share, n) => `${n ? "L" : "M"}${x(edges[n] ?? first)} ${y(share ?? 0)}H${x(edges[n + 1] ?? last)}`)
      .join("");
  const at = (event: PointerEvent) => event.clientX - (surface.current?.getBoundingClientRect().left ?? 0);
  const [low, high] = drag ? [Math.min(...drag), Math.max(...drag)] : [0, 0];
  const finish = () => {
    setDrag(null);
    if (high - low >= LEAST_PIXELS) choose({ slower: x.invert(low), faster: x.invert(high) });
  };
  const bounded = slower !== null || faster !== null;
  const [from, to] = [x(slower ?? first), x(faster ?? last)];
  return (
    <section ref={ref} aria-label="Latency distribution" className="mb-3">
      <h2 className="flex justify-between">
        <span className="font-bold! text-ink!">
          Latency distribution{" "}
          <span className="font-normal text-second">share of requests, square-root axis; drag to choose a stretch</span>
        </span>
        <span>
          <b className="text-kelp">reference</b> dashed, <b className="text-rust">focus</b>{" "}
          {bounded && (
            <button type="button" className="ml-3 underline" onClick={() => choose({ slower: null, faster: null })}>
              any duration
            </button>
          )}
        </span>
      </h2>
      <svg
        ref={surface}
        width={width}
        height={HEIGHT}
        role="img"
        aria-label="Shares of requests by duration"
        className="select-none"
        style={{ cursor: "crosshair", touchAction: "none" }}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          setDrag([at(event), at(event)]);
        }}
        onPointerMove={(event) => drag && setDrag([drag[0], at(event)])}
        onPointerUp={finish}
      >
        {bounded && (
          <rect
            x={from}
            y={TOP}
            width={Math.max(1, to - from)}
            height={BASE - TOP}
            fill="var(--sheet)"
            stroke="var(--line)"
          />
        )}
        <path d={`M${LEFT} ${BASE}H${width - 12}`} stroke="var(--slate)" />
        <text x={LEFT - 5} y={TOP + 8} textAnchor="end">
          {percent(top)}
        </text>
        {logTicks(x.domain(), x.ticks(5)).map((tick) => (
          <text key={tick} x={x(tick)} y={HEIGHT - 5} textAnchor={x(tick) > width - 40 ? "end" : "middle"}>
            {duration(tick)}
          </text>
        ))}
        <path d={steps(reference)} fill="none" stroke="var(--kelp)" strokeWidth="1.3" strokeDasharray="4 2" />
        <path d={steps(focus)} fill="none" stroke="var(--rust)" strokeWidth="1.3" />
        {drag && <rect x={low} y={TOP} width={high - low} height={BASE - TOP} fill="var(--slate)" opacity="0.2" />}
      </svg>
      <ReadAloud caption="Shares of requests by duration">
        <thead>
          <tr>
            <th>from</th>
            <th>to</th>
            <th>reference</th>
            <th>focus</th>
          </tr>
        </thead>
        <tbody>
          {focus.map((share, n) => (
            <tr key={edges[n]}>
              <td>{duration(edges[n])}</td>
              <td>{duration(edges[n + 1])}</td>
              <td>{percent(reference[n] ?? 0)}</td>
              <td>{percent(share ?? 0)}</td>
            </tr>
          ))}
        </tbody>
      </ReadAloud>
    </section>
  );
}
