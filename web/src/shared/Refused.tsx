/** Beneath a form: why what it asked for was not done. */
export function Refused({ error }: { error: Error | null | undefined }) {
  if (!error) return null;
  return (
    <p role="alert" className="mt-3 text-rust">
      {error.message}
    </p>
  );
}
