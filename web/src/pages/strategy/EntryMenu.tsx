import { DropdownMenu } from "radix-ui";
import { useState } from "react";
import { type Document, useDeclarations } from "../../api/queries";
import { MenuItem } from "../../ui/MenuItem";
import { tellError } from "../../ui/toast";
import { type Block, entryAt, renamedEntry, tradedBy, withoutEntry } from "./document";

interface Props {
  document: Document;
  /** The first section of the entry. */
  block: Block;
  save: (document: Document) => Promise<unknown>;
  like: (entry: string, mirror: boolean) => Promise<unknown>;
}

/** What can be done with a whole entry: another one like it, its name, what it trades. */
export function EntryMenu({ document, block, save, like }: Props) {
  const { data: declarations } = useDeclarations();
  const [naming, setNaming] = useState<string | null>(null);
  const place = entryAt(block);
  const entries = document.entries as { id: string }[];
  const name = entries[place]?.id ?? "";
  const others = (document.underlyings as string[]).filter((symbol) => symbol !== block.underlying);
  if (naming !== null)
    return (
      <form
        className="inline-flex gap-1"
        onSubmit={(event) => {
          event.preventDefault();
          if (!declarations) return;
          const renamed = renamedEntry(document, place, naming.trim(), declarations);
          save(renamed).then(() => setNaming(null), tellError);
        }}
      >
        <input
          className="field h-6 w-36"
          aria-label={`Name of ${name}`}
          autoFocus
          maxLength={40}
          value={naming}
          onChange={(event) => setNaming(event.target.value)}
          onKeyDown={(event) => event.key === "Escape" && setNaming(null)}
        />
        <button type="submit" className="button small">
          Keep
        </button>
      </form>
    );
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        className="ml-2 px-1 text-soft hover:text-sea focus-visible:text-sea"
        aria-label={entries.length > 1 ? `More for ${name}` : "More for the entry"}
      >
        ⋮
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content className="popover min-w-44 py-1" align="end">
          <MenuItem onSelect={() => like(name, false).catch(tellError)}>Another entry like it</MenuItem>
          <MenuItem onSelect={() => like(name, true).catch(tellError)}>Another entry, mirrored</MenuItem>
          {others.length > 0 &&
            block.underlying &&
            others.map((symbol) => (
              <MenuItem
                key={symbol}
                onSelect={() => save(tradedBy(document, place, symbol)).catch(tellError)}
              >
                Trade {symbol} instead
              </MenuItem>
            ))}
          {entries.length > 1 && (
            <>
              {/* the menu gives focus back when it closes: the field takes it after that */}
              <MenuItem onSelect={() => setTimeout(() => setNaming(name))}>Rename</MenuItem>
              <MenuItem onSelect={() => save(withoutEntry(document, place)).catch(tellError)}>
                Remove this entry
              </MenuItem>
            </>
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
