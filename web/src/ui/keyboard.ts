import { useLayoutEffect, useRef } from "react";

/** Whether a key press belongs to something the person is typing in. */
export function isTyping(target: EventTarget | null): boolean {
  return (
    target instanceof HTMLElement &&
    (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName))
  );
}

/** Whether it belongs to something open over the page, which has keys of its own: the letters of a menu, of a list. */
function isOver(target: EventTarget | null): boolean {
  return target instanceof Element && target.closest("[role=menu], [role=dialog], [role=listbox]") !== null;
}

/** Keys of a page: names like "ctrl+k", "shift+.", "space". Presses while typing are left alone, and plain ones in what is
 * open over the page. */
export function useKeys(keys: Record<string, (event: KeyboardEvent) => void>) {
  const current = useRef(keys);
  current.current = keys;
  // before it is painted: what a person sees answers
  useLayoutEffect(() => {
    function press(event: KeyboardEvent) {
      const modified = event.ctrlKey || event.metaKey;
      if (event.defaultPrevented || (isTyping(event.target) && !modified)) return;
      if (!modified && !event.altKey && event.key.length === 1 && isOver(event.target)) return;
      if (modified && isTyping(event.target) && event.key.toLowerCase() === "z") return;
      const shifted = event.shiftKey ? { Comma: "shift+,", Period: "shift+." }[event.code] : undefined;
      const plain = shifted ?? (event.key === " " ? "space" : event.key.toLowerCase());
      const name = `${modified ? "ctrl+" : ""}${event.altKey ? "alt+" : ""}${plain}`;
      const run = current.current[name];
      if (!run) return;
      if (plain === "space" && event.target instanceof HTMLElement && event.target.closest("button, a"))
        return;
      event.preventDefault();
      run(event);
    }
    window.addEventListener("keydown", press);
    return () => window.removeEventListener("keydown", press);
  }, []);
}
