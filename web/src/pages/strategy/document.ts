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

/** Whether a list of the document has a sentence of a kind. */
export const holds = (document: Document, path: string, rule: string) =>
  items(document, path).some((item) => item.rule === rule);

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

/** A new sentence at the end of its list; a later leg starts in the first one's expiration. */
export function added(document: Document, path: string, declaration: Declaration): Document {
  const expiry = items(document, path).length > 0 ? "same_expiration" : "nearest_days";
  const picks =
    declaration.id === "leg" ? { strike: { pick: "nearest_delta" }, expiry: { pick: expiry } } : {};
  return changed(document, path, (list) => list.push({ rule: declaration.id, ...picks }));
}

/** What is edited at a token's path: a value of the sentence, or a whole pick of a leg. */
export interface Target {
  /** Path of the mapping that holds the values. */
  base: string;
  /** The value that was clicked. */
  name: string;
  declaration: Declaration;
  /** Other picks that may stand here instead. */
  picks: Declaration[];
  title: string;
}

export function targetOf(
  document: Document,
  declarations: Declarations,
  sentence: Sentence,
  path: string,
): Target | null {
  const parts = path.split("/");
  const name = parts.at(-1)!;
  const base = parts.slice(0, -1).join("/");
  const own = `${sentence.path}/${sentence.index}`;
  const kind = base === own ? null : parts.at(-2);
  if (kind === "strike" || kind === "expiry") {
    const picks = declarations.picks[kind];
    const current = valueAt(document, `${base}/pick`);
    const declaration = picks.find((pick) => pick.id === current);
    const title = `${kind === "strike" ? "Strike" : "Expiration"} of the ${valueAt(document, `${own}/right`)}`;
    return declaration ? { base, name, declaration, picks, title } : null;
  }
  const section = declarations.sections.find((item) => item.id === sentence.section);
  const declaration = section?.sentences.find((item) => item.id === sentence.rule);
  return declaration ? { base, name, declaration, picks: [], title: declaration.title } : null;
}
