import { dayAndClock, moment } from "./format";
import { Tip } from "./Tip";

const TIME = /(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ)/;

/** A sentence from the API. Its times are in UTC; here they are shown in the reader's zone, as all others are. */
export function Told({ text }: { text: string }) {
  return text.split(TIME).map((piece, index) =>
    index % 2 ? (
      <Tip key={index} text={dayAndClock(piece)} quiet>
        <time dateTime={piece}>{moment(piece)}</time>
      </Tip>
    ) : (
      piece
    ),
  );
}
