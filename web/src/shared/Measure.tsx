import { Fragment } from "react";

/** The name of a measure, which breaks where its parts end. */
export function Measure({ name }: { name: string }) {
  return name.split(/(?<=[._/])/).map((part, index) => (
    <Fragment key={index}>
      {index > 0 && <wbr />}
      {part}
    </Fragment>
  ));
}
