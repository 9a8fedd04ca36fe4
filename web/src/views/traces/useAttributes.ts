import { useQuery } from "@tanstack/react-query";
import { client, take } from "../../api/client";
import { useScope } from "../../frame/scope";

/** Names of the attributes that requests carry, the commonest first. */
export function useAttributes(): string[] {
  const [{ environment }] = useScope();
  const query = useQuery({
    queryKey: ["attributes", environment],
    queryFn: () => take(client.GET("/api/known/attributes", { params: { query: { environment } } })),
    staleTime: 60_000,
  });
  return [...new Set(query.data?.map((one) => one.name))];
}
