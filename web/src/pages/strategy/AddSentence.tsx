import { Command } from "cmdk";
import { useState } from "react";
import type { Document } from "../../api/queries";
import { Window } from "../../ui/Dialog";
import { ErrorNote } from "../../ui/parts";
import { added, type Declaration, type Declarations } from "./document";

interface Props {
  /** Section to add to; empty for any, null when closed. */
  section: string | null;
  close: () => void;
  document: Document;
  declarations: Declarations;
  save: (document: Document) => Promise<unknown>;
}

/** A searchable list of every sentence there is, each explained with an example. */
export function AddSentence({ section, close, document, declarations, save }: Props) {
  const [error, setError] = useState<unknown>(null);
  const sections = declarations.sections.filter((item) => !section || item.id === section);
  const has = (id: string, kind: string) =>
    (document[id] as { rule: string }[]).some((sentence) => sentence.rule === kind);

  async function choose(to: string, declaration: Declaration) {
    setError(null);
    try {
      await save(added(document, to, declaration));
      close();
    } catch (problem) {
      setError(problem);
    }
  }

  return (
    <Window
      open={section !== null}
      onOpenChange={(open) => {
        if (!open) close();
        setError(null);
      }}
      title="Add a sentence"
    >
      <ErrorNote error={error} />
      <Command label="Sentences" className="mt-1">
        <Command.Input
          autoFocus
          placeholder="Search: delta, stop, weekday, IV…"
          className="field mb-2 w-full"
        />
        <Command.List className="max-h-[52vh] overflow-auto">
          <Command.Empty className="py-4 text-soft">No sentence speaks of that.</Command.Empty>
          {sections.map((item) => (
            <Command.Group
              key={item.id}
              heading={<span className="text-xs font-semibold text-soft">{item.title}</span>}
            >
              {item.sentences.map((declaration) => {
                const taken = declaration.once && has(item.id, declaration.id);
                return (
                  <Command.Item
                    key={declaration.id}
                    value={`${declaration.title} ${declaration.words.join(" ")} ${declaration.id}`}
                    disabled={taken}
                    onSelect={() => choose(item.id, declaration)}
                    className="cursor-pointer rounded-card px-2 py-1.5 data-[disabled=true]:cursor-default data-[disabled=true]:opacity-50 data-[selected=true]:bg-seawash"
                  >
                    <div className="font-semibold">
                      {declaration.title}
                      {taken && <span className="ml-2 text-xs font-normal text-soft">is there already</span>}
                    </div>
                    <div className="font-serif text-[14px]">{declaration.example}</div>
                    <div className="text-xs text-soft">{declaration.explains}</div>
                  </Command.Item>
                );
              })}
            </Command.Group>
          ))}
        </Command.List>
      </Command>
    </Window>
  );
}
