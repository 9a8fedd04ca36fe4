import { Popover } from "radix-ui";
import { useEffect, useState } from "react";
import { useScope } from "./scope";

const keys: [string, string][] = [
  ["/", "go to a service, view or trace"],
  ["w", "move the focus by arrow keys (Shift: ten minutes)"],
  ["e", "the same for the reference"],
  ["p", "reset windows"],
  ["x", "find cause"],
  ["?", "these keys"],
];

/** Keys that work everywhere, and the list of them. */
export function Keys() {
  const [open, setOpen] = useState(false);
  const [, setScope] = useScope();
  useEffect(() => {
    const acts: Record<string, () => void> = {
      w: () => document.querySelector<SVGElement>('[aria-label="focus window"]')?.focus(),
      e: () => document.querySelector<SVGElement>('[aria-label="reference window"]')?.focus(),
      p: () => void setScope({ focus: null, reference: null }),
      x: () => document.querySelector<HTMLButtonElement>("[data-find-cause]")?.click(),
      "?": () => setOpen((was) => !was),
    };
    const onKey = (event: KeyboardEvent) => {
      const typing = event.target instanceof HTMLElement && event.target.closest("input, select, textarea");
      const act = acts[event.key];
      if (!act || typing || event.ctrlKey || event.metaKey || event.altKey) return;
      event.preventDefault();
      act();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, [setScope]);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="text-second" aria-label="Keys">
        keys ?
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" className="z-40 border border-ink bg-sheet p-3">
          <dl className="grid grid-cols-[24px_auto] gap-x-2">
            {keys.map(([key, what]) => (
              <div key={key} className="contents">
                <dt className="font-mono font-semibold">{key}</dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
