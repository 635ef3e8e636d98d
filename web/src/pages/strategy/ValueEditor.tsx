import { Popover } from "radix-ui";
import { type FormEvent, useState } from "react";
import { Refusal } from "../../api/client";
import type { Document } from "../../api/queries";
import { type Target, valueAt, withValue } from "./document";
import { ValueField } from "./ValueField";

interface Props {
  document: Document;
  target: Target;
  sentence: number;
  text: string;
  save: (document: Document) => Promise<unknown>;
}

type Values = Record<string, unknown>;

/** A value in a sentence: a button that opens its small editor in place. */
export function ValueEditor({ document, target, sentence, text, save }: Props) {
  const [open, setOpen] = useState(false);
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="value" aria-label={`${text}, change`}>
        {text}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          className="popover w-77.5 p-3.5"
          align="start"
          sideOffset={6}
          collisionPadding={12}
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
            save={save}
            close={() => setOpen(false)}
          />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function EditorForm({ document, target, sentence, text, save, close }: Props & { close: () => void }) {
  const isPick = target.picks.length > 0;
  const [declaration, setDeclaration] = useState(target.declaration);
  const [values, setValues] = useState<Values>(() => ({ ...(valueAt(document, target.base) as Values) }));
  const [begun] = useState(() => JSON.stringify(valueAt(document, target.base)));
  const theirs = JSON.stringify(valueAt(document, target.base)) !== begun;
  const [error, setError] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const shown = isPick
    ? declaration.params
    : declaration.params.filter((param) => param.name === target.name);

  function choose(id: string) {
    const next = target.picks.find((pick) => pick.id === id)!;
    setDeclaration(next);
    // a value goes along where it means the same
    const means = (p: (typeof next.params)[number]) => `${p.name} ${p.kind} ${p.unit}`;
    const before = new Set(declaration.params.map(means));
    const kept = (p: (typeof next.params)[number]) => (before.has(means(p)) ? values[p.name] : undefined);
    setValues(Object.fromEntries(next.params.map((p) => [p.name, kept(p) ?? p.default])));
  }

  async function submit(event: FormEvent) {
    event.preventDefault();
    setBusy(true);
    setError(null);
    const changed = isPick
      ? withValue(document, target.base, {
          pick: declaration.id,
          ...Object.fromEntries(declaration.params.map((p) => [p.name, values[p.name] ?? p.default])),
        })
      : withValue(document, `${target.base}/${target.name}`, values[target.name]);
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
        <b className="font-semibold">{target.title}</b>
        <span className="text-xs text-soft">sentence {sentence}</span>
      </div>
      {theirs && (
        <p role="alert" className="text-loss">
          Meanwhile it was changed elsewhere and reads “{text}” now. What you typed is still here; changing it
          replaces that, Escape leaves it.
        </p>
      )}
      {isPick && (
        <fieldset className="flex flex-wrap gap-1" aria-label="Way of choosing">
          {target.picks.map((pick) => (
            <button
              key={pick.id}
              type="button"
              className="pill"
              aria-pressed={pick.id === declaration.id}
              onClick={() => choose(pick.id)}
            >
              {pick.title}
            </button>
          ))}
        </fieldset>
      )}
      {shown.map((param, i) => (
        <ValueField
          key={`${declaration.id}${param.name}`}
          param={param}
          value={values[param.name]}
          focus={isPick ? param.name === target.name || i === 0 : true}
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
