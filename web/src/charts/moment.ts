import { createContext } from "react";

/** The minute that a page shows everything of, ms since 1970, and what chooses it by a click in a chart. */
export const ChosenMoment = createContext<{ at: number | null; choose: (at: number | null) => void } | null>(null);
