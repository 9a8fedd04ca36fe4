import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, type Schemas, take } from "../../api/client";
import { Confirm } from "../../shared/Confirm";
import { age } from "../../shared/format";
import { Paste } from "../../shared/Paste";
import { Refused } from "../../shared/Refused";
import { Tip } from "../../shared/Tip";
import { told } from "../../shared/Toasts";

const SIGNALS = ["traces", "metrics", "logs"] as const;

/** What is not stored: by an attribute's value. Each rule shows how much it left out, and the last such record. */
export function Rules({ rules, administrator }: { rules: Schemas["RuleRow"][]; administrator: boolean }) {
  const queries = useQueryClient();
  const refresh = () => queries.invalidateQueries({ queryKey: ["intake"] });
  const change = useMutation({
    mutationFn: ({ rule, enabled }: { rule: number; enabled: boolean }) =>
      take(client.PATCH("/api/drop-rules/{rule}", { params: { path: { rule } }, body: { enabled } })),
    onSuccess: refresh,
  });
  const again = useMutation({
    mutationFn: ({ signal, attribute, value }: Schemas["RuleRow"]) =>
      take(client.POST("/api/drop-rules", { body: { signal, attribute, value } as Schemas["NewRule"] })),
    onSuccess: refresh,
  });
  const remove = useMutation({
    mutationFn: (rule: Schemas["RuleRow"]) =>
      take(client.DELETE("/api/drop-rules/{rule}", { params: { path: { rule: rule.id } } })),
    onSuccess: (_, rule) => {
      told(`The rule on ${rule.attribute} was deleted.`, () => again.mutate(rule));
      return refresh();
    },
  });
  const now = Date.now();
  const error = change.error ?? remove.error ?? again.error;
  return (
    <section aria-label="Left out">
      <h2>
        Left out <span>records that are not stored</span>
      </h2>
      {rules.length === 0 && <p className="text-second">Everything that is sent is stored.</p>}
      {rules.map((rule) => (
        <div key={rule.id} className="border-b border-line py-1" data-rule={rule.id}>
          <div className="flex gap-3">
            <span className={`flex-1 ${rule.enabled ? "" : "text-second line-through"}`}>
              {rule.signal} with <b>{rule.attribute}</b> = <code className="font-mono">{rule.value}</code>
            </span>
            <Tip text={rule.last_dropped ?? undefined} quiet>
              <span>
                {rule.dropped} dropped{rule.last_dropped ? `, last ${age(rule.last_dropped, now)} ago` : ""}
              </span>
            </Tip>
            {administrator && (
              <>
                <button
                  type="button"
                  className="underline"
                  onClick={() => change.mutate({ rule: rule.id, enabled: !rule.enabled })}
                >
                  {rule.enabled ? "pause" : "resume"}
                </button>
                <button
                  type="button"
                  className="underline"
                  aria-label={`delete the rule on ${rule.attribute}`}
                  onClick={() => remove.mutate(rule)}
                >
                  delete
                </button>
              </>
            )}
          </div>
          {rule.example && (
            <details className="text-second">
              <summary>the last one dropped</summary>
              <Paste what="An example of what is left out" text={JSON.stringify(rule.example, null, 1)} />
            </details>
          )}
        </div>
      ))}
      {administrator && <NewRule onMade={refresh} />}
      <Refused error={error} />
    </section>
  );
}

function NewRule({ onMade }: { onMade: () => Promise<void> }) {
  const [signal, setSignal] = useState<(typeof SIGNALS)[number]>("logs");
  const [attribute, setAttribute] = useState("");
  const [value, setValue] = useState("");
  const make = useMutation({
    mutationFn: () => take(client.POST("/api/drop-rules", { body: { signal, attribute, value } })),
    onSuccess: () => {
      setAttribute("");
      setValue("");
      return onMade();
    },
  });
  const filled = attribute.trim() !== "" && value.trim() !== "";
  return (
    <form className="mt-2 flex flex-wrap items-center gap-3" onSubmit={(event) => event.preventDefault()}>
      <select
        aria-label="Signal"
        className="field"
        value={signal}
        onChange={(event) => setSignal(event.target.value as (typeof SIGNALS)[number])}
      >
        {SIGNALS.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
      <input
        aria-label="Attribute"
        className="field w-36"
        placeholder="attribute"
        required
        maxLength={200}
        value={attribute}
        onChange={(event) => setAttribute(event.target.value)}
      />
      <input
        aria-label="Value"
        className="field w-36"
        placeholder="value, * for any part"
        required
        maxLength={500}
        value={value}
        onChange={(event) => setValue(event.target.value)}
      />
      <Confirm
        title={`Leave out ${signal} with ${attribute} = ${value}?`}
        consequence="They are not stored from now on, and what was left out cannot be brought back. The rule can be paused or deleted at any time."
        action="Leave them out"
        onConfirm={() => make.mutate()}
      >
        <button type="submit" className="action" disabled={make.isPending || !filled}>
          Leave out
        </button>
      </Confirm>
      <div className="w-full">
        <Refused error={make.error} />
      </div>
    </form>
  );
}
