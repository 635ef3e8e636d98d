import { DropdownMenu } from "radix-ui";
import { memo, useState } from "react";
import type { Document } from "../../api/queries";
import { useDeclarations } from "../../api/queries";
import { isTyping, useKeys } from "../../ui/keyboard";
import { MenuItem } from "../../ui/MenuItem";
import { tellError } from "../../ui/toast";
import { AddSentence } from "./AddSentence";
import {
  addable,
  type Block,
  type Declaration,
  type Declarations,
  doubled,
  legsOf,
  moved,
  removed,
  type Sentence,
  switched,
  targetOf,
  withMore,
} from "./document";
import { EntryMenu } from "./EntryMenu";
import { NoteEditor } from "./NoteEditor";
import { unbroken } from "./sentence";
import type { Evidence, Strategy } from "./types";
import { ValueEditor } from "./ValueEditor";

interface Props {
  /** Whose latest revision this is. */
  strategy: number;
  revision: number;
  document: Document;
  sheet: Sentence[];
  blocks: Block[];
  evidence: Evidence;
  /** Ids of the sentences that matter now. */
  marked?: string[];
  save: (document: Document) => Promise<Strategy>;
  mirror: (sentence: string) => Promise<unknown>;
  /** One more entry, as another is or mirrored. */
  like: (entry: string, mirror: boolean) => Promise<unknown>;
  footer?: React.ReactNode;
}

/** The strategy as a document of numbered sentences, every value edited in place. */
export function Sheet({
  strategy,
  revision,
  document,
  sheet,
  blocks,
  evidence,
  marked = [],
  save,
  mirror,
  like,
  footer,
}: Props) {
  const declarations = useDeclarations();
  const [adding, setAdding] = useState<Block[] | null>(null);
  useKeys({
    a: () => setAdding(blocks),
    s: () => sentenceAt(0)?.focus(),
  });
  if (!declarations.data) return null;
  return (
    <section aria-label="Sheet" className="flex min-h-full flex-col bg-surface px-5 pt-3 pb-2">
      {blocks.map((block, place) => {
        const sentences = sheet.filter(
          (sentence) => sentence.section === block.section && sentence.entry === block.entry,
        );
        const section = declarations.data.sections.find((item) => item.id === block.section)!;
        return (
          <div key={block.title} className="mb-3">
            <div className="flex items-baseline justify-between border-b pb-0.5">
              <h2 className="font-sans text-xs font-semibold text-soft">{block.title}</h2>
              <span className="text-xs text-soft">
                {place === 0 && evidence.title}
                <button
                  type="button"
                  className="link ml-2"
                  aria-label={`Add a sentence to ${block.title}`}
                  onClick={() => setAdding([block])}
                >
                  +
                </button>
                {block.section === "enter" && (
                  <EntryMenu document={document} block={block} save={save} like={like} />
                )}
              </span>
            </div>
            <ol>
              {sentences.map((sentence) => (
                <SentenceLine
                  key={sentence.id}
                  document={document}
                  declarations={declarations.data}
                  sheet={sheet}
                  sentence={sentence}
                  count={evidence.of[sentence.id]}
                  seen={evidence.remarks?.[sentence.id]}
                  marked={marked.includes(sentence.id)}
                  save={save}
                  declaration={section.sentences.find(
                    (item) => item.id === sentence.rule && item.part === sentence.part,
                  )}
                  mirror={mirror}
                />
              ))}
            </ol>
            {sentences.length === 0 && (
              <button type="button" className="link py-1 text-xs" onClick={() => setAdding([block])}>
                Nothing yet. Add a sentence
              </button>
            )}
          </div>
        );
      })}
      <div className="mt-auto flex flex-wrap items-center gap-x-3 border-t pt-2 text-xs">
        <button type="button" className="link font-semibold" onClick={() => setAdding(blocks)}>
          + Add a sentence
        </button>
        {footer}
      </div>
      <AddSentence
        strategy={strategy}
        revision={revision}
        blocks={adding}
        close={() => setAdding(null)}
        document={document}
        sheet={sheet}
        declarations={declarations.data}
        save={save}
      />
    </section>
  );
}

/** The first value of a sentence, or what else can be done with it, by its place on the sheet. */
function sentenceAt(place: number): HTMLElement | null {
  return window.document.querySelectorAll("[data-sentence]")[place]?.querySelector("button") ?? null;
}

interface LineProps {
  document: Document;
  declarations: Declarations;
  sheet: Sentence[];
  sentence: Sentence;
  count?: string;
  /** What a run says of it. */
  seen?: string;
  marked: boolean;
  save: (document: Document) => Promise<unknown>;
  declaration?: Declaration;
  mirror: (sentence: string) => Promise<unknown>;
}

/** Drawn again only when something of it is different: a sheet has dozens of values, each with what opens over it. */
const SentenceLine = memo(function SentenceLine({
  document,
  declarations,
  sheet,
  sentence,
  count,
  seen,
  marked,
  save,
  declaration,
  mirror,
}: LineProps) {
  const [noting, setNoting] = useState(false);
  const legs = legsOf(sheet, sentence.entry);
  const legIds = legs.map((leg) => leg.id);
  // only sentences of the same list may be dropped here
  const dragged = `text/x-sentence-${sentence.path}`;
  function move(event: React.KeyboardEvent) {
    // what opens over the page bubbles through here as well
    const within = event.currentTarget.contains(event.target as Node);
    if (!within || isTyping(event.target) || !["ArrowUp", "ArrowDown"].includes(event.key)) return;
    event.preventDefault();
    if (!event.altKey) {
      const lines = [...window.document.querySelectorAll("[data-sentence]")];
      sentenceAt(lines.indexOf(event.currentTarget) + (event.key === "ArrowUp" ? -1 : 1))?.focus();
      return;
    }
    save(moved(document, sentence, event.key === "ArrowUp" ? -1 : 1)).catch(tellError);
  }
  return (
    <li
      onKeyDown={move}
      onDragOver={(event) => {
        if (event.dataTransfer.types.includes(dragged)) event.preventDefault();
      }}
      onDrop={(event) => {
        const from = Number(event.dataTransfer.getData(dragged));
        if (from !== sentence.index)
          save(moved(document, { ...sentence, index: from }, sentence.index - from)).catch(tellError);
      }}
      data-sentence={sentence.id}
      className={`group -mx-5 grid grid-cols-[--spacing(8.5)_1fr_auto_--spacing(3.5)] items-baseline gap-x-1 px-5 py-0.75 font-serif text-head leading-5.25 ${marked ? "bg-mark" : ""} ${sentence.off ? "opacity-55" : ""}`}
    >
      {/* biome-ignore lint/a11y/noStaticElementInteractions: by keyboard, Alt and the arrows move a sentence */}
      <span
        draggable
        title="Drag to reorder"
        className="cursor-grab font-sans text-xs text-soft"
        onDragStart={(event) => event.dataTransfer.setData(dragged, String(sentence.index))}
      >
        {sentence.number}
      </span>
      <div>
        <span className={sentence.off ? "line-through" : ""}>
          {unbroken(sentence.tokens).map((group, at) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a sentence's tokens have no other identity
            <span key={at} className={group.length > 1 ? "whitespace-nowrap" : ""}>
              {group.map((token, i) => {
                const target = token.path ? targetOf(document, declarations, sentence, token) : null;
                return target ? (
                  <ValueEditor
                    // biome-ignore lint/suspicious/noArrayIndexKey: a sentence's tokens have no other identity
                    key={`${token.path}${i}`}
                    document={document}
                    target={target}
                    sentence={sentence.number}
                    text={token.text}
                    piece={token.piece}
                    legs={legs}
                    save={save}
                  />
                ) : (
                  token.text
                );
              })}
            </span>
          ))}
        </span>
        {sentence.acts && !sentence.off && (
          <span className="block font-sans text-xs text-soft">{sentence.acts}</span>
        )}
        {sentence.remark && !sentence.off && (
          <span className="block font-sans text-xs text-loss">{sentence.remark}</span>
        )}
        {seen && !sentence.off && <span className="block font-sans text-xs text-soft">{seen}</span>}
        {sentence.note && <span className="block font-sans text-xs text-soft italic">{sentence.note}</span>}
        {noting && (
          <NoteEditor document={document} sentence={sentence} save={save} close={() => setNoting(false)} />
        )}
      </div>
      <span className="max-w-24 text-right font-sans text-xs leading-4 text-soft">
        {sentence.off ? "off" : count}
      </span>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger
          aria-label={`More for sentence ${sentence.number}`}
          className="font-sans text-soft opacity-0 group-focus-within:opacity-100 group-hover:opacity-100 data-[state=open]:opacity-100"
        >
          ⋮
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content className="popover min-w-44 py-1" align="end">
            <MenuItem onSelect={() => save(switched(document, sentence)).catch(tellError)}>
              {sentence.off ? "Switch on" : "Switch off"}
            </MenuItem>
            <MenuItem onSelect={() => save(doubled(document, sentence)).catch(tellError)}>Duplicate</MenuItem>
            {declaration?.mirrors && (
              <MenuItem onSelect={() => mirror(sentence.id).catch(tellError)}>Mirror</MenuItem>
            )}
            {declaration &&
              addable(document, sentence, declaration).map((param) => (
                <MenuItem
                  key={param.name}
                  onSelect={() => save(withMore(document, sentence, param, legIds)).catch(tellError)}
                >
                  + {param.label}
                </MenuItem>
              ))}
            <MenuItem onSelect={() => save(moved(document, sentence, -1)).catch(tellError)}>Move up</MenuItem>
            <MenuItem onSelect={() => save(moved(document, sentence, 1)).catch(tellError)}>
              Move down
            </MenuItem>
            <MenuItem onSelect={() => setNoting(true)}>
              {sentence.note ? "Change the note" : "Add a note"}
            </MenuItem>
            <MenuItem onSelect={() => save(removed(document, sentence)).catch(tellError)}>Remove</MenuItem>
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
    </li>
  );
});
