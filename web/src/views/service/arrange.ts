import type { Schemas } from "../../api/client";

type Row = Schemas["ServiceRow"];
export const sorts = ["health", "name", "rate", "errors", "p95"] as const;
export type Sort = (typeof sorts)[number];

/** A row of the table, or the heading of a group with how many rows it has. */
export interface Line {
  row?: Row;
  group?: string;
  count?: number;
}

interface Arrangement {
  filter: string | null;
  sort: Sort;
  down: boolean;
  group: "health" | "sends" | null;
}

/** What needs somebody first; what serves no requests has no health. */
const WORST = ["failing", "slow", "silent", "learning", "steady"];
const UNKNOWN = Number.NEGATIVE_INFINITY;

const measures: Record<Exclude<Sort, "name">, (row: Row) => number> = {
  health: (row) => (row.health ? WORST.length - WORST.indexOf(row.health) : UNKNOWN),
  rate: (row) => row.focus?.rate ?? UNKNOWN,
  errors: (row) => row.focus?.failed_share ?? UNKNOWN,
  p95: (row) => row.focus?.p95 ?? UNKNOWN,
};

const groups: Record<"health" | "sends", (row: Row) => string> = {
  health: (row) => row.health ?? "serve no requests",
  sends: (row) => row.sends.join(", ") || "nothing that is kept",
};

/** Rows whose name contains the words, sorted, with headings where they are grouped. Without a name it sorts by what is worst first. */
export function arranged(rows: readonly Row[], { filter, sort, down, group }: Arrangement): Line[] {
  const wanted = (filter ?? "").toLowerCase();
  const found = wanted ? rows.filter((row) => row.service.toLowerCase().includes(wanted)) : [...rows];
  const way = down ? -1 : 1;
  if (sort === "name") found.sort((a, b) => way * (a.service < b.service ? -1 : 1));
  else {
    const measure = measures[sort];
    // The API gives them by name; the sort keeps that among equals.
    found.sort((a, b) => {
      const [x, y] = [measure(a), measure(b)];
      return x === y ? 0 : way * (x < y ? -1 : 1);
    });
  }
  if (!group) return found.map((row) => ({ row }));
  const by = new Map<string, Row[]>();
  for (const row of found) {
    const name = groups[group](row);
    const members = by.get(name);
    if (members) members.push(row);
    else by.set(name, [row]);
  }
  return [...by].flatMap(([name, members]) => [
    { group: name, count: members.length },
    ...members.map((row) => ({ row })),
  ]);
}
