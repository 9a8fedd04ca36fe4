interface Props {
  shown: number;
  found: number;
  what?: string;
  /** How many the API gives at most, and how many more are asked for at a time. */
  limit: number;
  page: number;
  more: () => void;
  /** What shows the others beyond the limit. */
  beyond: string;
}

/** How many of a list are shown, and the rest of them; nothing where all are. */
export function More({ shown, found, what, limit, page, more, beyond }: Props) {
  if (shown >= found) return null;
  return (
    <p className="mt-2 text-second">
      {shown} of {found} {what} shown.{" "}
      {shown < limit ? (
        <button type="button" className="underline" onClick={more}>
          {Math.min(page, found - shown)} more
        </button>
      ) : (
        beyond
      )}
    </p>
  );
}
