import { Command } from "cmdk";
import { useState } from "react";
import type { Document } from "../../api/queries";
import { Window } from "../../ui/Dialog";
import { ErrorNote } from "../../ui/parts";
import { added, type Block, type Declaration, type Declarations, holds } from "./document";

interface Props {
  /** Sections of the sheet that may be added to; null when closed. */
  blocks: Block[] | null;
  close: () => void;
  document: Document;
  declarations: Declarations;
  save: (document: Document) => Promise<unknown>;
}

/** A searchable list of every sentence there is, each explained with an example. */
export function AddSentence({ blocks, close, document, declarations, save }: Props) {
  const [error, setError] = useState<unknown>(null);

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
      open={blocks !== null}
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
          {blocks?.map((block) => (
            <Command.Group
              key={block.title}
              heading={<span className="text-xs font-semibold text-soft">{block.title}</span>}
            >
              {declarations.sections
                .find((item) => item.id === block.section)
                ?.sentences.map((declaration) => {
                  const path = block.lists[declaration.part];
                  if (path === undefined) return null;
                  const taken = declaration.once && holds(document, path, declaration.id);
                  return (
                    <Command.Item
                      key={`${path}/${declaration.id}`}
                      value={`${block.entry} ${declaration.title} ${declaration.words.join(" ")} ${declaration.id}`}
                      disabled={taken}
                      onSelect={() => choose(path, declaration)}
                      className="cursor-pointer rounded-card px-2 py-1.5 data-[disabled=true]:cursor-default data-[disabled=true]:opacity-50 data-[selected=true]:bg-seawash"
                    >
                      <div className="font-semibold">
                        {declaration.title}
                        {taken && (
                          <span className="ml-2 text-xs font-normal text-soft">is there already</span>
                        )}
                      </div>
                      <div className="font-serif text-lead">{declaration.example}</div>
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
