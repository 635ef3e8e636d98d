import { Command } from "cmdk";
import { useEffect, useRef, useState } from "react";
import type { Schemas } from "../../api/client";
import { type Document, useAdditions } from "../../api/queries";
import { Window } from "../../ui/Dialog";
import { ErrorNote } from "../../ui/parts";
import { fits } from "../../ui/search";
import { type Block, type Declaration, type Declarations, inserted, type Sentence } from "./document";
import type { Strategy } from "./types";

/** So many are shown of what is found. */
const MOST = 40;

interface Props {
  /** The strategy whose latest revision the sheet shows. */
  strategy: number;
  revision: number;
  /** Sections of the sheet that may be added to; null when closed. */
  blocks: Block[] | null;
  close: () => void;
  document: Document;
  sheet: Sentence[];
  declarations: Declarations;
  save: (document: Document) => Promise<Strategy>;
}

/** A searchable list of every sentence that may be added, each as it will read on the sheet: what is shown is what is
 * inserted. */
export function AddSentence({
  strategy,
  revision,
  blocks,
  close,
  document,
  sheet,
  declarations,
  save,
}: Props) {
  const [error, setError] = useState<unknown>(null);
  const [search, setSearch] = useState("");
  const additions = useAdditions(strategy, revision, blocks !== null);
  const offers = (blocks ?? []).flatMap((block) => offered(block, declarations, additions.data ?? []));
  const several = (blocks?.length ?? 0) > 1;
  // what was added last: there the focus goes
  const fresh = useRef<string | null>(null);

  async function choose({ addition }: Offer) {
    setError(null);
    try {
      const saved = await save(inserted(document, addition.path, addition.item));
      const there = new Set(sheet.map((sentence) => sentence.id));
      fresh.current = saved.sheet.find((sentence) => !there.has(sentence.id))?.id ?? null;
      setSearch("");
      close();
    } catch (problem) {
      setError(problem);
    }
  }

  const [hurry, setHurry] = useState(false);
  const found = search.trim() ? best(offers, search) : offers;
  // who presses Enter before the list is there gets what it would have taken
  useEffect(() => {
    if (!hurry || additions.isPending) return;
    setHurry(false);
    const first = found.find((offer) => offer.addition.bar === "");
    if (first) void choose(first);
  });

  return (
    <Window
      open={blocks !== null}
      onOpenChange={(open) => {
        if (!open) close();
        setError(null);
        setSearch("");
        setHurry(false);
      }}
      title="Add a sentence"
      returnTo={() => {
        const to = fresh.current && firstValue(fresh.current);
        fresh.current = null;
        return to || null;
      }}
    >
      <ErrorNote error={error ?? additions.error} />
      <Command label="Sentences" className="mt-1" shouldFilter={false}>
        <Command.Input
          autoFocus
          placeholder="Search: delta, stop, weekday, IV…"
          className="field mb-2 w-full"
          value={search}
          onValueChange={setSearch}
          onKeyDown={(event) => {
            if (event.key === "Enter" && additions.isPending) setHurry(true);
          }}
        />
        <Command.List className="max-h-[52vh] overflow-auto">
          <Command.Empty className="py-4 text-soft">
            {additions.isPending ? "One moment…" : "No sentence speaks of that."}
          </Command.Empty>
          {search.trim()
            ? found.map((offer) => (
                <Item
                  key={offer.value}
                  offer={offer}
                  place={several ? offer.block.title : ""}
                  choose={choose}
                />
              ))
            : blocks?.map((block) => (
                <Command.Group
                  key={block.title}
                  heading={<span className="text-xs font-semibold text-soft">{block.title}</span>}
                >
                  {offers
                    .filter((offer) => offer.block === block)
                    .map((offer) => (
                      <Item key={offer.value} offer={offer} place="" choose={choose} />
                    ))}
                </Command.Group>
              ))}
        </Command.List>
      </Command>
    </Window>
  );
}

type Addition = Schemas["AdditionOut"];

/** A sentence that may be added: a ready-made one, or the general one of a measure. */
interface Offer {
  block: Block;
  addition: Addition;
  declaration: Declaration;
  measure?: Declaration;
  /** What it is found by. */
  value: string;
}

function offered(block: Block, declarations: Declarations, additions: Addition[]): Offer[] {
  const sentences = declarations.sections.find((item) => item.id === block.section)?.sentences ?? [];
  return additions
    .filter((addition) => addition.section === block.section && addition.entry === block.entry)
    .flatMap((addition) => {
      const declaration = sentences.find((item) => item.id === addition.rule && item.part === addition.part);
      if (!declaration) return [];
      const measure = addition.measure ? measureOf(declaration, addition.measure, declarations) : undefined;
      const { title, words, id } = measure ?? declaration;
      const more = measure ? ` ${declaration.title}` : "";
      const value = `${title} ${words.join(" ")} ${id}${more} ${addition.path}`;
      return [{ block, addition, declaration, measure, value }];
    });
}

/** What fits best first; where the words are found, nothing that only has their letters. */
function best(offers: Offer[], search: string): Offer[] {
  // a ready-made sentence comes before the general one
  const rated = offers.map((offer) => ({
    offer,
    fit: fits(offer.value, search) - (offer.measure ? 0.05 : 0),
  }));
  const least = rated.some(({ fit }) => fit > 0.4) ? 0.4 : 0;
  return rated
    .filter(({ fit }) => fit > least)
    .sort((a, b) => b.fit - a.fit)
    .slice(0, MOST)
    .map(({ offer }) => offer);
}

function Item({
  offer,
  place,
  choose,
}: {
  offer: Offer;
  /** The section it belongs to, where there are several. */
  place: string;
  choose: (offer: Offer) => void;
}) {
  const { addition, declaration, measure, value } = offer;
  const { title, explains } = measure ?? declaration;
  return (
    <Command.Item
      value={value}
      disabled={addition.bar !== ""}
      onSelect={() => choose(offer)}
      className="cursor-pointer rounded-card px-2 py-1.5 data-[selected=true]:bg-seawash data-[disabled=true]:cursor-default data-[disabled=true]:opacity-50"
    >
      <div className="font-semibold">
        {title}
        {measure && (
          <span className="ml-2 text-xs font-normal text-soft">{declaration.title.toLowerCase()} of it</span>
        )}
        {addition.bar && <span className="ml-2 text-xs font-normal text-soft">{addition.bar}</span>}
        <Place name={place} />
      </div>
      <div className="font-serif text-lead">{addition.text}</div>
      <div className="text-xs text-soft">{explains}</div>
    </Command.Item>
  );
}

function Place({ name }: { name: string }) {
  return name ? <span className="float-right text-xs font-normal text-soft">{name}</span> : null;
}

/** The first value of a sentence, where it can be changed. */
function firstValue(id: string): HTMLElement | null {
  return window.document.querySelector<HTMLElement>(`[data-sentence="${CSS.escape(id)}"] button`);
}

/** The measure that a general sentence begins with. */
function measureOf(general: Declaration, id: string, declarations: Declarations): Declaration | undefined {
  const left = general.params.find((param) => param.name === "left");
  return left && declarations.families[left.family]?.items.find((item) => item.id === id);
}
