import { autocompletion, type CompletionContext, closeBrackets, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { bracketMatching, foldGutter, HighlightStyle, indentOnInput, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, lintGutter, lintKeymap, setDiagnostics } from "@codemirror/lint";
import { unifiedMergeView } from "@codemirror/merge";
import { highlightSelectionMatches, searchKeymap } from "@codemirror/search";
import { Compartment, EditorState } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { type ReactNode, useEffect, useRef } from "react";
import type { Overview, Remark } from "../worker/protocol.js";
import { placeIn, wordsAt } from "./completion.js";

interface EditorProps {
  readonly text: string;
  /** What the text is compared with, line by line; undefined for not. */
  readonly before: string | undefined;
  readonly remarks: readonly Remark[];
  /** The names that can be completed. */
  readonly overview: Overview;
  /** A line to go to. */
  readonly line: number | undefined;
  readonly onChange: (text: string) => void;
  readonly onSave: () => void;
  /** The line that the cursor is in, and the text's keys above it. */
  readonly onPlace: (path: readonly string[]) => void;
}

const colours = HighlightStyle.define([
  { tag: tags.propertyName, class: "tok-key" },
  { tag: tags.string, class: "tok-text" },
  { tag: tags.comment, class: "tok-remark" },
]);

const kinds = {
  table: "class",
  field: "property",
  role: "type",
  group: "type",
  action: "function",
  key: "keyword",
  word: "text",
};

/** The rules as a text, with completion of their names, and remarks where they stand. */
export function Editor(props: EditorProps): ReactNode {
  const { text, before, remarks, line } = props;
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(undefined);
  // What the editor calls is always what was given last.
  const given = useRef(props);
  const comparing = useRef(new Compartment());
  given.current = props;

  useEffect(() => {
    const complete = ({ state, pos, explicit }: CompletionContext) => {
      const at = placeIn(state.doc.toString(), pos);
      if (at.word === "" && !explicit) return null;
      const options = wordsAt(at, given.current.overview).map(({ label, kind }) => ({
        label,
        detail: kind,
        type: kinds[kind],
      }));
      return options.length === 0 ? null : { from: pos - at.word.length, options, validFor: /^[\w.-]*$/ };
    };
    const made = new EditorView({
      parent: place.current as HTMLDivElement,
      state: EditorState.create({
        doc: given.current.text,
        extensions: [
          lineNumbers(),
          foldGutter(),
          lintGutter(),
          history(),
          drawSelection(),
          indentOnInput(),
          bracketMatching(),
          closeBrackets(),
          highlightActiveLine(),
          highlightSelectionMatches(),
          EditorView.lineWrapping,
          yaml(),
          comparing.current.of([]),
          syntaxHighlighting(colours),
          autocompletion({ override: [complete] }),
          keymap.of([
            {
              key: "Mod-s",
              run: () => {
                given.current.onSave();
                return true;
              },
            },
            indentWithTab,
            ...completionKeymap,
            ...searchKeymap,
            ...historyKeymap,
            ...lintKeymap,
            ...defaultKeymap,
          ]),
          EditorView.contentAttributes.of({ "aria-label": "The rules" }),
          EditorView.updateListener.of(({ docChanged, selectionSet, state }) => {
            if (docChanged) given.current.onChange(state.doc.toString());
            if (docChanged || selectionSet) {
              const { head } = state.selection.main;
              given.current.onPlace(placeIn(state.doc.toString(), state.doc.lineAt(head).to).path);
            }
          }),
        ],
      }),
    });
    // What scrolls can be reached by keyboard.
    made.scrollDOM.tabIndex = 0;
    view.current = made;
    return () => made.destroy();
  }, []);

  // A text from elsewhere, such as a copied rule, comes in as one change that can be undone; the cursor goes to it.
  useEffect(() => {
    const editor = view.current;
    if (editor === undefined || editor.state.doc.toString() === text) return;
    const was = editor.state.doc.toString();
    let from = 0;
    while (from < was.length && was[from] === text[from]) from++;
    let [end, newEnd] = [was.length, text.length];
    while (end > from && newEnd > from && was[end - 1] === text[newEnd - 1]) [end, newEnd] = [end - 1, newEnd - 1];
    editor.dispatch({
      changes: { from, to: end, insert: text.slice(from, newEnd) },
      selection: { anchor: from, head: newEnd },
      effects: EditorView.scrollIntoView(from, { y: "center" }),
    });
  }, [text]);

  useEffect(() => {
    const shown =
      before === undefined ? [] : unifiedMergeView({ original: before, mergeControls: false, collapseUnchanged: {} });
    view.current?.dispatch({ effects: comparing.current.reconfigure(shown) });
  }, [before]);

  useEffect(() => {
    const editor = view.current;
    if (editor === undefined) return;
    const { doc } = editor.state;
    const found = remarks.map((remark): Diagnostic => {
      const row = doc.line(Math.min(Math.max(remark.line ?? 1, 1), doc.lines));
      const from = Math.min(row.from + Math.max((remark.column ?? 1) - 1, 0), row.to);
      const to = Math.max(
        from,
        Math.min(row.to, from + (/^[\w-]+/.exec(doc.sliceString(from, row.to))?.[0].length ?? 1)),
      );
      const hint = remark.hint === undefined ? "" : ` ${remark.hint}`;
      return { from, to, severity: remark.kind === "error" ? "error" : "warning", message: `${remark.message}${hint}` };
    });
    editor.dispatch(setDiagnostics(editor.state, found));
  }, [remarks]);

  useEffect(() => {
    const editor = view.current;
    if (editor === undefined || line === undefined) return;
    const row = editor.state.doc.line(Math.min(line, editor.state.doc.lines));
    editor.dispatch({ selection: { anchor: row.from }, effects: EditorView.scrollIntoView(row.from, { y: "center" }) });
    editor.focus();
  }, [line]);

  return <div ref={place} className="editor" />;
}
