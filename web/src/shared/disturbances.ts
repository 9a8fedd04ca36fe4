import { useQuery } from "@tanstack/react-query";
import { client, type Schemas, take } from "../api/client";
import { spanOf, type Windows } from "../frame/scope";

const REFRESHED_MS = 10_000;

/** One disturbance; it is read again while it goes on. */
export function useDisturbance(id: string | undefined) {
  return useQuery({
    queryKey: ["disturbance", id],
    queryFn: () => take(client.GET("/api/disturbances/{identity}", { params: { path: { identity: id ?? "" } } })),
    enabled: id !== undefined,
    refetchInterval: (query) => (query.state.data?.end === null ? REFRESHED_MS : false),
  });
}

/** The windows that show it. */
export const windowsOfDisturbance = (row: Schemas["DisturbanceRow"]): Windows => ({
  focus: spanOf(row.focus),
  reference: spanOf(row.reference),
  chosen: true,
});
