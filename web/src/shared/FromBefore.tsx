import type { QueryKey } from "@tanstack/react-query";
import { type ReactNode, useRef } from "react";
import { useStop } from "./useStop";

/**
 * Whether an answer is to another question than the one asked now: what a person chose, the address, tells questions apart.
 * While live, time goes on within one question.
 */
export function useStale(query: { isPlaceholderData: boolean; data: unknown }, asked: unknown[]): boolean {
  const now = JSON.stringify(asked);
  const answered = useRef<string | null>(null);
  if (query.data !== undefined && !query.isPlaceholderData) answered.current = now;
  return query.isPlaceholderData && answered.current !== now;
}

interface Props {
  stale: boolean;
  queryKey: QueryKey;
  what: string;
  children: ReactNode;
}

/** Figures of the question before this one, while the new ones are read: dimmed and told, never silently. */
export function FromBefore({ stale, queryKey, what, children }: Props) {
  return (
    <div aria-busy={stale} className={stale ? "from-before" : undefined}>
      {stale && <Note key={JSON.stringify(queryKey)} what={what} queryKey={queryKey} />}
      {children}
    </div>
  );
}

function Note({ what, queryKey }: { what: string; queryKey: QueryKey }) {
  const [stopped, turn] = useStop(queryKey);
  return (
    <p role="status" className="from-before-note">
      {stopped ? "Stopped: these figures are of the question before." : `From before; reading ${what}…`}{" "}
      <button type="button" className="underline" onClick={turn}>
        {stopped ? "Ask again" : "Stop"}
      </button>
    </p>
  );
}

/** For `placeholderData`: what is shown until the answer is there, if it is of the same subject (the key's second part). */
export function keptOf(subject: unknown) {
  return <T,>(data: T | undefined, query: { queryKey: QueryKey } | undefined): T | undefined =>
    query?.queryKey[1] === subject ? data : undefined;
}
