import { useQuery } from "@tanstack/react-query";
import { Link, useLocation } from "react-router";
import { client, take } from "../../api/client";
import { useScope } from "../../frame/scope";
import { Waiting } from "../../shared/Waiting";

/** All services ever seen, by name; the Overview has them by health. */
export function Services() {
  const [scope] = useScope();
  const { search } = useLocation();
  const query = useQuery({
    queryKey: ["services", scope.environment],
    queryFn: () => take(client.GET("/api/services", { params: { query: { environment: scope.environment } } })),
  });
  if (!query.data) return <Waiting error={query.error} what="the services" />;
  return (
    <>
      <h1 className="mb-3">Services</h1>
      <ul className="columns-3">
        {query.data.map((name) => (
          <li key={name} className="border-b border-line py-1">
            <Link to={{ pathname: `/services/${encodeURIComponent(name)}`, search }}>{name}</Link>
          </li>
        ))}
      </ul>
    </>
  );
}
