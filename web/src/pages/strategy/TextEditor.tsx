import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorView } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { basicSetup } from "codemirror";
import { useEffect, useRef } from "react";
import type { Problem } from "../../api/client";

interface Props {
  text: string;
  problems: Problem[];
  onChange: (text: string) => void;
}

const look = EditorView.theme({
  "&": { fontSize: "13px", background: "transparent", color: "var(--ink)" },
  ".cm-gutters": { background: "var(--shade)", color: "var(--soft)", border: "none" },
  ".cm-activeLine, .cm-activeLineGutter": { background: "color-mix(in srgb, var(--mark) 45%, transparent)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
});

const inks = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--sea)" },
  { tag: [tags.string, tags.content], color: "var(--ink)" },
  { tag: [tags.number, tags.bool], color: "var(--gain)" },
  { tag: [tags.comment, tags.punctuation, tags.separator], color: "var(--soft)" },
]);

export default function TextEditor({ text, problems, onChange }: Props) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const changed = useRef(onChange);
  changed.current = onChange;

  useEffect(() => {
    const made = new EditorView({
      doc: text,
      parent: place.current!,
      extensions: [
        basicSetup,
        yaml(),
        syntaxHighlighting(inks),
        lintGutter(),
        look,
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ "aria-label": "Strategy as text" }),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) changed.current(update.state.doc.toString());
        }),
      ],
    });
    view.current = made;
    return () => made.destroy();
  }, [text]);

  useEffect(() => {
    const made = view.current;
    if (!made) return;
    const found = problems
      .filter((problem) => problem.line)
      .map((problem) => {
        const line = made.state.doc.line(Math.min(problem.line!, made.state.doc.lines));
        return { from: line.from, to: line.to, severity: "error" as const, message: problem.message };
      });
    made.dispatch(setDiagnostics(made.state, found));
  }, [problems]);

  return <div ref={place} />;
}
