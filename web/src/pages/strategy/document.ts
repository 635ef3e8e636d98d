/** Edits of a strategy document as plain data; the server checks the result. */
import type { Schemas } from "../../api/client";
import type { Document } from "../../api/queries";

export type Sentence = Schemas["SentenceOut"];
export type Declaration = Schemas["DeclarationOut"];
export type Declarations = Schemas["DeclarationsOut"];
type Item = Record<string, unknown> & { id?: string; off?: boolean; note?: string };

export type Block = Schemas["BlockOut"];

function items(document: Document, path: string): Item[] {
  return valueAt(document, path) as Item[];
}

function changed(document: Document, path: string, edit: (list: Item[]) => void): Document {
  const copy = structuredClone(document);
  edit(items(copy, path));
  return copy;
}

/** The value at a path like "entries/0/legs/0/strike/delta". */
export function valueAt(document: Document, path: string): unknown {
  return path
    .split("/")
    .reduce<unknown>((at, part) => (at as Record<string, unknown> | undefined)?.[part], document);
}

export function withValue(document: Document, path: string, value: unknown): Document {
  const copy = structuredClone(document);
  const parts = path.split("/");
  const last = parts.pop()!;
  const holder = parts.reduce<unknown>((at, part) => (at as Record<string, unknown>)[part], copy);
  (holder as Record<string, unknown>)[last] = value;
  return copy;
}

export const switched = (document: Document, { path, index }: Sentence) =>
  changed(document, path, (list) => {
    list[index]!.off = !list[index]!.off;
  });

export const withNote = (document: Document, { path, index }: Sentence, note: string) =>
  changed(document, path, (list) => {
    if (note) list[index]!.note = note;
    else delete list[index]!.note;
  });

/** What may be added to a sentence: values that it has not yet, and one more of what it has several of. */
export function addable(document: Document, { path, index }: Sentence, declaration: Declaration) {
  const item = items(document, path)[index]!;
  return declaration.params.filter(
    (param) => param.optional && param.begins !== null && (!item[param.name] || Array.isArray(param.begins)),
  );
}

export const withMore = (
  document: Document,
  { path, index }: Sentence,
  param: Declaration["params"][number],
  legs: string[],
) =>
  changed(document, path, (list) => {
    const begins = naming(param.begins, legs);
    const there = list[index]![param.name];
    list[index]![param.name] = Array.isArray(there) && Array.isArray(begins) ? [...there, ...begins] : begins;
  });

/** Without what was added to a sentence at a path; the last of several takes the list with it. */
export function withoutPiece(document: Document, piece: string): Document {
  const copy = structuredClone(document);
  const parts = piece.split("/");
  const last = parts.pop()!;
  const holder = valueAt(copy, parts.join("/"));
  if (!Array.isArray(holder)) delete (holder as Record<string, unknown>)[last];
  else if (holder.length > 1) holder.splice(Number(last), 1);
  else return withoutPiece(document, parts.join("/"));
  return copy;
}

type Entry = { id: string; underlying?: string };

const entriesOf = (document: Document) => document.entries as Entry[];

/** Which of the document's entries a section of the sheet is of. */
export const entryAt = (block: Block) => Number(Object.values(block.lists)[0]!.split("/")[1]);

function ofEntries(document: Document, edit: (entries: Entry[]) => void): Document {
  const copy = structuredClone(document);
  edit(entriesOf(copy));
  return copy;
}

/** An entry under another name, with every sentence that names it. */
export function renamedEntry(
  document: Document,
  place: number,
  id: string,
  declarations: Declarations,
): Document {
  const copy = structuredClone(document);
  const entries = entriesOf(copy);
  const before = entries[place]!.id;
  entries[place]!.id = id;
  for (const declaration of declarations.sections.flatMap((section) => section.sentences)) {
    const naming = declaration.params.filter((param) => param.kind === "entry");
    const part = declaration.part;
    for (const holder of [copy, ...entries] as Record<string, unknown>[])
      for (const item of (holder[part] ?? []) as Item[])
        for (const param of item.rule === declaration.id ? naming : [])
          if (item[param.name] === before) item[param.name] = id;
  }
  return copy;
}

export const withoutEntry = (document: Document, place: number) =>
  ofEntries(document, (entries) => entries.splice(place, 1));

/** An entry trades the first underlying unless it says otherwise. */
function trades(entry: Entry, symbol: string, symbols: string[]) {
  if (symbol === symbols[0]) delete entry.underlying;
  else entry.underlying = symbol;
}

export const tradedBy = (document: Document, place: number, symbol: string) =>
  ofEntries(document, (entries) => trades(entries[place]!, symbol, document.underlyings as string[]));

/** Entries that trade an underlying. */
export const tradersOf = (document: Document, symbol: string) =>
  entriesOf(document)
    .filter((entry) => (entry.underlying ?? (document.underlyings as string[])[0]) === symbol)
    .map((entry) => entry.id);

/** Underlyings that entries trade beside the first. */
export const tradedBeside = (document: Document) =>
  (document.underlyings as string[]).slice(1).filter((symbol) => tradersOf(document, symbol).length > 0);

/** Other underlyings, the one whose snapshots are the clock first; every entry goes on trading what it trades. */
export function withUnderlyings(document: Document, symbols: string[]): Document {
  const before = (document.underlyings as string[])[0]!;
  const copy = ofEntries(document, (entries) => {
    for (const entry of entries) trades(entry, entry.underlying ?? before, symbols);
  });
  copy.underlyings = symbols;
  return copy;
}

export const removed = (document: Document, { path, index }: Sentence) =>
  changed(document, path, (list) => list.splice(index, 1));

export const doubled = (document: Document, { path, index }: Sentence) =>
  changed(document, path, (list) => {
    const { id: _, ...rest } = structuredClone(list[index]!);
    list.splice(index + 1, 0, rest);
  });

export function moved(document: Document, { path, index }: Sentence, by: number): Document {
  return changed(document, path, (list) => {
    const [item] = list.splice(index, 1);
    list.splice(Math.max(0, Math.min(list.length, index + by)), 0, item!);
  });
}

/** A sentence at the end of a list. */
export const inserted = (document: Document, path: string, item: Item) =>
  changed(document, path, (list) => list.push(item));

/** A value in which every leg that is not named yet is the first one. */
export function naming(value: unknown, legs: string[], series = ""): unknown {
  if (Array.isArray(value)) return value.map((item) => naming(item, legs, series));
  if (value === null || typeof value !== "object") return value;
  return Object.fromEntries(
    Object.entries(value).map(([key, item]) => [
      key,
      key === "leg" && item === ""
        ? (legs[0] ?? "")
        : key === "series" && item === ""
          ? series
          : naming(item, legs, series),
    ]),
  );
}

export interface Reference {
  id: string;
  text: string;
}

/** Legs that a sentence may name: those of its entry, of all where it is the whole strategy's. */
export const legsOf = (sheet: Sentence[], entry: string): Reference[] =>
  sheet
    .filter((item) => item.part === "legs" && !item.off && (entry === "" || item.entry === entry))
    .map((item) => ({ id: item.id, text: `leg ${item.number}` }));

/** What is edited at a token's path: a value of the sentence, or a whole pick of a leg. */
export interface Target {
  /** Path of the mapping that holds the values. */
  base: string;
  /** The value that was clicked. */
  name: string;
  declaration: Declaration;
  /** Others that may stand here instead, and the key that says which of them does; none: the sentence's own value. */
  others: Declaration[];
  key: string;
  title: string;
}

export function targetOf(
  document: Document,
  declarations: Declarations,
  sentence: Sentence,
  token: Sentence["tokens"][number],
): Target | null {
  const parts = token.path.split("/");
  const name = parts.at(-1)!;
  const base = parts.slice(0, -1).join("/");
  const family = declarations.families[token.family];
  if (family) {
    const declaration = family.items.find((item) => item.id === token.of);
    const own = `${sentence.path}/${sentence.index}`;
    const what = { strike: "Strike", expiry: "Expiration" }[token.family];
    const title = what ? `${what} of the ${valueAt(document, `${own}/right`)}` : (declaration?.title ?? "");
    return declaration ? { base, name, declaration, others: family.items, key: family.key, title } : null;
  }
  const section = declarations.sections.find((item) => item.id === sentence.section);
  const declaration = section?.sentences.find((item) => item.id === sentence.rule);
  return declaration ? { base, name, declaration, others: [], key: "", title: declaration.title } : null;
}
