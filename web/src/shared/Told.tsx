import { clockSeconds, dayAndClock } from "./format";

const TIME = /(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ)/;
const RECENT_MS = 20 * 3600 * 1000;

/** A sentence from the API. Its times are in UTC; here they are shown in the reader's zone, as all others are. */
export function Told({ text }: { text: string }) {
  return text.split(TIME).map((piece, index) =>
    index % 2 ? (
      <time key={index} dateTime={piece} title={dayAndClock(piece)}>
        {Date.now() - Date.parse(piece) < RECENT_MS ? clockSeconds(piece) : dayAndClock(piece)}
      </time>
    ) : (
      piece
    ),
  );
}
