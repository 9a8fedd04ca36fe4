export type Theme = "day" | "night";

const KEPT = "wirbel.theme";

export function theme(): Theme {
  return document.documentElement.dataset.theme === "night" ? "night" : "day";
}

export function setTheme(chosen: Theme): void {
  document.documentElement.dataset.theme = chosen;
  localStorage.setItem(KEPT, chosen);
}

/** The theme chosen before, else the one the system asks for. */
export function startTheme(): void {
  const kept = localStorage.getItem(KEPT);
  const night = kept ? kept === "night" : window.matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = night ? "night" : "day";
}
