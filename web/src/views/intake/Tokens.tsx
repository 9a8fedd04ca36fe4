import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, type Schemas, take } from "../../api/client";
import { Confirm } from "../../shared/Confirm";
import { CopyButton } from "../../shared/CopyButton";
import { age, significant } from "../../shared/format";
import { Refused } from "../../shared/Refused";

/** Who may send. A new token's secret is shown once, here. */
export function Tokens({ tokens, administrator }: { tokens: Schemas["TokenRow"][]; administrator: boolean }) {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [quota, setQuota] = useState("");
  const refresh = () => queries.invalidateQueries({ queryKey: ["intake"] });
  const make = useMutation({
    mutationFn: () => take(client.POST("/api/tokens", { body: { name, quota: quota ? Number(quota) : null } })),
    onSuccess: () => {
      setName("");
      setQuota("");
      return refresh();
    },
  });
  const revoke = useMutation({
    mutationFn: (token: number) => take(client.DELETE("/api/tokens/{token}", { params: { path: { token } } })),
    onSuccess: refresh,
  });
  const now = Date.now();
  const error = make.error ?? revoke.error;
  return (
    <section aria-label="Tokens">
      <h2>
        Who may send <span>one token for each sender</span>
      </h2>
      <table className="sheet-table">
        <tbody>
          {tokens.map((one) => (
            <tr key={one.id} className={one.revoked ? "text-second line-through" : ""}>
              <td className="min-w-[10ch] font-semibold [overflow-wrap:anywhere]">{one.name}</td>
              <td className="num">{significant(one.rows)} records in 10 min</td>
              <td className="num">{one.quota == null ? "no quota" : `at most ${significant(one.quota)} a minute`}</td>
              <td className="num">
                {one.last_used
                  ? `used ${age(one.last_used, now)} ago`
                  : `made ${age(one.created, now)} ago, never used`}
              </td>
              <td className="num">
                {administrator && !one.revoked && (
                  <Confirm
                    title={`Revoke ${one.name}?`}
                    consequence="What is sent with it is refused within seconds. A revoked token cannot be brought back; what it sent stays."
                    action="Revoke"
                    onConfirm={() => revoke.mutate(one.id)}
                  >
                    <button type="button" className="underline" aria-label={`revoke ${one.name}`}>
                      revoke
                    </button>
                  </Confirm>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {make.data && (
        <p role="status" className="my-2 border border-ink bg-sheet px-3 py-2">
          Copy it now, it is not shown again: <code className="font-mono select-all">{make.data.secret}</code>{" "}
          <CopyButton text={make.data.secret} />
        </p>
      )}
      {administrator && (
        <form
          className="mt-2 flex items-center gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            make.mutate();
          }}
        >
          <input
            aria-label="Name of a new token"
            className="field w-44"
            placeholder="who will send"
            required
            maxLength={200}
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
          <input
            aria-label="Records a minute"
            className="field w-40"
            placeholder="records a minute"
            type="number"
            min={1}
            value={quota}
            onChange={(event) => setQuota(event.target.value)}
          />
          <button type="submit" className="action" disabled={make.isPending}>
            Make a token
          </button>
        </form>
      )}
      <Refused error={error} />
    </section>
  );
}
