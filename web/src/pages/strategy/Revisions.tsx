import { Popover } from "radix-ui";
import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useGoBack, useRevisions } from "../../api/queries";
import { ago } from "../../ui/format";
import { tell, tellError } from "../../ui/toast";

function List({ strategy, close }: { strategy: Schemas["StrategyOut"]; close: () => void }) {
  const revisions = useRevisions(strategy.id);
  const back = useGoBack(strategy.id);
  return (
    <ol className="max-h-80 overflow-auto">
      {revisions.data?.map((revision) => (
        <li key={revision.number} className="flex gap-3 border-b py-1.5 last:border-0">
          <span className="w-6 text-soft">{revision.number}</span>
          <span className="min-w-0 flex-1 font-serif text-lead">{revision.change}</span>
          <span className="text-xs text-soft">{ago(revision.created_at)}</span>
          {revision.number === strategy.revision ? (
            <span className="w-14 text-xs text-soft">latest</span>
          ) : (
            <button
              type="button"
              className="link w-14 text-left text-xs"
              onClick={() =>
                back.mutate(revision.number, {
                  onSuccess: (now) => {
                    tell(`Revision ${now.revision} is revision ${revision.number} again.`);
                    close();
                  },
                  onError: tellError,
                })
              }
            >
              go back
            </button>
          )}
        </li>
      ))}
    </ol>
  );
}

export function Revisions({ strategy }: { strategy: Schemas["StrategyOut"] }) {
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="pill" aria-label={`Revision ${strategy.revision}, show all`}>
        revision {strategy.revision}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content className="popover w-115 p-3" align="start" sideOffset={6} aria-label="Revisions">
          <List strategy={strategy} close={() => setOpen(false)} />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
