import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useQueryStates } from "nuqs";
import { client, type Schemas, take } from "../../api/client";
import { StackedRates } from "../../charts/StackedRates";
import { rangeQuery, useScope } from "../../frame/scope";
import { Waiting } from "../../shared/Waiting";
import { serviceState } from "../places";
import type { OfService } from "./Metrics";

const colours: Record<Schemas["LogLevelSeries"]["name"], string> = {
  error: "var(--rust)",
  warning: "var(--ochre)",
  lower: "color-mix(in srgb, var(--slate) 22%, transparent)",
};

/** How many log records a service writes, by how serious they are. */
export function LogRates({ service, windows, changes }: OfService) {
  const [scope] = useScope();
  const [{ beside }] = useQueryStates({ beside: serviceState.beside });
  const query = useQuery({
    queryKey: ["log-rates", service, scope.range, scope.last, scope.environment, beside],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/services/{name}/log-rates", {
          signal,
          params: {
            path: { name: service },
            query: { ...rangeQuery(scope), environment: scope.environment, beside },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const view = query.data;
  if (!view) return <Waiting error={query.error} what="its log records" />;
  if (!view.levels.some((level) => level.values.some((value) => value != null)))
    return <p className="mb-3 text-second">No log records of it in this time.</p>;
  return (
    <StackedRates
      start={view.start}
      step_s={view.step_s}
      count={view.levels[0]?.values.length ?? 0}
      windows={windows}
      changes={changes}
      label="Log records/s by severity"
      title={
        <>
          Log records by severity <span className="font-normal text-second">per second, square-root axis</span>
        </>
      }
      lines={view.levels}
      colours={colours}
      earlier={view.earlier}
    />
  );
}
