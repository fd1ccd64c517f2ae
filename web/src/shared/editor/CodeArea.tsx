import {
  acceptCompletion,
  autocompletion,
  type CompletionContext,
  completionKeymap,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { highlightSelectionMatches, searchKeymap } from "@codemirror/search";
import { Compartment, EditorState, type Extension } from "@codemirror/state";
import { EditorView, keymap, lineNumbers, placeholder } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useImperativeHandle, useRef } from "react";
import type { Offer } from "./offers";
import { type CodeProps, placeOf } from "./places";

// Nothing is coloured but what can be pressed and what is wrong: names are heavy, comments quiet.
const words = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], fontWeight: "600" },
  { tag: tags.comment, color: "var(--chakra-colors-quiet)" },
]);

const look = EditorView.theme({
  "&": {
    fontSize: "13px",
    color: "var(--chakra-colors-ink)",
    backgroundColor: "var(--chakra-colors-sheet)",
    border: "1px solid var(--chakra-colors-quiet)",
    borderRadius: "2px",
  },
  "&.cm-focused": { outline: "2px solid var(--chakra-colors-accent)", outlineOffset: "1px" },
  ".cm-scroller": { fontFamily: "var(--chakra-fonts-mono)", lineHeight: "18px" },
  ".cm-content": { caretColor: "var(--chakra-colors-ink)" },
  ".cm-cursor": { borderLeftColor: "var(--chakra-colors-ink)" },
  ".cm-gutters": {
    backgroundColor: "var(--chakra-colors-sunken)",
    color: "var(--chakra-colors-quiet)",
    border: "none",
  },
  ".cm-placeholder": { color: "var(--chakra-colors-quiet)" },
  ".cm-tooltip": {
    backgroundColor: "var(--chakra-colors-sheet)",
    color: "var(--chakra-colors-ink)",
    border: "1px solid var(--chakra-colors-quiet)",
  },
  ".cm-tooltip.cm-tooltip-autocomplete > ul > li[aria-selected]": {
    backgroundColor: "var(--chakra-colors-accent)",
    color: "var(--chakra-colors-accentInk)",
  },
  ".cm-tooltip.cm-tooltip-autocomplete > ul": { fontFamily: "var(--chakra-fonts-mono)", fontSize: "13px" },
  ".cm-completionDetail": { fontStyle: "normal", fontFamily: "var(--chakra-fonts-body)" },
  ".cm-completionIcon": { display: "none" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": {
    backgroundColor: "var(--chakra-colors-calm) !important",
  },
});

/** A condition is one line: what is pasted with line ends becomes one. */
const single = EditorState.transactionFilter.of((t) =>
  t.newDoc.lines > 1
    ? [
        t,
        {
          changes: { from: 0, to: t.newDoc.length, insert: t.newDoc.toString().replace(/\s*\n\s*/g, " ") },
          sequential: true,
        },
      ]
    : t,
);

/** The editor itself; it is loaded once one is shown. */
export default function CodeArea(props: CodeProps) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const now = useRef(props);
  now.current = props;
  const { value, problems, oneLine, label, empty, height } = props;
  // biome-ignore lint/correctness/useExhaustiveDependencies: it is made once; what changes later is passed on below
  useEffect(() => {
    const offered = (context: CompletionContext) => {
      const typed = context.matchBefore(/[\p{L}\p{N}_]*/u);
      const at = typed?.from ?? context.pos;
      if (at === context.pos && !context.explicit) {
        return null;
      }
      const options: Offer[] = now.current.offers(context.state.doc.toString(), at);
      return options.length > 0
        ? {
            from: at,
            options: options.map((o) => ({ label: o.text, detail: o.says })),
            validFor: /^[\p{L}\p{N}_]*$/u,
          }
        : null;
    };
    const enter: Extension = keymap.of([
      {
        key: "Enter",
        run: () => {
          if (now.current.onEnter) {
            now.current.onEnter();
            return true;
          }
          return false;
        },
      },
    ]);
    const labelled = new Compartment();
    const made = new EditorView({
      parent: host.current ?? undefined,
      state: EditorState.create({
        doc: value,
        extensions: [
          autocompletion({ override: [offered], icons: false }),
          keymap.of([{ key: "Tab", run: acceptCompletion }, ...completionKeymap]),
          oneLine ? [single, enter] : [lineNumbers(), lintGutter(), yaml(), highlightSelectionMatches()],
          history(),
          keymap.of([...historyKeymap, ...(oneLine ? [] : searchKeymap), ...defaultKeymap]),
          syntaxHighlighting(words),
          look,
          placeholder(empty ?? ""),
          labelled.of(
            EditorView.contentAttributes.of({ "aria-label": label, spellcheck: "false", tabindex: "0" }),
          ),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) {
              now.current.onChange(u.state.doc.toString());
            }
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
  }, []);
  useEffect(() => {
    const made = view.current;
    if (made && made.state.doc.toString() !== value) {
      made.dispatch({ changes: { from: 0, to: made.state.doc.length, insert: value } });
    }
  }, [value]);
  useEffect(() => {
    const made = view.current;
    if (made) {
      const text = made.state.doc.toString();
      made.dispatch(
        setDiagnostics(
          made.state,
          problems.map((p) => {
            const from = placeOf(text, p.line, p.column);
            const word = /^[^\s,{}[\]]+/.exec(text.slice(from))?.[0].length ?? 0;
            return { from, to: from + word, severity: "error", message: p.message };
          }),
        ),
      );
    }
  }, [problems]);
  useImperativeHandle(props.hand, () => ({
    goTo: (line, column) => {
      const made = view.current;
      if (made) {
        const at = placeOf(made.state.doc.toString(), line, column);
        made.focus();
        made.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: "center" }) });
      }
    },
  }));
  return (
    <div ref={host} className="scrolls code" style={height ? { height, overflow: "hidden" } : undefined} />
  );
}
