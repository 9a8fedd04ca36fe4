import { useQuery } from "@tanstack/react-query";
import { type ComponentProps, type FormEvent, type ReactNode, useId, useState } from "react";
import { client, take } from "../../api/client";
import { type Span, timesOf, useScope, within } from "../../frame/scope";
import { outcomes, type TracesChange, type TracesState } from "../places";
import { useAttributes } from "./useAttributes";

interface Props {
  state: TracesState;
  window: Span;
  setState: (change: TracesChange) => void;
}

/** Which requests: a field for each condition, with completion from what was sent. */
export function Conditions({ state, window, setState }: Props) {
  const values = (attribute: string) => ({ attribute, window, service: state.service });
  return (
    <section aria-label="Conditions" className="mb-3 flex flex-wrap items-end gap-x-4 gap-y-2">
      <Named label="service" value={state.service} known={values("service")} set={(service) => setState({ service })} />
      <Named
        label="operation"
        value={state.operation}
        known={values("operation")}
        set={(operation) => setState({ operation })}
        wide
      />
      <Duration label="slower than, ms" seconds={state.slower} set={(slower) => setState({ slower })} />
      <Duration label="faster than, ms" seconds={state.faster} set={(faster) => setState({ faster })} />
      <Field label="outcome">
        {(id) => (
          <select
            id={id}
            className="field"
            value={state.outcome ?? ""}
            onChange={(event) => setState({ outcome: outcomes.find((name) => name === event.target.value) ?? null })}
          >
            <option value="">any</option>
            {outcomes.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        )}
      </Field>
      <Status status={state.status} set={(status) => setState({ status })} />
      <Attribute
        window={window}
        service={state.service}
        add={(pair) => setState({ carrying: [...state.carrying.filter((other) => other !== pair), pair] })}
      />
    </section>
  );
}

function Field({ label, children }: { label: string; children: (id: string) => ReactNode }) {
  const id = useId();
  return (
    <div>
      <label htmlFor={id} className="block text-[12px] text-second">
        {label}
      </label>
      {children(id)}
    </div>
  );
}

interface Known {
  attribute: string;
  window: Span;
  service: string | null;
}

/** Values to choose from, read when the field is first entered. */
function useKnown({ attribute, window, service }: Known, enabled: boolean): string[] {
  const [scope] = useScope();
  const query = useQuery({
    queryKey: ["known-values", attribute, service, window, within(scope)],
    queryFn: ({ signal }) =>
      take(
        client.GET("/api/known/values", {
          signal,
          params: { query: { attribute, ...timesOf(window), service, ...within(scope) } },
        }),
      ),
    enabled: enabled && attribute !== "",
    staleTime: 60_000,
  });
  return query.data ?? [];
}

interface TypedProps extends Omit<ComponentProps<"input">, "onBlur" | "onKeyDown" | "defaultValue"> {
  label: string;
  /** What holds now, as it is shown. */
  held: string;
  /** Takes what was typed, or says why not. */
  give: (text: string) => string | undefined;
}

/** What is typed counts when the field is left, or at Enter; what cannot be taken stays, with why. */
function Typed({ label, held, give, className, ...rest }: TypedProps) {
  const [wrong, setWrong] = useState<string>();
  const why = useId();
  const leave = (text: string) => setWrong(text.trim() === held ? undefined : give(text.trim()));
  return (
    <Field label={label}>
      {(id) => (
        <>
          <input
            {...rest}
            id={id}
            key={held}
            className={`field ${className}`}
            defaultValue={held}
            aria-invalid={wrong !== undefined}
            aria-describedby={wrong && why}
            onBlur={(event) => leave(event.target.value)}
            onKeyDown={(event) => event.key === "Enter" && leave(event.currentTarget.value)}
          />
          {wrong && (
            <p id={why} role="alert" className="max-w-36 text-[12px] text-rust">
              {wrong}
            </p>
          )}
        </>
      )}
    </Field>
  );
}

const Options = ({ id, names }: { id: string; names: Iterable<string> }) => (
  <datalist id={id}>
    {[...names].map((name) => (
      <option key={name} value={name} />
    ))}
  </datalist>
);

interface NamedProps {
  label: string;
  value: string | null;
  known: Known;
  set: (value: string | null) => void;
  wide?: boolean;
}

/** A value that is typed, or chosen of those that were sent. */
function Named({ label, value, known, set, wide = false }: NamedProps) {
  const list = useId();
  const [entered, setEntered] = useState(false);
  return (
    <>
      <Typed
        label={label}
        held={value ?? ""}
        give={(text) => void set(text || null)}
        className={wide ? "w-52" : "w-36"}
        list={list}
        onFocus={() => setEntered(true)}
      />
      <Options id={list} names={useKnown(known, entered)} />
    </>
  );
}

interface DurationProps {
  label: string;
  seconds: number | null;
  set: (seconds: number | null) => void;
}

/** Milliseconds on the screen, seconds in the address. */
function Duration({ label, seconds, set }: DurationProps) {
  const give = (text: string) => {
    const value = text === "" ? null : Number(text) / 1000;
    if (value !== null && !(Number.isFinite(value) && value >= 0)) return "Write milliseconds, as 250.";
    set(value);
  };
  const held = seconds === null ? "" : String(Number((seconds * 1000).toPrecision(6)));
  return <Typed label={label} held={held} give={give} className="w-24" inputMode="decimal" />;
}

function Status({ status, set }: { status: number | null; set: (status: number | null) => void }) {
  const give = (text: string) => {
    if (!/^\d{0,3}$/.test(text)) return "Write a status, as 503.";
    set(text ? Number(text) : null);
  };
  return <Typed label="status" held={String(status ?? "")} give={give} className="w-16" inputMode="numeric" />;
}

function Attribute({ window, service, add }: { window: Span; service: string | null; add: (pair: string) => void }) {
  const [name, setName] = useState("");
  const [value, setValue] = useState("");
  const lists = { names: useId(), values: useId() };
  const names = useAttributes();
  const values = useKnown({ attribute: name, window, service }, names.includes(name));
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (!name.trim() || !value.trim()) return;
    add(`${name.trim()}=${value.trim()}`);
    setValue("");
  };
  return (
    <form onSubmit={submit} className="flex items-end gap-1">
      <Field label="attribute">
        {(id) => (
          <input
            id={id}
            className="field w-44"
            list={lists.names}
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
        )}
      </Field>
      <Field label="value">
        {(id) => (
          <input
            id={id}
            className="field w-32"
            list={lists.values}
            value={value}
            onChange={(event) => setValue(event.target.value)}
          />
        )}
      </Field>
      <button type="submit" className="action" disabled={!name.trim() || !value.trim()}>
        Add
      </button>
      <Options id={lists.names} names={names} />
      <Options id={lists.values} names={values} />
    </form>
  );
}
