import { Popover, RadioGroup } from "radix-ui";
import { useState } from "react";
import { Refused } from "../shared/Refused";
import { ScopeEditor } from "./ScopeEditor";
import { useScope } from "./scope";
import { type NamedScope, named, useScopes } from "./scopes";

const ALL = "";

/** Which named selection of services and hosts everything obeys. */
export function ScopeMenu({ may }: { may: boolean }) {
  const [scope, setScope] = useScope();
  const [open, setOpen] = useState(false);
  const [edited, setEdited] = useState<NamedScope | "new" | null>(null);
  const scopes = useScopes(null, open || scope.scope !== null);
  const chosen = named(scopes.data, scope.scope);
  const choose = (name: string) => {
    void setScope({ scope: name || null });
    setOpen(false);
  };
  const edit = (one: NamedScope | "new") => {
    setOpen(false);
    setEdited(one);
  };
  return (
    <>
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Trigger
          className="max-w-56 truncate border-b border-line text-second"
          aria-label={`Scope: ${scope.scope ?? "all services"}`}
        >
          scope <b className="font-semibold text-ink">{chosen?.name ?? scope.scope ?? "all services"}</b>
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content align="start" className="z-40 w-[360px] border border-ink bg-sheet p-3" aria-label="Scope">
            <RadioGroup.Root
              aria-label="Scope"
              className="flex max-h-80 flex-col overflow-auto"
              value={chosen?.name ?? ALL}
            >
              <Option name={ALL} label="all services" choose={choose} />
              {scopes.data?.map((one) => (
                <div key={one.id} className="flex items-center gap-2">
                  <Option name={one.name} label={one.name} choose={choose} />
                  <span className="text-second">
                    {one.found} of {one.of}
                  </span>
                  {may && (
                    <button
                      type="button"
                      className="underline"
                      aria-label={`change ${one.name}`}
                      onClick={() => edit(one)}
                    >
                      change
                    </button>
                  )}
                </div>
              ))}
            </RadioGroup.Root>
            <Refused error={scopes.error} />
            <p className="mt-2 border-t border-line pt-2 text-second">
              {may ? (
                <button type="button" className="text-ink underline" onClick={() => edit("new")}>
                  Make a scope
                </button>
              ) : (
                "Your role may use scopes, but not make them."
              )}{" "}
              Scopes are shared by all who sign in.
            </p>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      {edited && <ScopeEditor scope={edited === "new" ? null : edited} close={() => setEdited(null)} choose={choose} />}
    </>
  );
}

function Option({ name, label, choose }: { name: string; label: string; choose: (name: string) => void }) {
  const id = `scope-${name}`;
  return (
    <label htmlFor={id} className="flex min-h-6 min-w-0 flex-1 items-center gap-2">
      <RadioGroup.Item
        id={id}
        value={name}
        onClick={() => choose(name)}
        className="size-3 shrink-0 border border-ink data-[state=checked]:bg-ink"
      />
      <span className="truncate">{label}</span>
    </label>
  );
}
