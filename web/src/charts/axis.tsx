import type { Values } from "./Band";

export const largest = (...lists: Values[]) => Math.max(...lists.flat().map((value) => value ?? 0), 1e-9);

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
