import { useState } from "react";

/** Puts a text on the clipboard, and says so until something else was done. */
export function CopyButton({ text, what = "copy" }: { text: string; what?: string }) {
  const [copied, setCopied] = useState<string | null>(null);
  const copy = async () => {
    await navigator.clipboard.writeText(text);
    setCopied(text);
  };
  return (
    <button
      type="button"
      className="text-second underline decoration-line underline-offset-2 hover:decoration-ink"
      aria-label={what === "copy" ? `copy ${text.slice(0, 60)}` : undefined}
      onBlur={() => setCopied(null)}
      onClick={() => void copy()}
    >
      {copied === text ? "copied" : what}
    </button>
  );
}
