import { type ReactNode, useState } from "react";

/** The first rows of a list, and what says how many there are and offers the rest; nothing where all are shown. */
export function useFirst<T>(all: readonly T[], most: number, what: string): [readonly T[], ReactNode] {
  const [open, setOpen] = useState(false);
  if (all.length <= most) return [all, null];
  const offer = (
    <button type="button" className="mt-1 text-second underline" aria-expanded={open} onClick={() => setOpen(!open)}>
      {open ? `only the first ${most} ${what}` : `${most} of ${all.length} ${what} shown; show all`}
    </button>
  );
  return [open ? all : all.slice(0, most), offer];
}
