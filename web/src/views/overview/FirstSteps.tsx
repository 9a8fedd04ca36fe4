import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { client, type Schemas, take } from "../../api/client";
import { useScope } from "../../frame/scope";
import { CopyButton } from "../../shared/CopyButton";
import { moment } from "../../shared/format";
import { Paste } from "../../shared/Paste";
import { STEPS } from "../../shared/recipes";

const KEPT = "wirbel.first-steps";

/** What has arrived, what is missing, what each would add, and what to paste; until everything is there, or it is closed. */
export function FirstSteps() {
  const [{ environment }] = useScope();
  const [closed, setClosed] = useState(() => localStorage.getItem(KEPT) === "closed");
  const query = useQuery({
    queryKey: ["arrived", environment],
    queryFn: () => take(client.GET("/api/arrived", { params: { query: { environment } } })),
    refetchInterval: 10_000,
    enabled: !closed,
  });
  const missing = query.data?.filter((one) => one.newest === null);
  if (closed || !query.data || !missing?.length) return null;
  const close = () => {
    localStorage.setItem(KEPT, "closed");
    setClosed(true);
  };
  return (
    <section aria-label="First steps" className="mt-6">
      <h2 className="flex justify-between">
        <span className="font-bold! text-ink!">
          First steps{" "}
          <span className="font-normal text-second">
            {query.data.length - missing.length} of {query.data.length} arrive
          </span>
        </span>
        <button type="button" className="font-normal text-second underline" onClick={close}>
          close
        </button>
      </h2>
      <table className="sheet-table">
        <tbody>
          {query.data.map((one) => (
            <Step key={one.what} one={one} />
          ))}
        </tbody>
      </table>
      <p className="mt-1 text-second">
        Make a token with ./wirbel token NAME, or in Intake, and put it in the place of TOKEN.
      </p>
    </section>
  );
}

function Step({ one }: { one: Schemas["Arrived"] }) {
  const [open, setOpen] = useState(false);
  const step = STEPS[one.what];
  if (!step) return null;
  return (
    <tr data-step={one.what}>
      <td className="w-[90px] align-top font-semibold">{one.what}</td>
      <td className="w-[190px] align-top whitespace-nowrap">
        {one.newest ? `arrive, the newest of ${moment(one.newest)}` : <span className="text-plum">none yet</span>}
      </td>
      <td className="align-top">
        {one.newest ? <span className="text-second">{step.adds}</span> : `would add ${step.adds}`}
        {open && <Paste what={`What to paste for ${one.what}`} text={step.paste} />}
      </td>
      <td className="num align-top">
        {!one.newest && (
          <span className="inline-flex gap-3">
            <button type="button" className="underline" aria-expanded={open} onClick={() => setOpen(!open)}>
              {open ? "close" : "how to send"}
            </button>
            <CopyButton text={step.paste} />
          </span>
        )}
      </td>
    </tr>
  );
}
