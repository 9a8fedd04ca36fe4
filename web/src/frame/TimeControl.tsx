import { Popover, RadioGroup } from "radix-ui";
import { type FormEvent, useId, useState } from "react";
import { BesideChoice } from "../shared/BesideChoice";
import { span } from "../shared/format";
import { readTime } from "../shared/timeEntry";
import { offset, setZone, useZone, type Zone } from "../shared/zone";
import { type Span, useScope } from "./scope";
import { centred, stepped } from "./travel";

const HOUR = 3600;
const DAY = 24 * HOUR;
const PRESETS: [string, number][] = [
  ["10 min", 600],
  ["30 min", 1800],
  ["1 h", HOUR],
  ["3 h", 3 * HOUR],
  ["6 h", 6 * HOUR],
  ["12 h", 12 * HOUR],
  ["1 day", DAY],
  ["2 days", 2 * DAY],
  ["1 week", 7 * DAY],
  ["30 days", 30 * DAY],
  ["90 days", 90 * DAY],
  ["1 year", 365 * DAY],
];

/** Which time is shown: how much of it, from when, and in which zone its times are told. */
export function TimeControl({ shown, following }: { shown: Span; following: boolean }) {
  const [scope, setScope] = useScope();
  const [open, setOpen] = useState(false);
  const go = (range: Span | null) => void setScope({ range });
  const close = (act: () => void) => {
    act();
    setOpen(false);
  };
  const length = span((shown.end - shown.start) / 1000);
  return (
    <div className="relative z-10 flex h-6 items-center">
      <Step label="Back by the length of the range" sign="‹" onClick={() => go(stepped(shown, -1, Date.now()))} />
      <Popover.Root open={open} onOpenChange={setOpen}>
        <Popover.Trigger
          className="h-6 min-w-6 whitespace-nowrap px-1 underline decoration-line underline-offset-2"
          data-time-control
        >
          {following ? `last ${length}` : length}
        </Popover.Trigger>
        <Popover.Portal>
          <Popover.Content align="start" className="z-40 w-[332px] border border-ink bg-sheet p-3" aria-label="Time">
            <Entry
              go={(entered) =>
                close(() => go("at" in entered ? centred(entered.at, shown.end - shown.start, Date.now()) : entered))
              }
            />
            <fieldset className="mb-3 grid grid-cols-4 gap-1">
              <legend className="mb-1 text-second">The last</legend>
              {PRESETS.map(([name, last]) => (
                <button
                  key={name}
                  type="button"
                  className="border border-line px-1 hover:border-ink"
                  aria-pressed={scope.range === null && scope.last === last}
                  onClick={() => close(() => void setScope({ range: null, last }))}
                >
                  {name}
                </button>
              ))}
            </fieldset>
            <BesideChoice />
            <ZoneSwitch at={shown.end} />
            <button
              type="button"
              className="mt-3 underline"
              disabled={scope.range === null && scope.last === null}
              onClick={() => close(() => void setScope({ range: null, last: null }))}
            >
              Back to live
            </button>
          </Popover.Content>
        </Popover.Portal>
      </Popover.Root>
      <Step
        label="Forth by the length of the range"
        sign="›"
        disabled={following}
        onClick={() => go(stepped(shown, 1, Date.now()))}
      />
    </div>
  );
}

function Step({ label, sign, ...rest }: { label: string; sign: string; disabled?: boolean; onClick: () => void }) {
  return (
    <button type="button" className="size-6 font-bold disabled:opacity-40" aria-label={label} {...rest}>
      {sign}
    </button>
  );
}

function Entry({ go }: { go: (entered: { at: number } | Span) => void }) {
  const [text, setText] = useState("");
  const [wrong, setWrong] = useState(false);
  const hint = useId();
  const submit = (event: FormEvent) => {
    event.preventDefault();
    const entered = readTime(text, Date.now());
    setWrong(entered === null);
    if (entered) go(entered);
  };
  return (
    <form onSubmit={submit} className="mb-3">
      <label className="flex items-center gap-2">
        Go to
        <input
          className="field flex-1"
          value={text}
          onChange={(event) => setText(event.target.value)}
          aria-describedby={hint}
          aria-invalid={wrong}
          // biome-ignore lint/a11y/noAutofocus: it was opened to type a time
          autoFocus
        />
      </label>
      <p id={hint} role={wrong ? "alert" : undefined} className={wrong ? "text-rust" : "text-second"}>
        {wrong ? "This is no time. Write " : ""}14:05, yesterday 14:05, 2026-11-24 03:10, -2h or 14:05 – 15:00
      </p>
    </form>
  );
}

function ZoneSwitch({ at }: { at: number }) {
  const zone = useZone();
  const local = Intl.DateTimeFormat().resolvedOptions().timeZone;
  return (
    <RadioGroup.Root
      className="flex gap-4"
      aria-label="Zone of all times"
      value={zone}
      onValueChange={(chosen) => setZone(chosen as Zone)}
    >
      <span className="text-second">Times in</span>
      {(["local", "utc"] as const).map((name) => (
        <label key={name} htmlFor={`zone-${name}`} className="relative z-10 flex h-6 items-center">
          <RadioGroup.Item
            id={`zone-${name}`}
            value={name}
            className="size-3 border border-ink data-[state=checked]:bg-ink"
          />
          {name === "utc" ? "UTC" : `${local}${zone === "local" ? ` ${offset(at)}` : ""}`}
        </label>
      ))}
    </RadioGroup.Root>
  );
}
