import { Tooltip } from "radix-ui";
import { cloneElement, type HTMLAttributes, type PointerEvent, type ReactElement, useRef, useState } from "react";

interface Props {
  /** What is told; without it there is only the child. */
  text: string | null | undefined;
  /** It is told elsewhere in the row too: no stop for the Tab key, only for who points at it. */
  quiet?: boolean;
  /** The child or something in it can be focused already: no stop of its own. */
  focusable?: boolean;
  children: ReactElement<HTMLAttributes<Element>>;
}

const DELAY_MS = 300;

/** Says more of its child when it is pointed at or has the focus. */
export function Tip({ text, quiet = false, focusable = false, children }: Props) {
  const [wanted, setWanted] = useState(!quiet);
  const waiting = useRef<number>(undefined);
  if (!text) return children;
  // A table has hundreds of quiet ones that nobody points at: before somebody does, there is only the child.
  if (!wanted) {
    return cloneElement(children, {
      onPointerEnter: ({ pointerType }: PointerEvent) => {
        if (pointerType !== "touch") waiting.current = window.setTimeout(() => setWanted(true), DELAY_MS);
      },
      onPointerLeave: () => window.clearTimeout(waiting.current),
      onPointerDown: () => window.clearTimeout(waiting.current), // the child that is pressed must be the one that is let go
    });
  }
  return (
    <Tooltip.Root defaultOpen={quiet}>
      <Tooltip.Trigger asChild {...(quiet || focusable ? {} : { tabIndex: 0 })}>
        {children}
      </Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={4}
          collisionPadding={8}
          className="z-50 max-w-[420px] border border-ink bg-sheet px-2 py-1 [overflow-wrap:anywhere] whitespace-pre-line"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

export function Tips({ children }: { children: ReactElement }) {
  return (
    <Tooltip.Provider delayDuration={DELAY_MS} skipDelayDuration={DELAY_MS}>
      {children}
    </Tooltip.Provider>
  );
}
