import { Popover, Tooltip } from "radix-ui";
import {
  cloneElement,
  type HTMLAttributes,
  type PointerEvent,
  type ReactElement,
  type RefObject,
  useRef,
  useState,
} from "react";

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
const BOX = "z-50 max-w-[420px] border border-ink bg-sheet px-2 py-1 [overflow-wrap:anywhere] whitespace-pre-line";
const PLACE = { sideOffset: 4, collisionPadding: 8 };

/** Says more of its child when it is pointed at or has the focus. */
export function Tip({ text, quiet = false, focusable = false, children }: Props) {
  if (!text) return children;
  if (quiet) return <Pointed text={text}>{children}</Pointed>;
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild {...(focusable ? {} : { tabIndex: 0 })}>
        {children}
      </Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content {...PLACE} className={BOX}>
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}

/** A table has hundreds that nobody points at: until somebody does there is only the child. */
function Pointed({ text, children }: { text: string; children: ReactElement<HTMLAttributes<Element>> }) {
  const [open, setOpen] = useState(false);
  const waiting = useRef<number>(undefined);
  const child = useRef<Element>(null);
  const close = () => {
    window.clearTimeout(waiting.current);
    waiting.current = undefined;
    setOpen(false);
  };
  // Moved, not entered: a child that comes to lie beneath a pointer that rests tells nothing.
  const onPointerMove = ({ pointerType, currentTarget }: PointerEvent) => {
    if (pointerType === "touch") return;
    child.current = currentTarget;
    waiting.current ??= window.setTimeout(() => setOpen(true), DELAY_MS);
  };
  return (
    <>
      {cloneElement(children, { onPointerMove, onPointerLeave: close, onPointerDown: close })}
      {open && (
        <Popover.Root open onOpenChange={close}>
          <Popover.Anchor virtualRef={child as RefObject<Element>} />
          <Popover.Portal>
            <Popover.Content
              {...PLACE}
              side="top"
              role="tooltip"
              className={`${BOX} pointer-events-none`}
              onOpenAutoFocus={(event) => event.preventDefault()}
              onCloseAutoFocus={(event) => event.preventDefault()}
            >
              {text}
            </Popover.Content>
          </Popover.Portal>
        </Popover.Root>
      )}
    </>
  );
}

export function Tips({ children }: { children: ReactElement }) {
  return (
    <Tooltip.Provider delayDuration={DELAY_MS} skipDelayDuration={DELAY_MS}>
      {children}
    </Tooltip.Provider>
  );
}
