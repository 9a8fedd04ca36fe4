import type { ReactNode } from "react";
import { CopyButton } from "./CopyButton";

/** An id, a query or a value, with a button to copy it that is seen when it is pointed at or has the focus. */
export function Copyable({ text, children }: { text: string; children: ReactNode }) {
  return (
    <span className="group inline-flex max-w-full items-baseline gap-2">
      <span className="min-w-0 truncate">{children}</span>
      <span className="font-sans opacity-0 group-focus-within:opacity-100 group-hover:opacity-100">
        <CopyButton text={text} />
      </span>
    </span>
  );
}
