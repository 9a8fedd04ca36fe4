import { type QueryKey, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

/** A question that can be stopped, which stops the server's work too, and asked again: whether it is stopped, and what turns that. */
export function useStop(queryKey: QueryKey): [boolean, () => void] {
  const queries = useQueryClient();
  const [stopped, setStopped] = useState(false);
  const turn = () => {
    if (stopped) void queries.refetchQueries({ queryKey });
    else void queries.cancelQueries({ queryKey });
    setStopped(!stopped);
  };
  return [stopped, turn];
}
