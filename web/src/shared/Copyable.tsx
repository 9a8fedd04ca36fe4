import type { ReactNode } from "react";
import { CopyButton } from "./CopyButton";

/** An id, a query or a value, with a button to copy it that is seen when it is pointed at or has the focus. */
export function Copyable({ text, children }: { text: string; children: ReactNode }) {
  return (
    <span className="group relative inline-flex max-w-full items-baseline">
      <span className="min-w-0 truncate">{children}</span>
      <span className="copy-here">
        <CopyButton text={text} />
      </span>
    </span>
  );
}
