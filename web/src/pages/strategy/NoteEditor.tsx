import { type FormEvent, useState } from "react";
import type { Document } from "../../api/queries";
import { type Sentence, withNote } from "./document";

interface Props {
  document: Document;
  sentence: Sentence;
  save: (document: Document) => Promise<unknown>;
  close: () => void;
}

export function NoteEditor({ document, sentence, save, close }: Props) {
  const [note, setNote] = useState(sentence.note);
  function submit(event: FormEvent) {
    event.preventDefault();
    save(withNote(document, sentence, note.trim())).then(close, () => {});
  }
  return (
    <form onSubmit={submit} className="my-1 flex gap-2 font-sans">
      <input
        className="field h-6 flex-1"
        aria-label={`Note on sentence ${sentence.number}`}
        autoFocus
        maxLength={500}
        value={note}
        onChange={(event) => setNote(event.target.value)}
        onKeyDown={(event) => event.key === "Escape" && close()}
      />
      <button type="submit" className="button small">
        Keep
      </button>
    </form>
  );
}
