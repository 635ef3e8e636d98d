import { X } from "lucide-react";
import { Toast } from "radix-ui";
import { useSyncExternalStore } from "react";

interface Notice {
  id: number;
  text: string;
  action?: { label: string; run: () => void };
  bad?: boolean;
}

let notices: Notice[] = [];
let next = 1;
const listeners = new Set<() => void>();

function publish(changed: Notice[]) {
  notices = changed;
  for (const listener of listeners) listener();
}

/** Say something in passing; with an action, for instance Undo. */
export function tell(text: string, action?: Notice["action"], bad = false) {
  publish([...notices.slice(-2), { id: next++, text, action, bad }]);
}

export function tellError(error: unknown) {
  tell(error instanceof Error ? error.message : String(error), undefined, true);
}

/** The newest notice, in the bar at the top where nothing else is: it covers no control and no figure. What came before it
 * shows once it is gone. */
export function Toasts() {
  const shown = useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => notices,
  );
  return (
    <Toast.Provider duration={9000} label="Notice">
      {shown.slice(-1).map((notice) => (
        <Toast.Root
          key={notice.id}
          className={`popover flex items-center gap-3 px-3 py-1 leading-tight ${notice.bad ? "border-loss text-loss" : ""}`}
          onOpenChange={(open) => open || publish(notices.filter((other) => other.id !== notice.id))}
        >
          <Toast.Title data-notice className="max-w-md">
            {notice.text}
          </Toast.Title>
          {notice.action && (
            <Toast.Action asChild altText={notice.action.label} onClick={() => notice.action?.run()}>
              <button type="button" className="button small">
                {notice.action.label}
              </button>
            </Toast.Action>
          )}
          <Toast.Close aria-label="Dismiss" className="text-soft">
            <X size={14} />
          </Toast.Close>
        </Toast.Root>
      ))}
      <Toast.Viewport className="fixed top-0.5 right-92 left-98 z-50 flex justify-center outline-none" />
    </Toast.Provider>
  );
}
