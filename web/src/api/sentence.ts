/** What the server says, as a sentence: on the command line it stands after "wirbel:" and begins in lower case. */
export function asSentence(said: string): string {
  const text = said.trim();
  return text.charAt(0).toUpperCase() + text.slice(1) + (/[.?!]$/.test(text) ? "" : ".");
}
