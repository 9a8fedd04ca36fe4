import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useDeferredValue, useState } from "react";
import { client, take } from "../api/client";
import { Refused } from "../shared/Refused";
import { told } from "../shared/Toasts";
import { useScope } from "./scope";
import { type NamedScope, type Patterns, patternsOf, textOf } from "./scopes";

type Field = "services" | "not_services" | "hosts" | "not_hosts";
const FIELDS: [Field, string][] = [
  ["services", "Services"],
  ["not_services", "but not"],
  ["hosts", "that run on hosts"],
  ["not_hosts", "but not on"],
];

interface Props {
  /** Null: a new one. */
  scope: NamedScope | null;
  close: () => void;
  choose: (name: string) => void;
}

/** Makes, changes and deletes a named scope, and shows what its patterns mean while they are typed. */
export function ScopeEditor({ scope, close, choose }: Props) {
  const queries = useQueryClient();
  const [name, setName] = useState(scope?.name ?? "");
  const [texts, setTexts] = useState<Record<Field, string>>({
    services: textOf(scope?.services ?? []),
    not_services: textOf(scope?.not_services ?? []),
    hosts: textOf(scope?.hosts ?? []),
    not_hosts: textOf(scope?.not_hosts ?? []),
  });
  const patterns = Object.fromEntries(FIELDS.map(([field]) => [field, patternsOf(texts[field])])) as Record<
    Field,
    string[]
  >;
  const refresh = () => queries.invalidateQueries();
  const keep = useMutation({
    mutationFn: () => {
      const body = { name, ...patterns };
      return take(
        scope
          ? client.PUT("/api/scopes/{scope}", { params: { path: { scope: scope.id } }, body })
          : client.POST("/api/scopes", { body }),
      );
    },
    onSuccess: (kept) => {
      void refresh();
      choose(kept.name);
      close();
    },
  });
  const remove = useMutation({
    mutationFn: (gone: NamedScope) =>
      take(client.DELETE("/api/scopes/{scope}", { params: { path: { scope: gone.id } } })),
    onSuccess: (_, gone) => {
      choose("");
      void refresh();
      close();
      told(`Scope ${gone.name} was deleted.`, () => {
        const { name, services, not_services, hosts, not_hosts } = gone;
        void take(client.POST("/api/scopes", { body: { name, services, not_services, hosts, not_hosts } })).then(
          refresh,
        );
      });
    },
  });
  const error = keep.error ?? remove.error;
  return (
    <Dialog.Root open onOpenChange={(open) => open || close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/20" />
        <Dialog.Content className="fixed top-[12%] left-1/2 z-50 max-h-[80vh] w-[620px] -translate-x-1/2 overflow-auto border border-ink bg-sheet p-4">
          <Dialog.Title className="mb-1 text-[15px] font-bold">
            {scope ? `Change scope ${scope.name}` : "Make a scope"}
          </Dialog.Title>
          <Dialog.Description className="mb-3 text-second">
            One name a line. * stands for any text, ? for one character. A service is meant if it runs on one of the
            hosts.
          </Dialog.Description>
          <form
            onSubmit={(event) => {
              event.preventDefault();
              keep.mutate();
            }}
          >
            <label className="mb-3 flex items-center gap-2">
              Name
              <input
                className="field flex-1"
                required
                maxLength={80}
                value={name}
                onChange={(event) => setName(event.target.value)}
              />
            </label>
            <div className="mb-3 grid grid-cols-4 gap-3">
              {FIELDS.map(([field, label]) => (
                <label key={field}>
                  {label}
                  <textarea
                    className="field block w-full font-mono text-[12px]"
                    rows={5}
                    value={texts[field]}
                    onChange={(event) => setTexts({ ...texts, [field]: event.target.value })}
                  />
                </label>
              ))}
            </div>
            <WhatIsMeant patterns={patterns} />
            <Refused error={error} />
            <div className="mt-3 flex justify-end gap-3">
              {scope && (
                <button
                  type="button"
                  className="mr-auto underline"
                  disabled={remove.isPending}
                  onClick={() => remove.mutate(scope)}
                >
                  Delete
                </button>
              )}
              <Dialog.Close className="action">Cancel</Dialog.Close>
              <button type="submit" className="action action-main" disabled={keep.isPending}>
                Keep and use
              </button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function WhatIsMeant({ patterns }: { patterns: Patterns }) {
  const [{ environment }] = useScope();
  const asked = useDeferredValue(JSON.stringify(patterns));
  const meant = useQuery({
    queryKey: ["scope-meant", environment, asked],
    queryFn: ({ signal }) =>
      take(client.POST("/api/scopes/meant", { signal, params: { query: { environment } }, body: JSON.parse(asked) })),
    placeholderData: keepPreviousData,
  });
  if (meant.error) return <Refused error={meant.error} />;
  const { found, of, services } = meant.data ?? { found: 0, of: 0, services: [] };
  return (
    <div role="status" className="min-h-16">
      Means <b>{found}</b> of {of} services{found > 0 && ": "}
      <span className="text-second">
        {services.join(", ")}
        {found > services.length && ` and ${found - services.length} more`}
      </span>
    </div>
  );
}
