import type { Values } from "./Line";

/** The top of an axis from zero; one where nothing is more than zero. */
export const largest = (...lists: Values[]): number => Math.max(...lists.flat().map((value) => value ?? 0)) || 1;

const MOST_OF_BAND = 1.6; // times the largest value

/** The same of values with a band: one that is wide for want of requests must not flatten the line. */
export function topOf(values: Values, high: Values): number {
  return nothing(values) ? largest(high) : Math.min(largest(values, high), MOST_OF_BAND * largest(values));
}

export const nothing = (...lists: Values[]): boolean => lists.every((values) => values.every((value) => value == null));

const MANTISSAS = [1, 2, 5];

/** Ticks of a logarithmic axis: 1, 2 and 5 of each power of ten; of a range too narrow for two of them, `linear` ones. */
export function logTicks([low = 1, high = 1]: number[], linear: number[]): number[] {
  const powers = Array.from(
    { length: Math.ceil(Math.log10(high)) - Math.floor(Math.log10(low)) + 1 },
    (_, n) => n + Math.floor(Math.log10(low)),
  );
  const ticks = powers
    .flatMap((power) => MANTISSAS.map((mantissa) => Number(`${mantissa}e${power}`)))
    .filter((tick) => tick >= low && tick <= high);
  return ticks.length > 1 ? ticks : linear;
}

/** Those ticks of an axis that leave so many pixels between each other. */
export function ticksOf(ticks: number[], y: (value: number) => number, room: number): number[] {
  const kept: number[] = [];
  for (const tick of ticks) {
    const before = kept.at(-1);
    if (before === undefined || Math.abs(y(before) - y(tick)) >= room) kept.push(tick);
  }
  return kept;
}

export function GridLine({ y, left, right, text }: { y: number; left: number; right: number; text: string }) {
  return (
    <g>
      <path d={`M${left} ${y}H${right}`} stroke="var(--line)" strokeWidth="0.8" />
      <text x={left - 5} y={y + 4} textAnchor="end">
        {text}
      </text>
    </g>
  );
}
