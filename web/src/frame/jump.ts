import { createContext, useContext } from "react";

/** A place in the application: a path, and the view's own state in the address. */
export interface Place {
  pathname: string;
  search?: string;
}

/** A view's own state beside that of the frame. */
export function joined(own: string | undefined, frame: string): string {
  const both = new URLSearchParams(own);
  for (const [key, value] of new URLSearchParams(frame)) both.set(key, value);
  const text = both.toString();
  return text && `?${text}`;
}

/** What of the address follows a jump; the frame sets it. */
export const FrameSearch = createContext("");

/** Turns a place into where a link leads: the frame's state follows, no other view's does. */
export function useJump(): (to: Place | string) => Place {
  const frame = useContext(FrameSearch);
  return (to) => {
    const { pathname, search } = typeof to === "string" ? placeOf(to) : to;
    return { pathname, search: joined(search, frame) };
  };
}

/** A link as the API gives it. */
function placeOf(link: string): Place {
  const [pathname = "/", search] = link.split("?");
  return search === undefined ? { pathname } : { pathname, search };
}
