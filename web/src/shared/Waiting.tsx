/** What stands where an answer will be: what is read, or why there is none. */
export function Waiting({ error, what }: { error: Error | null; what: string }) {
  return error ? (
    <p role="alert" className="py-6 text-rust">
      {error.message}
    </p>
  ) : (
    <p className="py-6 text-second">Reading {what}…</p>
  );
}
