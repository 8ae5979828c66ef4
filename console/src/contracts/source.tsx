// The text of a contract, with its words in colour and its findings where they are.

import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { Finding } from "../shared/api";

const keywords = new Set(
  [
    "contract language tick seats roles enum record const setting public secret audience shared entity",
    "part per like include request event action function from limit pause check deny drop strike expel",
    "else if for in where let var return reply tell everyone owner caller on spawn despawn start change",
    "join leave lost back every after to keep clamped once loose brief set by follows pace hold lease",
    "accept and or not true false nothing self reveal move give log attached without within nearest all",
    "count sum type strikes grace step small wrapping slotted burst when tables result",
  ].flatMap((line) => line.split(" ")),
);
const types = new Set(
  "int real bool text vec2 vec3 direction rotation time instant stacks list map client kind entity".split(" "),
);

// kam tells the words of the contract language apart, as far as colours go.
const kam = StreamLanguage.define({
  name: "kam",
  token(stream) {
    if (stream.eatSpace()) return null;
    if (stream.match("//")) {
      stream.skipToEnd();
      return "comment";
    }
    if (stream.match(/^"[^"\n]*"?/)) return "string";
    if (stream.match(/^\d+(\.\d+)?(ms|s|min|h|m)?/)) return "number";
    const word = stream.match(/^[A-Za-z_]\w*/) as RegExpMatchArray | null;
    if (word) {
      if (types.has(word[0])) return "typeName";
      if (keywords.has(word[0])) return "keyword";
      return /^[A-Z]/.test(word[0]) ? "className" : "variableName";
    }
    stream.next();
    return null;
  },
});

const colours = HighlightStyle.define([
  { tag: tags.comment, color: "var(--muted)", fontStyle: "italic" },
  { tag: tags.keyword, color: "var(--act)", fontWeight: "600" },
  { tag: tags.typeName, color: "var(--note)" },
  { tag: tags.className, color: "var(--ink)", fontWeight: "600" },
  { tag: tags.string, color: "var(--good)" },
  { tag: tags.number, color: "var(--warn)" },
]);

const theme = EditorView.theme({
  "&": { height: "100%", backgroundColor: "var(--paper)", color: "var(--ink)", fontSize: "12px" },
  ".cm-scroller": { fontFamily: "var(--font-mono, monospace)", lineHeight: "18px" },
  ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--muted)", border: "none" },
  ".cm-line-chosen": { backgroundColor: "color-mix(in srgb, var(--act) 14%, var(--paper))" },
  ".cm-tooltip": { backgroundColor: "var(--raised)", color: "var(--ink)", border: "1px solid var(--line)" },
});

export default function Source(props: { text: string; name: string; findings: Finding[]; line: number }) {
  const { text, name, findings, line } = props;
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  useEffect(() => {
    const editor = new EditorView({
      parent: place.current as HTMLDivElement,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          lintGutter(),
          kam,
          syntaxHighlighting(colours),
          theme,
          EditorState.readOnly.of(true),
          EditorView.contentAttributes.of({ "aria-label": `Text of ${name}`, tabindex: "0" }),
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, [text, name]);
  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const list: Diagnostic[] = findings
      .filter((f) => f.line <= editor.state.doc.lines)
      .map((f) => {
        const from = editor.state.doc.line(f.line).from + f.column - 1;
        return {
          from,
          to: Math.min(from + f.length, editor.state.doc.length),
          severity: f.warning ? "warning" : "error",
          message: `${f.message}${f.hint ? `\n${f.hint}` : ""}`,
        };
      });
    editor.dispatch(setDiagnostics(editor.state, list));
  }, [text, findings]);
  useEffect(() => {
    const editor = view.current;
    if (!editor || line < 1 || line > editor.state.doc.lines) return;
    const at = editor.state.doc.line(line);
    editor.dispatch({
      selection: { anchor: at.from, head: at.to },
      effects: EditorView.scrollIntoView(at.from, { y: "center" }),
    });
  }, [text, line]);
  return <div ref={place} className="h-full overflow-hidden" />;
}
