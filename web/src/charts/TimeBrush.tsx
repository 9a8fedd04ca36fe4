import { useRef, useState } from "react";
import { useScope } from "../frame/scope";
import { clock } from "../shared/format";

interface BrushProps {
  left: number;
  right: number;
  height: number;
  /** Time at a horizontal position, ms since 1970. */
  timeAt: (x: number) => number;
  onCause?: (span: { start: number; end: number }) => void;
  /** A click that drags nothing. */
  onMoment?: ((at: number) => void) | undefined;
}

const MINUTE = 60_000;
const LEAST_PIXELS = 6;

/** Drag over a chart: the stretch can become the focus or the reference, or be asked about at once. */
export function useTimeBrush({ left, right, height, timeAt, onCause, onMoment }: BrushProps) {
  const [, setScope] = useScope();
  const [drag, setDrag] = useState<{ from: number; to: number; done: boolean } | null>(null);
  const surface = useRef<SVGRectElement>(null);
  const inside = (clientX: number) => {
    const box = surface.current?.ownerSVGElement?.getBoundingClientRect();
    return Math.min(right, Math.max(left, clientX - (box?.left ?? 0)));
  };
  const low = drag ? Math.min(drag.from, drag.to) : 0;
  const high = drag ? Math.max(drag.from, drag.to) : 0;
  const span = {
    start: Math.round(timeAt(low) / MINUTE) * MINUTE,
    end: Math.max(Math.round(timeAt(high) / MINUTE), Math.round(timeAt(low) / MINUTE) + 1) * MINUTE,
  };
  const act = (action: () => void) => () => {
    action();
    setDrag(null);
  };
  const layer = (
    <g>
      <rect
        ref={surface}
        x={left}
        y={0}
        width={Math.max(0, right - left)}
        height={height}
        fill="transparent"
        style={{ cursor: "crosshair", touchAction: "none" }}
        onPointerDown={(event) => {
          event.currentTarget.setPointerCapture(event.pointerId);
          setDrag({ from: inside(event.clientX), to: inside(event.clientX), done: false });
        }}
        onPointerMove={(event) => drag && !drag.done && setDrag({ ...drag, to: inside(event.clientX) })}
        onPointerUp={() => {
          if (!drag || drag.done) return;
          const isClick = high - low < LEAST_PIXELS;
          setDrag(isClick ? null : { ...drag, done: true });
          if (isClick) onMoment?.(timeAt(drag.from));
        }}
      />
      {drag && high - low >= LEAST_PIXELS && (
        <rect
          x={low}
          y={0}
          width={high - low}
          height={height}
          fill="var(--slate)"
          opacity="0.18"
          pointerEvents="none"
        />
      )}
    </g>
  );
  const menu = drag?.done ? (
    <div
      role="menu"
      aria-label={`Stretch ${clock(span.start)} to ${clock(span.end)}`}
      className="absolute z-30 flex flex-col border border-ink bg-sheet"
      style={{ left: Math.min(high, right - 130), top: 16 }}
    >
      <span className="px-2 py-1 text-second">
        {clock(span.start)} – {clock(span.end)}
      </span>
      {[
        { label: "focus here", run: () => void setScope({ focus: span }) },
        { label: "reference here", run: () => void setScope({ reference: span }) },
        { label: "look closer", run: () => void setScope({ range: span }) },
        ...(onCause ? [{ label: "find cause", run: () => onCause(span) }] : []),
        { label: "leave it", run: () => undefined },
      ].map((item) => (
        <button
          key={item.label}
          type="button"
          role="menuitem"
          className="px-2 py-1 text-left hover:bg-ground"
          onClick={act(item.run)}
        >
          {item.label}
        </button>
      ))}
    </div>
  ) : null;
  return { layer, menu };
}
