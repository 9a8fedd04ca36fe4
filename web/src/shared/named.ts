import { useLocation } from "react-router";

const SERVICE = /^\/services\/([^/]+)$/;

/** The service that an address names, as it is called: the router itself takes "%2F" that is part of a name for "/". */
export function serviceOf(pathname: string): string | null {
  const told = SERVICE.exec(pathname)?.[1];
  try {
    return told === undefined ? null : decodeURIComponent(told);
  } catch {
    return null; // typed by hand
  }
}

export function useNamedService(): string | null {
  return serviceOf(useLocation().pathname);
}
