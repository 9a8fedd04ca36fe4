import { Dialog } from "radix-ui";
import type { ReactNode } from "react";
import { dayAndClock } from "../shared/format";

/** One line of a chart: what it is called, and its value at a point, in words. */
export interface Column {
  name: string;
  at: (index: number) => ReactNode;
}

interface Props {
  label: string;
  start: string;
  step_s: number;
  count: number;
  columns: Column[];
}

/** A chart's points as a table: what is drawn can be read, too. */
export function AsTable({ label, start, step_s, count, columns }: Props) {
  const begin = Date.parse(start);
  return (
    <Dialog.Root>
      <Dialog.Trigger className="mr-3 underline decoration-line underline-offset-2" aria-label={`${label} as a table`}>
        table
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[8%] left-1/2 z-50 flex max-h-[84vh] w-fit max-w-[92vw] min-w-[420px] -translate-x-1/2 flex-col border border-ink bg-sheet p-4"
        >
          <div className="mb-2 flex items-baseline justify-between gap-6">
            <Dialog.Title className="text-[15px] font-bold">{label}</Dialog.Title>
            <Dialog.Close className="action">Close</Dialog.Close>
          </div>
          {/* biome-ignore lint/a11y/noNoninteractiveTabindex: it scrolls, by keyboard too */}
          <section className="overflow-auto" aria-label="Points" tabIndex={0}>
            <table className="sheet-table">
              <thead className="sticky top-0 bg-sheet">
                <tr>
                  <th>from</th>
                  {columns.map((one) => (
                    <th key={one.name} className="num pl-4!">
                      {one.name}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {Array.from({ length: count }, (_, index) => (
                  <tr key={index}>
                    <td className="whitespace-nowrap">{dayAndClock(begin + index * step_s * 1000)}</td>
                    {columns.map((one) => (
                      <td key={one.name} className="num pl-4!">
                        {one.at(index)}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
