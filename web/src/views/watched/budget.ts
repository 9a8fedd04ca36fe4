import type { Schemas } from "../../api/client";
import { significant } from "../../shared/format";

/** False deviations a week, from rare to often. */
export const BUDGETS = [0.25, 1, 3, 7];

/** A budget in words. */
export function every(budget: number): string {
  return budget >= 1 ? `${significant(budget, 2)} a week` : `one in ${significant(1 / budget, 2)} weeks`;
}

export const often = (row: Schemas["WatchedRow"]): string =>
  row.has_own_budget ? every(row.budget) : "its part of what all share";
