/** Light or dark, remembered in this browser. */
export type Theme = "light" | "dark";

export function theme(): Theme {
  return localStorage.getItem("strell-theme") === "dark" ? "dark" : "light";
}

export function wear(chosen: Theme) {
  localStorage.setItem("strell-theme", chosen);
  document.documentElement.dataset.theme = chosen;
  document.dispatchEvent(new Event("strell-theme"));
}
