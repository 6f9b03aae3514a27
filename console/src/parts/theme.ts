export type Theme = "dark" | "light";

const key = "lantern-theme";

/** currentTheme is the one the reader chose, else the one that their system asks for. */
export function currentTheme(): Theme {
  const chosen = localStorage.getItem(key);
  if (chosen === "dark" || chosen === "light") return chosen;
  return matchMedia("(prefers-color-scheme: light)").matches ? "light" : "dark";
}

export function setTheme(theme: Theme) {
  localStorage.setItem(key, theme);
  document.documentElement.dataset.theme = theme;
}

export function showTheme() {
  document.documentElement.dataset.theme = currentTheme();
}
