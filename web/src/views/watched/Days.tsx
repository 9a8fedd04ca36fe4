import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { client, type Schemas, take } from "../../api/client";
import { FormPopover } from "../../shared/FormPopover";
import { Refused } from "../../shared/Refused";
import { Suggested } from "../../shared/Suggested";
import { told } from "../../shared/Toasts";

type Calendar = Schemas["WatchedCalendar"];

const ZONES = Intl.supportedValuesOf("timeZone");
const COUNTRIES = new Intl.DisplayNames("en", { type: "region", fallback: "code" });

/** Whose days and weeks are learned: an administrator says so. */
export function Days({ mayChange }: { mayChange: boolean }) {
  const { data } = useQuery({
    queryKey: ["watched", "calendar"],
    queryFn: ({ signal }) => take(client.GET("/api/watched/calendar", { signal })),
  });
  if (!data) return null;
  return (
    <p className="mb-3 text-second">
      {sentence(data)}{" "}
      {mayChange && (
        <FormPopover trigger="Change whose days they are" label="Whose days and weeks">
          {(done) => <Form now={data} done={done} />}
        </FormPopover>
      )}
    </p>
  );
}

function sentence({ zone, holidays }: Calendar): string {
  const days = `Days and weeks are those of ${zone}`;
  return holidays
    ? `${days}; public holidays of ${named(holidays)} are days off.`
    : `${days}; no public holidays are known.`;
}

/** ISO 3166: a country, or a part of it. */
function named(code: string): string {
  const [country, part] = code.split("-");
  const name = (country && COUNTRIES.of(country)) ?? code;
  return part ? `${name} (${part})` : name;
}

function Form({ now, done }: { now: Calendar; done: () => void }) {
  const queries = useQueryClient();
  const [given, set] = useState(now);
  const change = useMutation({
    mutationFn: () => take(client.PUT("/api/watched/calendar", { body: given })),
    onSuccess: (made) => {
      void queries.invalidateQueries({ queryKey: ["watched", "calendar"] });
      told(`${sentence(made)} All series learn anew within an hour.`);
      done();
    },
  });
  return (
    <form
      className="flex flex-col gap-2 text-ink"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <Suggested
        label="Time zone"
        width="w-24"
        options={ZONES}
        value={given.zone}
        set={(zone) => set({ ...given, zone })}
      />
      <label className="flex items-baseline gap-2">
        <span className="w-24">Holidays of</span>
        <input
          className="field flex-1"
          placeholder="a country or a part of it: DE, DE-BY"
          value={given.holidays}
          onChange={(event) => set({ ...given, holidays: event.target.value })}
        />
      </label>
      <Refused error={change.error} />
      <div className="flex justify-end">
        <button type="submit" className="action action-main" disabled={change.isPending}>
          Learn by these days
        </button>
      </div>
    </form>
  );
}
