/** The query of a link to a trace that begins at one of its spans; scope and windows stay. */
export function withSpan(search: string, span: string): string {
  const query = new URLSearchParams(search);
  query.set("span", span);
  return `?${query}`;
}

/** A link that the API gave, with its own query beside the scope and windows. */
export function withOwn(link: string, search: string) {
  const [pathname = "/", own = ""] = link.split("?");
  const query = new URLSearchParams(search);
  for (const [key, value] of new URLSearchParams(own)) query.set(key, value);
  return { pathname, search: `?${query}` };
}
