import { useEffect, useRef, useState } from "react";
import { type Scene, useDescribe } from "../../api/replay";
import { ErrorNote } from "../../ui/parts";

const REST = 700;

/** Name and note of the session, kept as they are typed. */
export function Note({ scene }: { scene: Scene }) {
  const version = useRef(scene.version);
  const describe = useDescribe(scene.id, version);
  const [name, setName] = useState(scene.name);
  const [note, setNote] = useState(scene.note);
  const saved = useRef({ name: scene.name, note: scene.note });
  const write = useRef(describe.mutate);
  write.current = describe.mutate;
  const latest = useRef({ name, note });
  latest.current = { name, note };

  useEffect(() => {
    const keep = () => {
      const now = latest.current;
      if (now.name === saved.current.name && now.note === saved.current.note) return;
      write.current(now, {
        onSuccess: () => {
          saved.current = now;
        },
      });
    };
    if (name === saved.current.name && note === saved.current.note) return;
    const wait = setTimeout(keep, REST);
    window.addEventListener("pagehide", keep);
    return () => {
      clearTimeout(wait);
      window.removeEventListener("pagehide", keep);
    };
  }, [name, note]);
  useEffect(
    () => () => {
      const now = latest.current;
      if (now.name !== saved.current.name || now.note !== saved.current.note) write.current(now);
    },
    [],
  );

  const clean = name === saved.current.name && note === saved.current.note;
  return (
    <section className="card flex flex-col gap-2 px-3 py-2" aria-label="Note">
      <div className="flex items-baseline justify-between">
        <h2 className="font-sans font-semibold">Note</h2>
        <span className="text-xs text-soft" role="status">
          {describe.isError ? "not saved" : clean || describe.isSuccess ? "saved" : "saving…"}
        </span>
      </div>
      <input
        className="field"
        aria-label="Name of the session"
        maxLength={80}
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <textarea
        className="field h-32 resize-y py-1.5 font-serif text-lead"
        aria-label="Note on the session"
        placeholder="What happened, and what you would do next time"
        value={note}
        onChange={(event) => setNote(event.target.value)}
      />
      <ErrorNote error={describe.error} />
    </section>
  );
}
