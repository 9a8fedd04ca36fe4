import type { ReactNode } from "react";
import { useMatch } from "react-router";
import { useScope } from "./scope";
import { named, useScopes } from "./scopes";

/** What the named scope does to the view beneath: said on every view while one is in force. */
export function ScopeNote({ service }: { service: string | null }) {
  const [scope, setScope] = useScope();
  return scope.scope === null ? null : (
    <p role="status" className="mb-2 border-l-[3px] border-slate pl-2">
      <Effect name={scope.scope} service={service} />{" "}
      <button type="button" className="underline" onClick={() => void setScope({ scope: null })}>
        Show all services
      </button>
    </p>
  );
}

function Effect({ name, service }: { name: string; service: string | null }): ReactNode {
  const { data, isPending } = useScopes(service, true);
  const isTrace = useMatch("/traces/:trace") !== null;
  const isInquiry = useMatch("/inquiries/:id") !== null;
  const isSetUp = [useMatch("/intake"), useMatch("/demo")].some((match) => match !== null);
  const found = named(data, name);
  if (isPending) return `Scope ${name}.`;
  if (!found) return `There is no scope ${name}: it was renamed or deleted.`;
  if (isSetUp) return `Scope ${found.name} does not apply here: everything is shown.`;
  if (isTrace) return `A trace is shown whole, also what is not of scope ${found.name}.`;
  if (isInquiry) return `Causes are looked for everywhere, not only in scope ${found.name}.`;
  if (service && !found.means) return `${service} is not of scope ${found.name}.`;
  return `Only scope ${found.name}: ${found.found} of ${found.of} services.`;
}
