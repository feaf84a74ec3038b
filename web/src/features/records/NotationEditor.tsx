import {
  autocompletion,
  completionKeymap,
  type CompletionContext,
  type CompletionResult,
} from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from '@codemirror/language';
import { lintKeymap, setDiagnostics, type Diagnostic } from '@codemirror/lint';
import { search, searchKeymap } from '@codemirror/search';
import { EditorState, RangeSetBuilder, StateEffect, StateField } from '@codemirror/state';
import {
  Decoration,
  EditorView,
  keymap,
  lineNumbers,
  ViewPlugin,
  WidgetType,
  type DecorationSet,
  type ViewUpdate,
} from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { useEffect, useImperativeHandle, useRef, type Ref } from 'react';
import styled, { useTheme } from 'styled-components';
import { api, ask, type Fault } from '../../api/client';
import { unaligned } from '../../ui/altered';
import { size } from '../../ui/theme';

const Host = styled.div`
  min-width: 0;
  overflow: hidden;
  background: ${(p) => p.theme.panel};
  .cm-editor {
    height: 100%;
    font-family: 'IBM Plex Mono', monospace;
    font-size: ${size.plain};
    outline: none;
  }
  .cm-scroller {
    font-family: inherit;
    line-height: 22px;
  }
  .cm-gutters {
    background: ${(p) => p.theme.panel};
    color: ${(p) => p.theme.ink2};
    border: 0;
    padding: 0 8px 0 16px;
    font-size: ${size.small};
  }
  .cm-content {
    caret-color: ${(p) => p.theme.ink};
    color: ${(p) => p.theme.ink};
    padding: 8px 0 60px;
  }
  .cm-cursor {
    border-left-color: ${(p) => p.theme.ink};
  }
  .cm-line {
    padding: 0 16px 0 8px;
    position: relative;
  }
  .cm-selectionBackground,
  .cm-focused .cm-selectionBackground {
    background: ${(p) => p.theme.shallowsHead} !important;
  }
  .cm-lintRange-error,
  .cm-lintRange-warning {
    background: none;
    text-decoration: underline dashed ${(p) => p.theme.magenta};
    text-underline-offset: 4px;
  }
  .cm-altered {
    box-shadow: inset 4px 0 0 ${(p) => p.theme.ink};
  }
  .cm-chosen {
    background: ${(p) => p.theme.shallowsHead};
  }
  .cm-caution {
    float: right;
    margin-left: 24px;
    color: ${(p) => p.theme.magenta};
    font:
      12px/22px 'IBM Plex Sans Variable',
      sans-serif;
    max-width: 46%;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    user-select: none;
  }
  .cm-caution[data-level='note'] {
    color: ${(p) => p.theme.ink2};
  }
  .cm-tooltip,
  .cm-panels {
    background: ${(p) => p.theme.panel};
    color: ${(p) => p.theme.ink};
    border: 1px solid ${(p) => p.theme.ink};
  }
  .cm-tooltip-autocomplete ul {
    font-family: 'IBM Plex Mono', monospace;
  }
  .cm-tooltip-autocomplete ul li {
    padding: 2px 10px !important;
  }
  .cm-tooltip-autocomplete ul li[aria-selected] {
    background: ${(p) => p.theme.shallowsHead};
    color: ${(p) => p.theme.ink};
  }
  .cm-completionDetail {
    color: ${(p) => p.theme.ink2};
    font-style: normal;
    margin-left: 1.5em;
  }
`;

interface Kind {
  word: string;
  leads: string[];
}

interface Mark {
  line: number;
  level: string;
  code: string;
  why: string;
}

export interface EditorHandle {
  setText: (text: string) => void;
  toKind: (kind: string) => void;
  toPlace: (line: number, column: number) => void;
  /** Goes to the first of some records, and marks them all until another is gone to. */
  toLines: (lines: string[]) => void;
}

interface Props {
  ref: Ref<EditorHandle>;
  text: string;
  kinds: Kind[];
  faults: Fault[];
  marks: Mark[];
  onChange: (text: string) => void;
  onSave: () => void;
  /** The records that are gone to. */
  onChosen: (lines: string[]) => void;
  /** The lines that are in force, where a draft is looked through: those that are not are marked. */
  inForce: ReadonlySet<string> | undefined;
}

const setMarks = StateEffect.define<Mark[]>();

class CautionWidget extends WidgetType {
  constructor(readonly mark: Mark) {
    super();
  }
  eq(other: CautionWidget) {
    return other.mark.why === this.mark.why && other.mark.level === this.mark.level;
  }
  toDOM() {
    const el = document.createElement('span');
    el.className = 'cm-caution';
    el.dataset.level = this.mark.level;
    el.textContent = this.mark.why;
    el.title = `${this.mark.code}: ${this.mark.why}`;
    return el;
  }
}

/** Findings at the end of the lines that they are about. */
const cautions = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(set, tr) {
    let next = set.map(tr.changes);
    for (const e of tr.effects) {
      if (!e.is(setMarks)) continue;
      const builder = new RangeSetBuilder<Decoration>();
      const seen = new Set<number>();
      for (const m of e.value) {
        if (m.line > tr.state.doc.lines || seen.has(m.line)) continue;
        seen.add(m.line);
        const line = tr.state.doc.line(m.line);
        builder.add(line.from, line.from, Decoration.widget({ widget: new CautionWidget(m), side: -1 }));
      }
      next = builder.finish();
    }
    return next;
  },
  provide: (f) => EditorView.decorations.from(f),
});

const setInForce = StateEffect.define<ReadonlySet<string> | undefined>();

const inForceField = StateField.define<ReadonlySet<string> | undefined>({
  create: () => undefined,
  update: (was, tr) => tr.effects.reduce((now, e) => (e.is(setInForce) ? e.value : now), was),
});

const setChosen = StateEffect.define<number[]>();
const chosenLine = Decoration.line({ class: 'cm-chosen' });

/** The lines that were chosen elsewhere, by where they begin, until one goes to another. */
const chosenField = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(set, tr) {
    for (const e of tr.effects) if (e.is(setChosen)) return Decoration.set(e.value.map((at) => chosenLine.range(at)));
    return tr.isUserEvent('select') ? Decoration.none : set.map(tr.changes);
  },
  provide: (f) => EditorView.decorations.from(f),
});

/** The records that are touched by what is selected. */
function linesAt(state: EditorState) {
  const { from, to } = state.selection.main;
  const lines: string[] = [];
  for (let at = from; at <= to;) {
    const line = state.doc.lineAt(at);
    const text = line.text.trim();
    if (text !== '' && !text.startsWith('#')) lines.push(unaligned(text));
    at = line.to + 1;
  }
  return lines;
}

const alteredLine = Decoration.line({ class: 'cm-altered', attributes: { title: 'not in force' } });

/** A bar at the lines in sight that are not in force. */
const alteredLines = ViewPlugin.fromClass(
  class {
    decorations: DecorationSet;
    constructor(view: EditorView) {
      this.decorations = this.mark(view);
    }
    update(u: ViewUpdate) {
      if (u.docChanged || u.viewportChanged || u.startState.field(inForceField) !== u.state.field(inForceField))
        this.decorations = this.mark(u.view);
    }
    mark({ state, visibleRanges }: EditorView) {
      const builder = new RangeSetBuilder<Decoration>();
      const inForce = state.field(inForceField);
      for (const { from, to } of inForce ? visibleRanges : []) {
        for (let at = from; at <= to;) {
          const line = state.doc.lineAt(at);
          if (!inForce?.has(unaligned(line.text))) builder.add(line.from, line.from, alteredLine);
          at = line.to + 1;
        }
      }
      return builder.finish();
    }
  },
  { decorations: (v) => v.decorations },
);

/** Notation by its words: a kind, the words that open fields, texts and comments. */
function language(kinds: Kind[]) {
  const leads = new Map(kinds.map((k) => [k.word, new Set(k.leads)]));
  return StreamLanguage.define<{ kind: string }>({
    startState: () => ({ kind: '' }),
    token(stream, state) {
      if (stream.sol()) state.kind = '';
      if (stream.eatSpace()) return null;
      if (stream.peek() === '#') {
        stream.skipToEnd();
        return 'comment';
      }
      if (stream.match(/^"(?:\\.|[^"\\])*"?/)) return 'string';
      const word = stream.match(/^\S+/);
      const text = Array.isArray(word) ? word[0].toLowerCase() : '';
      if (state.kind === '') {
        state.kind = text || ' ';
        return leads.has(text) ? 'keyword' : 'invalid';
      }
      return leads.get(state.kind)?.has(text) || text === 'at' ? 'lead' : null;
    },
    tokenTable: { lead: tags.modifier },
  });
}

async function complete(context: CompletionContext): Promise<CompletionResult | null> {
  const line = context.state.doc.lineAt(context.pos);
  const before = line.text.slice(0, context.pos - line.from);
  if (!context.explicit && /[\s,]$/.test(before) === false && !/\S$/.test(before)) return null;
  const cursor = new TextEncoder().encode(before).length;
  try {
    const got = await ask(api.POST('/api/line', { body: { line: line.text, cursor } }));
    const head = new TextDecoder().decode(new TextEncoder().encode(line.text).slice(0, got.completion.from));
    if (got.completion.words.length === 0) return null;
    return {
      from: line.from + head.length,
      options: got.completion.words.map((w) => ({ label: w.text, detail: w.detail })),
      filter: false,
    };
  } catch {
    return null; // completion is a help, not a need
  }
}

/** An editor for estate notation. Its text is its own once it is shown; `text` follows the store while nothing is typed. */
export function NotationEditor({ ref, text, kinds, faults, marks, inForce, onChange, onSave, onChosen }: Props) {
  const theme = useTheme();
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const latest = useRef({ onChange, onSave, onChosen });
  const initial = useRef(text);
  useEffect(() => {
    latest.current = { onChange, onSave, onChosen };
  });

  useEffect(() => {
    if (!host.current) return;
    const style = HighlightStyle.define([
      { tag: tags.keyword, fontWeight: '600' },
      { tag: tags.modifier, color: theme.ink2 },
      { tag: tags.comment, color: theme.ink2, fontStyle: 'italic' },
      { tag: tags.string, color: theme.ink },
      { tag: tags.invalid, color: theme.magenta },
    ]);
    const made = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: view.current ? view.current.state.doc : initial.current,
        extensions: [
          lineNumbers(),
          EditorView.lineWrapping,
          history(),
          language(kinds),
          syntaxHighlighting(style),
          cautions,
          inForceField,
          alteredLines,
          chosenField,
          search({ top: true }),
          autocompletion({ override: [complete], icons: false }),
          keymap.of([
            { key: 'Mod-s', preventDefault: true, run: () => (latest.current.onSave(), true) },
            ...completionKeymap,
            ...lintKeymap,
            ...historyKeymap,
            ...searchKeymap,
            ...defaultKeymap,
          ]),
          EditorView.contentAttributes.of({ 'aria-label': 'The estate as notation', tabindex: '0' }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) latest.current.onChange(u.state.doc.toString());
            if (u.selectionSet && u.transactions.some((t) => t.isUserEvent('select')))
              latest.current.onChosen(linesAt(u.state));
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
  }, [kinds, theme]);

  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== text)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: text } });
  }, [text]);

  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const diagnostics: Diagnostic[] = faults
      .filter((f) => f.line <= v.state.doc.lines)
      .map((f) => {
        const line = v.state.doc.line(Math.max(1, f.line));
        const from = Math.min(line.to, line.from + f.column - 1);
        const end = /\s|$/.exec(v.state.doc.sliceString(from, line.to))?.index ?? 0;
        return {
          from: Math.min(from, Math.max(line.from, line.to - 1)),
          to: Math.max(from + end, Math.min(line.to, from + 1)),
          severity: 'error',
          message: `${f.what}${f.expected ? `; expected ${f.expected}` : ''}${f.nearest ? ` (nearest: ${f.nearest})` : ''}`,
        };
      });
    const margin = faults.map((f) => ({ line: f.line, level: 'error', code: 'error', why: f.what }));
    v.dispatch(setDiagnostics(v.state, diagnostics), { effects: setMarks.of(faults.length > 0 ? margin : marks) });
  }, [faults, marks, theme, kinds]);

  useEffect(() => view.current?.dispatch({ effects: setInForce.of(inForce) }), [inForce, theme, kinds]);

  useImperativeHandle(ref, () => ({
    setText: (next) =>
      view.current?.dispatch({ changes: { from: 0, to: view.current.state.doc.length, insert: next } }),
    toKind: (kind) => {
      const v = view.current;
      if (!v) return;
      for (let n = 1; n <= v.state.doc.lines; n++) {
        const line = v.state.doc.line(n);
        if (line.text.startsWith(`${kind} `)) {
          show(v, line.from);
          return;
        }
      }
    },
    toPlace: (line, column) => {
      const v = view.current;
      if (!v) return;
      const at = v.state.doc.line(Math.min(line, v.state.doc.lines));
      show(v, Math.min(at.to, at.from + column - 1));
    },
    toLines: (lines) => {
      const v = view.current;
      const wanted = new Set(lines);
      if (!v || wanted.size === 0) return;
      const found: number[] = [];
      for (let n = 1; n <= v.state.doc.lines && found.length < wanted.size; n++) {
        const line = v.state.doc.line(n);
        if (wanted.has(unaligned(line.text.trim()))) found.push(line.from);
      }
      const first = found[0];
      if (first === undefined) return;
      v.dispatch({ effects: setChosen.of(found) });
      show(v, first);
    },
  }));
  return <Host ref={host} data-editor />;
}

function show(v: EditorView, pos: number) {
  v.dispatch({ selection: { anchor: pos }, effects: EditorView.scrollIntoView(pos, { y: 'start', yMargin: 40 }) });
  v.focus();
}
