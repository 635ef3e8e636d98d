import { useSearchParams } from "react-router";

/** What a run's page shows, and the slices that were chosen: all of it stands in the address. */
export function useChoices() {
  const [query, setQuery] = useSearchParams();
  const change = (edit: (to: URLSearchParams) => void) =>
    setQuery((before) => {
      const to = new URLSearchParams(before);
      to.delete("trade");
      edit(to);
      return to;
    });
  const chosen = query.getAll("choose");
  const measures = query.getAll("by");
  return {
    look: query.get("look") ?? "trades",
    chosen,
    measures,
    show: (look: string) => change((to) => (look === "trades" ? to.delete("look") : to.set("look", look))),
    toggle: (choice: string) =>
      change((to) => {
        const rest = to.getAll("choose").filter((item) => item !== choice);
        if (rest.length === to.getAll("choose").length) rest.push(choice);
        to.delete("choose");
        for (const item of rest) to.append("choose", item);
      }),
    clear: () => change((to) => to.delete("choose")),
    /** Trades told apart by one more measure, or no longer. */
    by: (measure: string) =>
      change((to) => {
        const there = to.getAll("by").includes(measure);
        const rest = to.getAll("by").filter((item) => item !== measure);
        to.delete("by");
        for (const item of there ? rest : [...rest, measure]) to.append("by", item);
        if (there) {
          const kept = to.getAll("choose").filter((item) => !item.startsWith(`${measure}:`));
          to.delete("choose");
          for (const item of kept) to.append("choose", item);
        }
      }),
  };
}

export type Choices = ReturnType<typeof useChoices>;
