import { Command } from "cmdk";
import { useRef, useState } from "react";
import { useFirstSeries } from "../../api/data";
import type { Document } from "../../api/queries";
import { Window } from "../../ui/Dialog";
import { ErrorNote } from "../../ui/parts";
import { fits } from "../../ui/search";
import {
  added,
  type Block,
  type Declaration,
  type Declarations,
  holds,
  legsOf,
  type Sentence,
} from "./document";
import type { Strategy } from "./types";

/** So many are shown of what is found. */
const MOST = 40;

interface Props {
  /** Sections of the sheet that may be added to; null when closed. */
  blocks: Block[] | null;
  close: () => void;
  document: Document;
  sheet: Sentence[];
  declarations: Declarations;
  save: (document: Document) => Promise<Strategy>;
}

/** A searchable list of every sentence there is, each explained with an example. */
export function AddSentence({ blocks, close, document, sheet, declarations, save }: Props) {
  const [error, setError] = useState<unknown>(null);
  const [search, setSearch] = useState("");
  const firstSeries = useFirstSeries();
  const offers = (blocks ?? []).flatMap((block) => offered(block, declarations, document));
  const several = (blocks?.length ?? 0) > 1;
  // what was added last: there the focus goes
  const fresh = useRef<string | null>(null);

  async function choose({ path: to, block, declaration, measure }: Offer) {
    setError(null);
    const legs = legsOf(sheet, block.entry).map((leg) => leg.id);
    const left = measure && {
      measure: measure.id,
      ...Object.fromEntries(measure.params.filter((p) => !p.optional).map((p) => [p.name, p.default])),
    };
    try {
      const series = await firstSeries();
      const saved = await save(added(document, to, declaration, legs, left ? { left } : {}, series));
      const there = new Set(sheet.map((sentence) => sentence.id));
      fresh.current = saved.sheet.find((sentence) => !there.has(sentence.id))?.id ?? null;
      setSearch("");
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
        setSearch("");
      }}
      title="Add a sentence"
      returnTo={() => {
        const to = fresh.current && firstValue(fresh.current);
        fresh.current = null;
        return to || null;
      }}
    >
      <ErrorNote error={error} />
      <Command label="Sentences" className="mt-1" shouldFilter={false}>
        <Command.Input
          autoFocus
          placeholder="Search: delta, stop, weekday, IV…"
          className="field mb-2 w-full"
          value={search}
          onValueChange={setSearch}
        />
        <Command.List className="max-h-[52vh] overflow-auto">
          <Command.Empty className="py-4 text-soft">No sentence speaks of that.</Command.Empty>
          {search.trim()
            ? best(offers, search).map((offer) => (
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

/** A sentence that may be added: a ready-made one, or the general one of a measure. */
interface Offer {
  block: Block;
  /** The list of the document that it goes to. */
  path: string;
  declaration: Declaration;
  measure?: Declaration;
  taken: boolean;
  /** What it is found by. */
  value: string;
}

function offered(block: Block, declarations: Declarations, document: Document): Offer[] {
  const sentences = declarations.sections.find((item) => item.id === block.section)?.sentences ?? [];
  const here = sentences.filter((item) => block.lists[item.part] !== undefined);
  const ready = here.map((declaration) => {
    const path = block.lists[declaration.part]!;
    const { title, words, id, once } = declaration;
    const taken = once && holds(document, path, id);
    return { block, path, declaration, taken, value: `${title} ${words.join(" ")} ${id} ${path}` };
  });
  const general = here
    .filter((item) => item.id === "condition")
    .flatMap((declaration) =>
      byMeasure(declaration, declarations).map((measure) => {
        const path = block.lists[declaration.part]!;
        const value = `${measure.title} ${measure.words.join(" ")} ${measure.id} ${declaration.title} ${path}`;
        return { block, path, declaration, measure, taken: false, value };
      }),
    );
  return [...ready, ...general];
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
  const { declaration, measure, taken, value } = offer;
  const look = "cursor-pointer rounded-card px-2 data-[selected=true]:bg-seawash";
  if (measure)
    return (
      <Command.Item value={value} onSelect={() => choose(offer)} className={`${look} py-1`}>
        <span className="font-semibold">{measure.title}</span>
        <span className="ml-2 text-xs text-soft">{declaration.title.toLowerCase()} of it</span>
        <Place name={place} />
        <span className="block text-xs text-soft">{measure.explains}</span>
      </Command.Item>
    );
  return (
    <Command.Item
      value={value}
      disabled={taken}
      onSelect={() => choose(offer)}
      className={`${look} py-1.5 data-[disabled=true]:cursor-default data-[disabled=true]:opacity-50`}
    >
      <div className="font-semibold">
        {declaration.title}
        {taken && <span className="ml-2 text-xs font-normal text-soft">is there already</span>}
        <Place name={place} />
      </div>
      <div className="font-serif text-lead">{declaration.example}</div>
      <div className="text-xs text-soft">{declaration.explains}</div>
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

/** Measures that a general sentence may begin with. */
function byMeasure(general: Declaration, declarations: Declarations): Declaration[] {
  const left = general.params.find((param) => param.name === "left");
  return (left && declarations.families[left.family]?.items.filter((item) => item.id !== "number")) ?? [];
}
