import { Command } from "cmdk";
import { useRef, useState } from "react";
import { fits } from "../../ui/search";
import type { Declaration } from "./document";

const FEW = 16;

interface Props {
  label: string;
  chosen: Declaration;
  others: Declaration[];
  choose: (id: string) => void;
}

/** Which of many stands here: buttons while they are few, else a list to search. */
export function Chooser({ label, chosen, others, choose }: Props) {
  const [searching, setSearching] = useState(false);
  const list = useRef<HTMLDivElement>(null);
  if (others.length <= FEW)
    return (
      <fieldset className="flex flex-wrap gap-1" aria-label={label}>
        {others.map((one) => (
          <button
            key={one.id}
            type="button"
            className="pill"
            aria-pressed={one.id === chosen.id}
            onClick={() => choose(one.id)}
          >
            {one.title}
          </button>
        ))}
      </fieldset>
    );
  if (!searching)
    return (
      <button type="button" className="link self-start" onClick={() => setSearching(true)}>
        Choose something else…
      </button>
    );
  return (
    <Command label={label} filter={fits}>
      <Command.Input
        autoFocus
        placeholder="Search: average, IV, P/L…"
        className="field mb-1 w-full"
        // what fits best comes first, and is seen
        onValueChange={() => setTimeout(() => list.current?.scrollTo(0, 0))}
      />
      <Command.List ref={list} className="max-h-56 overflow-auto">
        <Command.Empty className="py-2 text-soft">Nothing is called that.</Command.Empty>
        {others.map((one) => (
          <Command.Item
            key={one.id}
            value={`${one.title} ${one.words.join(" ")} ${one.id}`}
            onSelect={() => {
              setSearching(false);
              choose(one.id);
            }}
            className="cursor-pointer rounded-card px-2 py-1 data-[selected=true]:bg-seawash"
          >
            <span className={one.id === chosen.id ? "font-semibold" : ""}>{one.title}</span>
            <span className="block font-serif text-xs text-soft">{one.example}</span>
          </Command.Item>
        ))}
      </Command.List>
    </Command>
  );
}
