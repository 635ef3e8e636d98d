import { Window } from "../ui/Dialog";

const KEYS: [string, [string, string][]][] = [
  [
    "Everywhere",
    [
      ["Ctrl K", "find a page, strategy, run or command"],
      ["?", "this list"],
      ["Alt H", "Halt"],
      ["Esc", "close what is open"],
    ],
  ],
  [
    "Sheet",
    [
      ["S", "go to the first sentence"],
      ["↑ ↓", "from sentence to sentence"],
      ["Tab, Enter", "go to a value, change it"],
      ["A", "add a sentence"],
      ["Alt ↑ ↓", "move the sentence in which the focus is"],
      ["Ctrl Z", "take back the latest change"],
      ["1 2 3 4", "Rules, Backtest, Replay, Paper"],
    ],
  ],
  [
    "Chain and tables",
    [
      ["↑ ↓ ← →", "move"],
      ["Enter", "open, or trade the price under the focus"],
    ],
  ],
  [
    "Market",
    [
      [", .", "a snapshot back, forward"],
      ["Shift , .", "a session back, forward"],
      ["Enter", "on a price: into the basket"],
    ],
  ],
  [
    "Desk",
    [
      ["Enter", "on a price: onto the ticket"],
      ["Ctrl Enter", "send the ticket"],
      ["Esc", "put the ticket away"],
    ],
  ],
  [
    "Replay",
    [
      [", .", "a snapshot back, forward"],
      ["Shift , .", "a session back, forward"],
      ["Space", "play or pause"],
      ["N  P", "next, previous mark"],
      ["Ctrl Z", "take back the latest trade"],
    ],
  ],
];

export function Keys({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  return (
    <Window open={open} onOpenChange={onOpenChange} title="Keys">
      <div className="grid grid-cols-2 gap-x-8 gap-y-4">
        {KEYS.map(([place, keys]) => (
          <section key={place}>
            <h3 className="mb-1 text-xs font-semibold text-soft">{place}</h3>
            <dl className="grid grid-cols-[--spacing(23)_1fr] gap-y-1">
              {keys.map(([key, what]) => (
                <div key={key} className="contents">
                  <dt className="font-semibold">{key}</dt>
                  <dd>{what}</dd>
                </div>
              ))}
            </dl>
          </section>
        ))}
      </div>
    </Window>
  );
}
