/** Text to be pasted elsewhere; it scrolls sideways, by keyboard too. */
export function Paste({ text, what }: { text: string; what: string }) {
  return (
    <section
      aria-label={what}
      // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by keyboard
      tabIndex={0}
      className="mt-1 overflow-x-auto border border-line bg-sheet p-2 font-mono text-[12px] whitespace-pre"
    >
      {text}
    </section>
  );
}
