/** The query of a link to a trace that begins at one of its spans; scope and windows stay. */
export function withSpan(search: string, span: string): string {
  const query = new URLSearchParams(search);
  query.set("span", span);
  return `?${query}`;
}
