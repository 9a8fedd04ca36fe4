import { Tooltip } from "radix-ui";
import type { ReactElement } from "react";

interface Props {
  /** What is told; without it there is only the child. */
  text: string | null | undefined;
  /** It is told elsewhere in the row too, or the child can be focused already: no stop of its own for the Tab key. */
  quiet?: boolean;
  children: ReactElement;
}

/** Says more of its child when it is pointed at or has the focus. */
export function Tip({ text, quiet = false, children }: Props) {
  if (!text) return children;
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild {...(quiet ? {} : { tabIndex: 0 })}>
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

const DELAY_MS = 300;

export function Tips({ children }: { children: ReactElement }) {
  return (
    <Tooltip.Provider delayDuration={DELAY_MS} skipDelayDuration={DELAY_MS}>
      {children}
    </Tooltip.Provider>
  );
}
