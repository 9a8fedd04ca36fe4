import { type RefObject, useEffect, useRef } from "react";
import { useLocation } from "react-router";

/** Moves the focus to the heading of a view that was gone to, and names the page by it, for those who do not see it change. */
export function useArrival(main: RefObject<HTMLElement | null>, name: string | undefined): void {
  const { pathname } = useLocation();
  const left = useRef<string | null>(null);
  useEffect(() => {
    const place = main.current;
    if (!place) return;
    const isJump = left.current !== null && left.current !== pathname;
    left.current = pathname;
    const arrive = (): boolean => {
      const heading = place.querySelector("h1");
      if (!heading) return false;
      document.title = `${name ?? heading.textContent} · Wirbel`;
      heading.tabIndex = -1;
      if (isJump) heading.focus({ preventScroll: true });
      return true;
    };
    if (arrive()) return;
    const watch = new MutationObserver(() => arrive() && watch.disconnect());
    watch.observe(place, { childList: true, subtree: true });
    return () => watch.disconnect();
  }, [main, name, pathname]);
}
