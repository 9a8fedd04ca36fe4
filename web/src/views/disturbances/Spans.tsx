import { scaleLog } from "d3-scale";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { ChangeMarks } from "../../charts/ChangeMarks";
import { useJump } from "../../frame/jump";
import type { Span } from "../../frame/scope";
import { clockOrDay } from "../../shared/format";
import { useWidth } from "../../shared/useWidth";
import { timeScale } from "../../shared/zone";
import { toDisturbance } from "../places";

type Row = Schemas["DisturbanceRow"];
type Deviation = Schemas["DeviationOut"];

const NAMES = 150; // px, of whom they are
const LINE = 17;
const RIGHT = 20; // px, for half of the last label
const MARKS = 18;
const MOST_LINES = 24;
const THICK = { least: 3, most: 11, bits: [10, 500] }; // px; between so many bits, by their logarithm

const thickness = scaleLog(THICK.bits, [THICK.least, THICK.most]).clamp(true);
const whose = (one: Deviation) => one.service ?? one.entity.name;

/** Deviations as bars over time, a line for each service or host: the more surprising, the thicker. */
export function Spans({ rows, range, now }: { rows: Row[]; range: Span; now: number }) {
  const [ref, width] = useWidth<HTMLDivElement>(900);
  const jump = useJump();
  const names = [...new Set(rows.flatMap((row) => row.deviations.map(whose)))];
  const lines = names.slice(0, MOST_LINES);
  const x = timeScale([range.start, range.end], [NAMES, width - RIGHT]);
  const height = MARKS + lines.length * LINE + 20;
  const changes = [
    ...new Map(rows.flatMap((row) => row.changes.map((change) => [change.id, change] as const))).values(),
  ];
  const at = (time: string | null) => x(Math.min(Math.max(time ? Date.parse(time) : now, range.start), range.end));
  return (
    <div ref={ref} className="mb-3">
      <svg
        width={width}
        height={height}
        className="block"
        // The table beneath tells the same, with links.
        aria-hidden="true"
        data-spans
      >
        {lines.map((name, line) => (
          <g key={name} transform={`translate(0 ${MARKS + line * LINE})`}>
            <path d={`M${NAMES} ${LINE / 2}H${width - RIGHT}`} stroke="var(--line)" />
            <text x={NAMES - 8} y={LINE / 2 + 4} textAnchor="end" style={{ fill: "var(--ink)" }}>
              {name.length > 22 ? `${name.slice(0, 21)}…` : name}
            </text>
            {rows
              .filter((row) => row.deviations.some((one) => whose(one) === name))
              .map((row) => (
                <Link key={row.id} to={jump(toDisturbance(row.id))} tabIndex={-1} aria-label={row.sentence}>
                  {row.deviations
                    .filter((one) => whose(one) === name)
                    .map((one) => (
                      <Deviating key={one.id} one={one} from={at(one.onset)} to={at(one.ended ?? row.no_data_since)} />
                    ))}
                </Link>
              ))}
          </g>
        ))}
        {x.ticks(8).map((tick) => (
          <text key={tick.getTime()} x={x(tick)} y={height - 4} textAnchor="middle">
            {clockOrDay(tick.getTime())}
          </text>
        ))}
        <ChangeMarks changes={changes} x={x} y={2} />
      </svg>
      {names.length > lines.length && (
        <p className="text-second">{names.length - lines.length} more services and hosts are in the table only.</p>
      )}
    </div>
  );
}

function Deviating({ one, from, to }: { one: Deviation; from: number; to: number }) {
  const thick = thickness(one.surprise_bits);
  const colour = one.direction === "high" ? "var(--rust)" : "var(--plum)";
  return (
    <g>
      <title>{`${whose(one)}: ${one.measure} ${one.deviates}`}</title>
      <rect
        x={from}
        y={(LINE - thick) / 2}
        width={Math.max(2, to - from)}
        height={thick}
        fill={one.ended === null ? colour : "none"}
        stroke={colour}
        strokeWidth="1.2"
      />
    </g>
  );
}
