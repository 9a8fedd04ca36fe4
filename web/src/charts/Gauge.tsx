const places: Record<string, { y: number; colour: string }> = {
  slow: { y: 3, colour: "var(--rust)" },
  failing: { y: 3, colour: "var(--rust)" },
  silent: { y: 17, colour: "var(--plum)" },
  steady: { y: 10, colour: "var(--ink)" },
  learning: { y: 10, colour: "var(--second)" },
};

/** Standing as a mark on a short scale: above, at or below what is expected; always with its word beside it. */
export function Gauge({ standing }: { standing: string }) {
  const place = places[standing] ?? { y: 10, colour: "var(--ink)" };
  return (
    <svg width="14" height="20" aria-hidden="true" className="inline-block align-middle">
      <path d="M5 1V19M3 6H7M3 14H7" stroke="var(--slate)" fill="none" />
      <path
        d={`M1 ${place.y}H13`}
        stroke={place.colour}
        strokeWidth="3"
        strokeDasharray={standing === "learning" ? "3 2" : undefined}
      />
    </svg>
  );
}

export function standingColour(standing: string): string {
  if (standing === "slow" || standing === "failing") return "text-rust font-semibold";
  if (standing === "silent") return "text-plum font-semibold";
  return "text-second";
}
