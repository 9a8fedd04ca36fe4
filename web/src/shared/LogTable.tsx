import type { ReactNode } from "react";
import type { Schemas } from "../api/client";
import { CopyButton } from "./CopyButton";
import { moment } from "./format";

type LogRecord = Schemas["LogRecord"];

interface Props {
  label: string;
  caption?: string;
  records: readonly LogRecord[];
  /** Whose they are, where they are of several services. */
  withService?: boolean;
  /** What leads on from a record. */
  lead: (record: LogRecord) => ReactNode;
}

/** Log records in order of time. */
export function LogTable({ label, caption, records, withService = false, lead }: Props) {
  return (
    <table className="sheet-table" aria-label={label}>
      {caption && <caption className="text-left text-second">{caption}</caption>}
      <tbody>
        {records.map((record, index) => (
          <tr key={`${record.at} ${index}`}>
            <td className="whitespace-nowrap">{moment(record.at)}</td>
            <td className={record.severity === "error" || record.severity === "fatal" ? "text-rust" : "text-second"}>
              {record.severity}
            </td>
            {withService && <td className="whitespace-nowrap">{record.service}</td>}
            <td className="group relative font-mono text-[12px] break-all">
              {record.body}
              <span className="copy-here">
                <CopyButton text={record.body} />
              </span>
            </td>
            <td className="num">{lead(record)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
