import { scaleLinear } from "d3-scale";
import { useMemo } from "react";
import type { Schemas } from "../../api/client";
import { duration } from "../../shared/format";
import { useWidth } from "../../shared/useWidth";
import { boxesOf, pathOf, placedLabels, type SpanRow } from "./spans";

const LEFT = 150;
const RUN_ROOM = 26;
const LONGEST = 44; // characters of what a run did

interface ChannelsProps {
  view: Schemas["TraceView"];
  spans: SpanRow[];
  scale: number; // ms drawn across
  colour: string;
  small?: boolean;
  chosen?: number;
  onChoose?: (index: number) => void;
}

function said(run: Schemas["TraceView"]["runs"][number]): string {
  const label = run.label.length > LONGEST ? `${run.label.slice(0, LONGEST - 1)}…` : run.label;
  return `${run.count} × ${label} · ${run.sequential ? "one after another" : "side by side"} · ${duration(run.total_ms / 1000)}`;
}

/** A channel a service; spans as thin boxes; the critical path as one line that steps between channels. */
export function Channels({ view, spans, scale, colour, small = false, chosen, onChoose }: ChannelsProps) {
  const [ref, width] = useWidth<HTMLDivElement>(820);
  const x = scaleLinear([0, scale], [LEFT, width - 20]);
  const row = small ? 17 : 25;
  const box = small ? 8 : 12;
  // A channel with a bracketed run below it gets room for the bracket.
  const runs = small ? [] : view.runs;
  const withRun = new Set(runs.map((run) => run.channel));
  const tops = view.channels.map(
    (_, channel) => 6 + channel * row + [...withRun].filter((other) => other < channel).length * RUN_ROOM,
  );
  const y = (channel: number) => tops[channel] ?? 0;
  const height =
    y(view.channels.length - 1) + row + (withRun.has(view.channels.length - 1) ? RUN_ROOM : 0) + (small ? 0 : 20);
  const boxes = useMemo(() => boxesOf(spans, scaleLinear([0, scale], [LEFT, width - 20])), [spans, scale, width]);
  const labels = placedLabels(
    runs.map((run) => ({
      channel: run.channel,
      text: said(run),
      middle: (x(run.from_ms) + x(run.to_ms)) / 2,
      weight: run.total_ms,
    })),
    0, // beneath a channel nothing stands at the left
    width,
  );
  const path = pathOf(view, x, (channel) => y(channel) + box / 2);
  const here = chosen === undefined ? undefined : spans[chosen];
  return (
    <div ref={ref}>
      <svg
        width={width}
        height={height}
        role="img"
        aria-label={`${view.operation}, ${duration(view.seconds)}, ${view.channels.length} channels`}
      >
        {view.channels.map((name, channel) => (
          <g key={name}>
            <text x="0" y={y(channel) + box - 1} style={{ fill: small ? "var(--second)" : "var(--ink)" }}>
              {name.length > 23 ? `${name.slice(0, 22)}…` : name}
            </text>
            <path d={`M${LEFT} ${y(channel) + box / 2}H${width - 20}`} stroke="var(--line)" />
          </g>
        ))}
        {boxes.map((one) => (
          // biome-ignore lint/a11y/noStaticElementInteractions: by keyboard the outline beneath chooses
          <rect
            key={one.first.index}
            data-count={one.count}
            x={one.from}
            y={y(one.channel)}
            width={one.to - one.from}
            height={box}
            fill="var(--sheet)"
            fillOpacity="0.75"
            stroke={one.failed ? "var(--rust)" : "var(--slate)"}
            strokeWidth="0.8"
            onClick={() => onChoose?.(one.first.index)}
            style={{ cursor: onChoose ? "pointer" : undefined }}
          >
            <title>
              {one.count > 1 ? `${one.count} spans, the first: ` : ""}
              {one.first.service} {one.first.operation}, {duration(one.first.duration / 1000)}
            </title>
          </rect>
        ))}
        {here && (
          <rect
            x={x(here.start)}
            y={y(here.channel)}
            width={Math.max(1.5, x(here.start + here.duration) - x(here.start))}
            height={box}
            fill="none"
            stroke="var(--ink)"
            strokeWidth="2"
            pointerEvents="none"
          />
        )}
        {path && (
          <path
            d={path}
            fill="none"
            stroke={colour}
            strokeWidth={small ? 2 : 3}
            strokeLinejoin="round"
            pointerEvents="none"
          />
        )}
        {runs.map((run, index) => {
          const at = y(run.channel) + box + 3;
          const middle = labels[index];
          return (
            <g key={index}>
              <path d={`M${x(run.from_ms)} ${at}V${at + 5}H${x(run.to_ms)}V${at}`} fill="none" stroke="var(--ink)" />
              {middle == null ? (
                <title>{said(run)}</title>
              ) : (
                <text
                  x={middle}
                  y={at + 18}
                  textAnchor="middle"
                  fontWeight="600"
                  stroke="var(--ground)"
                  strokeWidth="4"
                  paintOrder="stroke"
                  style={{ fill: "var(--ink)" }}
                >
                  {said(run)}
                </text>
              )}
            </g>
          );
        })}
        {!small &&
          x.ticks(5).map((tick) => (
            <text key={tick} x={x(tick)} y={height - 4} textAnchor="middle">
              {duration(tick / 1000)}
            </text>
          ))}
      </svg>
    </div>
  );
}
