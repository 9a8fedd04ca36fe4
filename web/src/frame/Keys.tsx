import { Popover, Switch } from "radix-ui";
import { useEffect, useState } from "react";
import { type Span, useScope } from "./scope";
import { stepped, zoomed } from "./travel";

const KEPT = "wirbel.keys";
const ZOOM = 2;

interface Key {
  key: string;
  what: string;
  act: () => void;
}

const focusOn = (selector: string) => document.querySelector<HTMLElement | SVGElement>(selector)?.focus();
const press = (selector: string) => document.querySelector<HTMLElement>(selector)?.click();

/** Keys that work everywhere; what they do is written here once. */
function useKeys(shown: Span | null, toggle: () => void): Key[] {
  const [, setScope] = useScope();
  const go = (range: Span | null) => void setScope({ range });
  const zoom = (factor: number) => shown && go(zoomed(shown, factor, (shown.start + shown.end) / 2, Date.now()));
  return [
    { key: "/", what: "go to a service, view or trace", act: () => focusOn("[data-command-field]") },
    { key: "t", what: "go to a time", act: () => press("[data-time-control]") },
    { key: ",", what: "back by the length of the range", act: () => shown && go(stepped(shown, -1, Date.now())) },
    { key: ".", what: "forth by the length of the range", act: () => shown && go(stepped(shown, 1, Date.now())) },
    { key: "+", what: "half of the range (with Alt or Shift the wheel does it)", act: () => zoom(1 / ZOOM) },
    { key: "-", what: "twice the range", act: () => zoom(ZOOM) },
    { key: "l", what: "back to live", act: () => void setScope({ range: null, last: null }) },
    {
      key: "w",
      what: "move the focus by arrow keys (Shift: ten minutes)",
      act: () => focusOn('[aria-label="focus window"]'),
    },
    { key: "e", what: "the same for the reference", act: () => focusOn('[aria-label="reference window"]') },
    { key: "p", what: "reset windows", act: () => void setScope({ focus: null, reference: null }) },
    { key: "x", what: "find cause", act: () => press("[data-find-cause]") },
    { key: "?", what: "these keys", act: toggle },
  ];
}

export function Keys({ shown }: { shown: Span | null }) {
  const [open, setOpen] = useState(false);
  const [on, setOn] = useState(() => localStorage.getItem(KEPT) !== "off");
  const keys = useKeys(shown, () => setOpen((was) => !was));
  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const typing = event.target instanceof HTMLElement && event.target.closest("input, select, textarea");
      const pressed = keys.find((one) => one.key === event.key);
      if (!on || !pressed || typing || event.ctrlKey || event.metaKey || event.altKey) return;
      event.preventDefault();
      pressed.act();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [on, keys]);
  const turn = (next: boolean) => {
    localStorage.setItem(KEPT, next ? "on" : "off");
    setOn(next);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="text-second" aria-label="Keys">
        keys ?
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" className="z-40 border border-ink bg-sheet p-3" aria-label="Keys">
          <dl className={`grid grid-cols-[24px_auto] gap-x-2 ${on ? "" : "opacity-60"}`}>
            {keys.map(({ key, what }) => (
              <div key={key} className="contents">
                <dt className="font-mono font-semibold">{key}</dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
          <label htmlFor="single-keys" className="mt-3 flex items-center gap-2 border-t border-line pt-2">
            <Switch.Root
              id="single-keys"
              checked={on}
              onCheckedChange={turn}
              className="h-4 w-7 border border-ink px-[1px] data-[state=checked]:bg-ink"
            >
              <Switch.Thumb className="block size-3 bg-ink transition-transform data-[state=checked]:translate-x-3 data-[state=checked]:bg-ground" />
            </Switch.Root>
            Single keys act
          </label>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
