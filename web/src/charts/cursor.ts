import { useSyncExternalStore } from "react";

let time: number | null = null;
const listeners = new Set<() => void>();

function set(next: number | null) {
  time = next;
  for (const listener of listeners) listener();
}

/** The time under the pointer, shared by all charts on the page. */
export function useCursor(): [number | null, (next: number | null) => void] {
  const value = useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => time,
  );
  return [value, set];
}
