import { Command } from "cmdk";
import { useState } from "react";
import type { Document } from "../../api/queries";
import { Window } from "../../ui/Dialog";
import { ErrorNote } from "../../ui/parts";
import {
  added,
  type Block,
  type Declaration,
  type Declarations,
  holds,
  legsOf,
  type Sentence,
} from "./document";

interface Props {
  /** Sections of the sheet that may be added to; null when closed. */
  blocks: Block[] | null;
  close: () => void;
  document: Document;
  sheet: Sentence[];
  declarations: Declarations;
  save: (document: Document) => Promise<unknown>;
}

/** A searchable list of every sentence there is, each explained with an example. */
export function AddSentence({ blocks, close, document, sheet, declarations, save }: Props) {
  const [error, setError] = useState<unknown>(null);

  async function choose(to: string, entry: string, declaration: Declaration, measure?: Declaration) {
    setError(null);
    const legs = legsOf(sheet, entry).map((leg) => leg.id);
    const left = measure && {
      measure: measure.id,
      ...Object.fromEntries(measure.params.filter((p) => !p.optional).map((p) => [p.name, p.default])),
    };
    try {
      await save(added(document, to, declaration, legs, left ? { left } : {}));
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
                      onSelect={() => choose(path, block.entry, declaration)}
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
              {declarations.sections
                .find((item) => item.id === block.section)
                ?.sentences.filter((item) => item.id === "condition" && block.lists[item.part] !== undefined)
                .flatMap((general) =>
                  byMeasure(general, declarations).map((measure) => ({ general, measure })),
                )
                .map(({ general, measure }) => (
                  <Command.Item
                    key={`${block.lists[general.part]}/${general.id}/${measure.id}`}
                    value={`${block.entry} ${measure.title} ${measure.words.join(" ")} ${measure.id} ${general.title}`}
                    onSelect={() => choose(block.lists[general.part]!, block.entry, general, measure)}
                    className="cursor-pointer rounded-card px-2 py-1 data-[selected=true]:bg-seawash"
                  >
                    <span className="font-semibold">{measure.title}</span>
                    <span className="ml-2 text-xs text-soft">{general.title.toLowerCase()} of it</span>
                    <span className="block text-xs text-soft">{measure.explains}</span>
                  </Command.Item>
                ))}
            </Command.Group>
          ))}
        </Command.List>
      </Command>
    </Window>
  );
}

/** Measures that a general sentence may begin with. */
function byMeasure(general: Declaration, declarations: Declarations): Declaration[] {
  const left = general.params.find((param) => param.name === "left");
  return (left && declarations.families[left.family]?.items.filter((item) => item.id !== "number")) ?? [];
}
