/** A share as a bar in its frame. */
export function Bar({ share, main, width = 46 }: { share: number; main: boolean; width?: number }) {
  const filled = Math.max(0, Math.min(1, share)) * width;
  return (
    <svg width={width + 2} height="9" aria-hidden="true" className="inline-block">
      <rect x="0.5" y="0.5" width={width} height="8" fill="none" stroke="var(--slate)" />
      <rect x="0.5" y="0.5" width={filled} height="8" fill={main ? "var(--rust)" : "var(--slate)"} />
    </svg>
  );
}
