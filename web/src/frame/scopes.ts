import { useQuery } from "@tanstack/react-query";
import { client, type Schemas, take } from "../api/client";
import { useScope } from "./scope";

export type NamedScope = Schemas["ScopeRow"];
export type Patterns = Schemas["ScopePatterns"];

/** All named scopes, and whether each means `service`. */
export function useScopes(service: string | null, enabled: boolean) {
  const [{ environment }] = useScope();
  return useQuery({
    queryKey: ["scopes", environment, service],
    enabled,
    queryFn: () => take(client.GET("/api/scopes", { params: { query: { environment, service } } })),
  });
}

/** One pattern a line, or several with commas. */
export const patternsOf = (text: string) =>
  text
    .split(/[\n,]/)
    .map((pattern) => pattern.trim())
    .filter(Boolean);

export const textOf = (patterns: string[]) => patterns.join("\n");

/** Names differ by more than upper and lower case. */
export const named = (scopes: NamedScope[] | undefined, name: string | null) =>
  scopes?.find((one) => one.name.toLowerCase() === name?.toLowerCase());
