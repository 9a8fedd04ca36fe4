import type { QueryClient } from "@tanstack/react-query";
import { createLoader } from "nuqs";
import { matchPath } from "react-router";
import { meQuery } from "./frame/Frame";
import { NOTHING_OWN, ribbonQuery, scopeAt, windowsInForce } from "./frame/scope";
import { overviewQuery } from "./views/overview/Overview";
import { serviceState } from "./views/places";
import { serviceQuery } from "./views/service/Service";

const rowsAt = createLoader({ rows: serviceState.rows });
const WITH_WINDOWS_OF_THEIR_OWN = ["/inquiries/:id", "/disturbances/:id"];

/**
 * Asks for what the page at an address is going to show, before any of it is drawn: a question whose answer the next one
 * needs then waits for no drawing. What is asked here the views find as if they had asked.
 */
export async function askAhead(queries: QueryClient, { pathname, search }: Location): Promise<void> {
  await queries.prefetchQuery(meQuery);
  if (!queries.getQueryData(meQuery.queryKey) || WITH_WINDOWS_OF_THEIR_OWN.some((path) => matchPath(path, pathname))) {
    return;
  }
  const { beside, ...scope } = scopeAt(search);
  const service = matchPath("/services/:name", pathname)?.params.name ?? null;
  const own = { ...NOTHING_OWN, service };
  const ribbon = ribbonQuery(own, scope, beside);
  const asked = queries.prefetchQuery(ribbon);
  if (!windowsInForce(own, scope, undefined, false)) await asked;
  const windows = windowsInForce(own, scope, queries.getQueryData(ribbon.queryKey), false);
  if (windows && service)
    void queries.prefetchQuery(serviceQuery(service, scope, windows, rowsAt(search).rows, beside));
  if (windows && pathname === "/") void queries.prefetchQuery(overviewQuery(scope, windows));
}
