import { useQueryStates } from "nuqs";
import { befores, besideState } from "../frame/scope";

/** Whether charts show beside now what was a day or a week before. */
export function BesideChoice() {
  const [{ beside }, set] = useQueryStates(besideState);
  return (
    <fieldset className="mb-1 flex gap-4">
      <legend className="float-left mr-4 text-second">beside now</legend>
      {befores.map((before) => (
        <label key={before} className="flex min-h-6 items-center gap-2">
          <input
            type="checkbox"
            className="accent-ink"
            checked={beside.includes(before)}
            onChange={(event) =>
              void set({
                beside: befores.filter((one) => (one === before ? event.target.checked : beside.includes(one))),
              })
            }
          />
          a {before} before
        </label>
      ))}
    </fieldset>
  );
}
