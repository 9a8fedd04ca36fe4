import { Popover } from "radix-ui";
import { type ReactNode, useState } from "react";

interface Props {
  trigger: string;
  label: string;
  children: (done: () => void) => ReactNode;
}

/** A form beneath the words that open it; it is told how to close it again. */
export function FormPopover({ trigger, label, children }: Props) {
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="underline">{trigger}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="start" className="z-40 w-[420px] border border-ink bg-sheet p-3" aria-label={label}>
          {children(() => setOpen(false))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
