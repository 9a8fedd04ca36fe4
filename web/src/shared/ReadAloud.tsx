import type { ReactNode } from "react";

/** A table that is read aloud only, of what a picture shows. A table is as large as its words, whatever size it is given: what is around it is not. */
export function ReadAloud({ caption, children }: { caption: ReactNode; children: ReactNode }) {
  return (
    <div className="sr-only">
      <table>
        <caption>{caption}</caption>
        {children}
      </table>
    </div>
  );
}
