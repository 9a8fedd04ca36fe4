import { type RefObject, useLayoutEffect, useRef, useState } from "react";

/** The width of an element in CSS pixels, kept up to date. */
export function useWidth<T extends Element>(initial: number): [RefObject<T | null>, number] {
  const ref = useRef<T>(null);
  const [width, setWidth] = useState(initial);
  useLayoutEffect(() => {
    const element = ref.current;
    if (!element) return;
    const observer = new ResizeObserver(([entry]) => entry && setWidth(Math.max(40, entry.contentRect.width)));
    observer.observe(element);
    setWidth(Math.max(40, element.getBoundingClientRect().width));
    return () => observer.disconnect();
  }, []);
  return [ref, width];
}
