import { Popover } from "radix-ui";
import { type FormEvent, useRef, useState } from "react";
import { Refusal } from "../../api/client";
import { useSeriesNames } from "../../api/data";
import type { Document } from "../../api/queries";
import { Chooser } from "./Chooser";
import { naming, type Reference, type Target, valueAt, withoutPiece, withValue } from "./document";
import { ValueField } from "./ValueField";

interface Props {
  document: Document;
  target: Target;
  sentence: number;
  text: string;
  /** Where stands what was added to the sentence and can be left out again; empty: this belongs to it. */
  piece: string;
  /** What a value may name. */
  legs: Reference[];
  save: (document: Document) => Promise<unknown>;
}

type Values = Record<string, unknown>;

/** A value in a sentence: a button that opens its small editor in place. */
export function ValueEditor({ document, target, sentence, text, piece, legs, save }: Props) {
  const [open, setOpen] = useState(false);
  const trigger = useRef<HTMLButtonElement>(null);
  const line = useRef<Element | null>(null);
  // the sentence may read otherwise now: what stood here is gone, the focus stays in the sentence
  function back(event: Event) {
    event.preventDefault();
    const id = line.current?.getAttribute("data-sentence");
    const there = id ? window.document.querySelector(`[data-sentence="${CSS.escape(id)}"]`) : null;
    const to = trigger.current?.isConnected ? trigger.current : there?.querySelector("button");
    to?.focus();
  }
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger ref={trigger} className="value" aria-label={`${text}, change`}>
        {text}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          className="popover max-h-(--radix-popover-content-available-height) w-77.5 overflow-auto p-3.5"
          align="start"
          sideOffset={6}
          collisionPadding={12}
          onOpenAutoFocus={() => {
            line.current = trigger.current?.closest("[data-sentence]") ?? null;
          }}
          onCloseAutoFocus={back}
          onInteractOutside={(event) => {
            // signing in again is no way out of it
            const at = event.detail.originalEvent.target;
            if (at instanceof Element && at.closest("[data-door]")) event.preventDefault();
          }}
          aria-label={`Change ${target.title}`}
        >
          <EditorForm
            document={document}
            target={target}
            sentence={sentence}
            text={text}
            piece={piece}
            legs={legs}
            save={save}
            close={() => setOpen(false)}
          />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function EditorForm({
  document,
  target,
  sentence,
  text,
  piece,
  legs,
  save,
  close,
}: Props & { close: () => void }) {
  const chooses = target.others.length > 0;
  const [declaration, setDeclaration] = useState(target.declaration);
  const [values, setValues] = useState<Values>(() => ({ ...(valueAt(document, target.base) as Values) }));
  const [begun] = useState(() => JSON.stringify(valueAt(document, target.base)));
  const theirs = JSON.stringify(valueAt(document, target.base)) !== begun;
  const [error, setError] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const symbols = document.underlyings as string[];
  const series = useSeriesNames();
  const entries = (document.entries as { id: string }[]).map((entry) => entry.id);
  const references: Record<string, Record<string, string>> = {
    entry: Object.fromEntries(entries.map((name) => [name, name])),
    leg: Object.fromEntries(legs.map((leg) => [leg.id, leg.text])),
    series: Object.fromEntries(series.map((name) => [name, name])),
    underlying: Object.fromEntries([["", "its own"], ...symbols.map((symbol) => [symbol, symbol])]),
  };
  // values within a value are changed where they stand in the sentence
  const shown = declaration.params
    .filter((param) => (chooses ? param.editor !== "value" : param.name === target.name))
    .filter((param) => param.kind !== "underlying" || symbols.length > 1)
    .map((param) =>
      param.editor === "reference" ? { ...param, choices: references[param.kind] ?? {} } : param,
    );

  function choose(id: string) {
    const next = target.others.find((one) => one.id === id)!;
    setDeclaration(next);
    // a value goes along where it means the same
    const means = (p: (typeof next.params)[number]) => `${p.name} ${p.kind} ${p.unit}`;
    const before = new Set(declaration.params.map(means));
    const kept = (p: (typeof next.params)[number]) => (before.has(means(p)) ? values[p.name] : undefined);
    const first = legs.map((leg) => leg.id);
    const begins = (p: (typeof next.params)[number]) =>
      p.kind === "leg"
        ? (first[0] ?? "")
        : p.kind === "series"
          ? (series[0] ?? "")
          : naming(p.default, first, series[0]);
    setValues(Object.fromEntries(next.params.map((p) => [p.name, kept(p) ?? begins(p)])));
  }

  async function submit(event: FormEvent) {
    event.preventDefault();
    setError(null);
    const told = declaration.params.map((p) => [p.name, values[p.name] ?? p.default] as const);
    const changed = chooses
      ? withValue(document, target.base, {
          [target.key]: declaration.id,
          ...Object.fromEntries(told.filter(([, value]) => value !== null && value !== "")),
        })
      : withValue(document, `${target.base}/${target.name}`, values[target.name]);
    await send(changed);
  }

  async function send(changed: Document) {
    setBusy(true);
    try {
      await save(changed);
      close();
    } catch (problem) {
      setError(problem);
      setBusy(false);
    }
  }

  const problems = error instanceof Refusal ? error.problems : [];
  const own = (name: string) => problems.find((p) => p.path === `${target.base}/${name}`)?.message;
  const others = error && !shown.some((param) => own(param.name));
  return (
    <form onSubmit={submit} className="flex flex-col gap-3">
      <div className="flex justify-between">
        <b className="font-semibold">{target.key === "measure" ? declaration.title : target.title}</b>
        <span className="text-xs text-soft">sentence {sentence}</span>
      </div>
      {theirs && (
        <p role="alert" className="text-loss">
          Meanwhile it was changed elsewhere and reads “{text}” now. What you typed is still here; changing it
          replaces that, Escape leaves it.
        </p>
      )}
      {chooses && (
        <Chooser label="Way of choosing" chosen={declaration} others={target.others} choose={choose} />
      )}
      {shown.map((param, i) => (
        <ValueField
          key={`${declaration.id}${param.name}`}
          param={param}
          value={values[param.name] ?? param.default}
          focus={chooses ? param.name === target.name || i === 0 : true}
          problem={own(param.name)}
          onChange={(value) => setValues({ ...values, [param.name]: value })}
        />
      ))}
      {others ? (
        <p role="alert" className="text-loss">
          {error instanceof Error ? error.message : String(error)}
        </p>
      ) : null}
      <p className="border-t pt-2 text-xs text-soft">{declaration.explains}</p>
      <div className="flex justify-end gap-2">
        {piece && (
          <button
            type="button"
            className="link mr-auto"
            disabled={busy}
            onClick={() => send(withoutPiece(document, piece))}
          >
            Leave it out
          </button>
        )}
        <button type="button" className="button small" onClick={close}>
          Keep as it was
        </button>
        <button type="submit" className="button primary small" disabled={busy}>
          Change
        </button>
      </div>
    </form>
  );
}
