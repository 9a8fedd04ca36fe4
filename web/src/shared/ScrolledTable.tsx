import { useVirtualizer } from "@tanstack/react-virtual";
import { type ReactNode, useEffect, useLayoutEffect, useRef, useState } from "react";

const OVERSCAN = 4;
const BELOW = 52; // px, for the line beneath it

interface ScrolledTableProps {
  label: string;
  count: number;
  /** Height of a row, px: all are alike. */
  row: number;
  columns: number;
  head: ReactNode;
  caption?: ReactNode;
  children: (index: number) => ReactNode;
  /** Told of the first and the last row that is in the page. */
  onRange?: (first: number, last: number) => void;
  onPointerEnter?: () => void;
  onPointerLeave?: () => void;
}

/** A table of any length: only the rows that can be seen are in the page. */
export function ScrolledTable(props: ScrolledTableProps) {
  const { label, count, row, columns, head, caption, children, onRange, ...pointer } = props;
  const scroller = useRef<HTMLDivElement>(null);
  const [top, setTop] = useState(0);
  // It ends where the window does, whatever stands above it: not two things to scroll.
  useLayoutEffect(() => {
    if (scroller.current) setTop(Math.round(scroller.current.getBoundingClientRect().top + window.scrollY));
  });
  const rows = useVirtualizer({
    count,
    getScrollElement: () => scroller.current,
    estimateSize: () => row,
    overscan: OVERSCAN,
  });
  const shown = rows.getVirtualItems();
  const [first, last] = [shown[0]?.index ?? 0, shown.at(-1)?.index ?? 0];
  useEffect(() => onRange?.(first, last), [onRange, first, last]);
  const above = shown[0]?.start ?? 0;
  const below = rows.getTotalSize() - (shown.at(-1)?.end ?? 0);
  return (
    <section
      ref={scroller}
      className="min-h-[300px] overflow-y-auto"
      style={{ maxHeight: `calc(100vh - ${top + BELOW}px)` }}
      aria-label={label}
      // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard
      tabIndex={0}
    >
      <table className="sheet-table" aria-rowcount={count} {...pointer}>
        {caption}
        {/* Borders of a table that collapses them do not stick; a shadow does. */}
        <thead className="sticky top-0 z-10 bg-ground [&_th]:border-b-0! [&_th]:shadow-[inset_0_-1px_0_var(--ink)]">
          {head}
        </thead>
        <tbody>
          {above > 0 && <Filler height={above} columns={columns} />}
          {shown.map((item) => children(item.index))}
          {below > 0 && <Filler height={below} columns={columns} />}
        </tbody>
      </table>
    </section>
  );
}

const Filler = ({ height, columns }: { height: number; columns: number }) => (
  <tr className="border-0!">
    <td colSpan={columns} style={{ height, padding: 0 }} />
  </tr>
);
