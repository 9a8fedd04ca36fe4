const places: Record<string, { y: number; colour: string }> = {
  slow: { y: 3, colour: "var(--rust)" },
  failing: { y: 3, colour: "var(--rust)" },
  silent: { y: 17, colour: "var(--plum)" },
  steady: { y: 10, colour: "var(--ink)" },
  learning: { y: 10, colour: "var(--second)" },
};

/** Health as a mark on a short scale: above, at or below what is expected; always with its word beside it. */
export function Gauge({ health }: { health: string }) {
  const place = places[health] ?? { y: 10, colour: "var(--ink)" };
  return (
    <svg width="14" height="20" aria-hidden="true" className="inline-block align-middle">
      <path d="M5 1V19M3 6H7M3 14H7" stroke="var(--slate)" fill="none" />
      <path
        d={`M1 ${place.y}H13`}
        stroke={place.colour}
        strokeWidth="3"
        strokeDasharray={health === "learning" ? "3 2" : undefined}
      />
    </svg>
  );
}

export function healthColour(health: string): string {
  if (health === "slow" || health === "failing") return "text-rust font-semibold";
  if (health === "silent") return "text-plum font-semibold";
  return "text-second";
}
