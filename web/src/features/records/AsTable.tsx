import {
  memo,
  useCallback,
  useEffect,
  useMemo,
  useRef,
  useState,
  type KeyboardEvent,
  type MouseEvent,
  type ReactNode,
} from 'react';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import { api, ask, useKinds, useMarks, useTable, type KindWords, type LineMark, type TableRow } from '../../api/client';
import { useMay } from '../../api/me';
import { Choice } from '../../ui/Choice';
import { asColumns } from '../../ui/columns';
import { useViewHints, type Hint } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { useLongList } from '../../ui/print';
import { Failed, LinkButton, Loading, Quiet } from '../../ui/Quiet';
import { usesURL, useQueryWord } from '../../ui/route';
import { count } from '../../ui/time';
import { FilterField, Tools } from '../../ui/Tools';
import { useLinesInForce } from '../../ui/altered';
import { useSession } from '../change/session';
import { AboutRecord } from './AboutRecord';
import { CellEditor, type EditedCell } from './CellEditor';
import { chosenLines, keepChosen, tableURL } from './chosen';
import { KindsNav } from './KindsNav';
import { RecordForm } from './RecordForm';
import { TakeOut } from './TakeOut';
import { size } from '../../ui/theme';

const Three = styled.div`
  display: grid;
  grid-template-columns: 140px minmax(0, 1fr) 344px;
  min-height: 0;
`;

const Scroll = styled.div`
  overflow: auto;
  position: relative;
  outline: none;
  background: ${(p) => p.theme.panel};
  .head,
  .row {
    display: grid;
    min-width: 100%;
    width: max-content;
  }
  .head {
    position: sticky;
    top: 0;
    z-index: 3;
    background: ${(p) => p.theme.ground};
    border-bottom: 1px solid ${(p) => p.theme.rule};
    color: ${(p) => p.theme.ink2};
    font-size: ${size.plain};
    height: 31px;
    line-height: 30px;
  }
  .head > div {
    padding: 0 10px;
    white-space: nowrap;
    cursor: pointer;
  }
  .head > div:hover,
  .head > div.at {
    color: ${(p) => p.theme.ink};
  }
  .head > .sorted {
    color: ${(p) => p.theme.ink};
    font-weight: 600;
  }
  .row {
    position: absolute;
    left: 0;
    height: 31px;
    line-height: 30px;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
    background: ${(p) => p.theme.panel};
    font:
      12px/30px 'IBM Plex Mono',
      monospace;
  }
  .row > div {
    padding: 0 10px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: pre;
  }
  .row.editing {
    z-index: 2;
  }
  .row:hover {
    background: ${(p) => p.theme.hover};
  }
  .row.chosen {
    background: ${(p) => p.theme.shallowsHead};
  }
  .row.off > div {
    color: ${(p) => p.theme.ink2};
  }
  .head > .tick,
  .row > .tick {
    padding: 0 0 0 14px;
    cursor: pointer;
    position: sticky;
    left: 0;
    z-index: 1;
    background: inherit;
  }
  .row > .first {
    font-weight: 600;
    position: sticky;
    left: 38px;
    z-index: 1;
    background: inherit;
  }
  .row > .place {
    color: ${(p) => p.theme.ink2};
    text-align: right;
  }
  .row > .why {
    contain: inline-size;
    color: ${(p) => p.theme.magenta};
    font:
      12px/30px 'IBM Plex Sans Variable',
      sans-serif;
  }
  .row > .why[data-level='note'] {
    color: ${(p) => p.theme.ink2};
  }
  &:focus .row > .at,
  &:focus .head > .at,
  .row > .at.edited {
    box-shadow: inset 0 0 0 2px ${(p) => p.theme.ink};
  }
  .row > .at {
    box-shadow: inset 0 0 0 1px ${(p) => p.theme.rule};
  }
  .row > .edited {
    overflow: visible;
    padding: 0;
  }
`;

const Tick = styled.span<{ $on: boolean }>`
  display: inline-block;
  width: 11px;
  height: 11px;
  margin-top: 9px;
  border: 1px solid ${(p) => p.theme.ink2};
  background: ${(p) => (p.$on ? p.theme.ink : p.theme.panel)};
  box-shadow: ${(p) => (p.$on ? `inset 0 0 0 2px ${p.theme.panel}` : 'none')};
  vertical-align: top;
`;

const Side = styled.aside`
  border-left: 1px solid ${(p) => p.theme.rule};
  overflow: auto;
  padding: 14px 22px 0 20px;
  [data-act] {
    position: sticky;
    bottom: 0;
    margin: 14px -22px 0 -20px;
    padding: 12px 22px 14px 20px;
    background: ${(p) => p.theme.ground};
    border-top: 1px solid ${(p) => p.theme.rule};
  }
  p {
    color: ${(p) => p.theme.ink2};
    overflow-wrap: anywhere;
    padding-bottom: 6px;
  }
  h2 {
    font-size: ${size.lead};
    line-height: 21px;
    margin-bottom: 8px;
    overflow-wrap: anywhere;
  }
  h3 {
    font-size: ${size.text};
    font-weight: 600;
    margin: 18px 0 4px;
  }
`;

const rowHeight = 31;

/** How wide a column may get, in characters. */
const widest = 38;

/** The records of one kind as a table. */
export function AsTable({ kind }: { kind: string }) {
  const kinds = useKinds();
  useTable(useAsked(kind, 0, chosenOf(kind))); // along with the kinds, and not after them
  if (kinds.isError) return <Failed error={kinds.error} again={() => void kinds.refetch()} />;
  if (!kinds.data) return <Loading what="Reading the records…" />;
  const words = kinds.data.find((k) => k.word === kind);
  if (!words) return <Quiet>There is no kind of record called {kind}.</Quiet>;
  return <Tabled kind={words} kinds={kinds.data} />;
}

/** The record of a kind that was chosen last; '' where there is none. */
const chosenOf = (kind: string) => chosenLines().find((l) => l.startsWith(`${kind} `)) ?? '';

/** What is asked for, as the page's address says. */
function useAsked(kind: string, first: number, line: string) {
  const [like] = useQueryWord('like', '');
  const [by] = useQueryWord('by', '');
  const [down] = useQueryWord('down', '');
  return { kind, like, by, down: down !== '', first, line };
}

/** A column: a field of the kind, or, first, which of its list a line is. */
export interface Column {
  column: string;
  title: string;
  /** Where its cell is among those of a row; -1 for the place. */
  index: number;
}

const columnChoices = ['that are used', 'all of them'] as const;

type Panel = { does: 'form'; lines: string[]; row?: TableRow } | { does: 'out'; lines: string[] } | null;

function Tabled({ kind, kinds }: { kind: KindWords; kinds: KindWords[] }) {
  const [, go] = useLocation();
  const { say, record } = useSession();
  const may = useMay('editor');
  const [like, setLike] = useQueryWord('like', '');
  const [by, setBy] = useQueryWord('by', '');
  const [down, setDown] = useQueryWord('down', '');
  const [which, setWhich] = useQueryWord('columns', 'that are used');
  const [follow, setFollow] = useState(() => chosenOf(kind.word));
  const [row, setRow] = useState(0);
  const [col, setCol] = useState(0);
  const [inHead, setInHead] = useState(false);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(
    () =>
      new Set(
        chosenLines()
          .slice(1)
          .filter((l) => l.startsWith(`${kind.word} `)),
      ),
  );
  const [anchor, setAnchor] = useState(0);
  const [editing, setEditing] = useState<EditedCell | null>(null);
  const [became, setBecame] = useState<ReadonlyMap<string, string>>(new Map()); // of lines that were written here
  const written = useRef(new Map<string, string>());
  const writing = useRef<Promise<unknown>>(Promise.resolve());
  const [panel, setPanel] = useState<Panel>(null);
  const scroll = useRef<HTMLDivElement>(null);
  const [first, setFirst] = useState(0);
  const inForce = useLinesInForce();

  const asked = useTable(useAsked(kind.word, first, follow));
  const { data, isPlaceholderData } = asked;
  const found = data?.found ?? 0;
  const marksOf = useMarks(kind.word);
  const at = Math.min(row, Math.max(0, found - 1));
  const rowAt = useCallback((i: number) => data?.rows[i - data.from], [data]);
  const here = rowAt(at);

  const columns = useMemo(() => {
    const out: Column[] = kind.placed ? [{ column: 'at', title: '#', index: -1 }] : [];
    kind.fields.forEach((f, index) => {
      if (f.required || which === 'all of them' || data?.used[f.column]) out.push({ ...f, index });
    });
    return out;
  }, [kind, which, data?.used]);
  const widths = useWidths(columns, data?.rows);
  const template = `38px ${widths.map((w, i) => (columns[i]?.index === -1 ? '44px' : `calc(${w}ch + 20px)`)).join(' ')} minmax(120px, 1fr)`;

  const virtual = useLongList({
    count: found,
    getScrollElement: () => scroll.current,
    estimateSize: () => rowHeight,
    overscan: 12,
    scrollPaddingStart: rowHeight,
    onChange: (v) => setFirst(Math.floor((v.scrollOffset ?? 0) / rowHeight)),
  });

  // The record that was at hand elsewhere, or was just written, is gone to where it stands by now.
  useEffect(() => {
    if (follow === '' || !data || isPlaceholderData) return;
    if (data.where >= 0) {
      setRow(data.where); // eslint-disable-line react-hooks/set-state-in-effect -- it is known once the answer is there
      setAnchor(data.where);
      virtual.scrollToIndex(data.where, { align: 'auto' });
    }
    setFollow('');
  }, [follow, data, isPlaceholderData, virtual]);

  // What is typed is of its record: where that is there no more, it is not put into another.
  const isEdited = (l: string) => editing !== null && (l === editing.line || l === latestIn(became, editing.line));
  const lost =
    editing !== null &&
    data !== undefined &&
    !isPlaceholderData &&
    data.from === 0 &&
    !data.rows.some((r) => isEdited(r.line));
  useEffect(() => {
    if (!lost || !editing || found > data.rows.length) return;
    say({
      text: `${editing.line} is not there any more. “${editing.text}” was typed as its ${editing.column}.`,
      look: true,
    });
    setEditing(null); // eslint-disable-line react-hooks/set-state-in-effect -- another took the record away
  }, [lost, editing, found, data, say]);

  const line = here?.line ?? '';
  useEffect(() => {
    if (line !== '') keepChosen([line, ...[...chosen].filter((l) => l !== line)]);
  }, [line, chosen]);

  const toCell = (i: number, c: number) => {
    const next = Math.max(0, Math.min(found - 1, i));
    setInHead(false);
    setRow(next);
    setCol(Math.max(0, Math.min(columns.length - 1, c)));
    virtual.scrollToIndex(next);
    const cell = scroll.current?.querySelector<HTMLElement>(`.head > [data-column="${columns[c]?.column}"]`);
    if (cell && c > 0) cell.scrollIntoView({ inline: 'nearest', block: 'nearest' });
    else if (scroll.current) scroll.current.scrollLeft = 0;
  };
  /** Chooses the rows of a stretch; those that are not at hand are asked for. */
  const choose = (one: number, other: number) => {
    const [from, to] = [Math.min(one, other), Math.max(one, other)];
    const next = new Set<string>();
    for (let i = from; i <= to; i++) {
      const l = rowAt(i)?.line;
      if (l === undefined) {
        void chooseLines(from, to - from + 1);
        return;
      }
      next.add(l);
    }
    setChosen(next);
  };
  const toggle = useCallback(
    (l: string) =>
      setChosen((now) => {
        const next = new Set(now);
        if (!next.delete(l)) next.add(l);
        return next;
      }),
    [],
  );
  const asking = useRef(0);
  const chooseLines = async (from = 0, most = 0) => {
    const turn = ++asking.current;
    try {
      const query = { kind: kind.word, like: like || undefined, by: by || undefined, down: down !== '', from, most };
      const { lines } = await ask(api.GET('/api/table/lines', { params: { query } }));
      if (turn === asking.current) setChosen(new Set(lines));
    } catch (error) {
      say({ text: (error as Error).message, look: true });
    }
  };
  /** The records that something is to be done to: those that are chosen, else the one at hand. */
  const meant = () => (chosen.size > 0 ? [...chosen] : here ? [here.line] : []);
  const refused = () => {
    if (may) return false;
    say({ text: 'Records are changed by who has the role editor.', look: true });
    return true;
  };
  const sort = (column: string) => {
    if (by !== column) {
      setBy(column);
      setDown('');
    } else if (down === '') setDown('yes');
    else {
      setBy('');
      setDown('');
    }
    if (here) setFollow(here.line);
  };
  const edit = () => {
    const column = columns[col];
    if (!here || !column || refused()) return;
    const field = kind.fields[column.index];
    if (field?.flag) void writeCell(here.line, column.column, here.cells[column.index] ? '' : 'yes');
    else if (column.index >= 0 || here.at) {
      const was = column.index < 0 ? String(here.at ?? '') : (here.cells[column.index] ?? '');
      setEditing({ line: here.line, column: column.column, was, text: was, refused: '' });
    }
  };
  const form = (lines: string[]) => {
    if (refused()) return;
    // What is chosen need not be what is at hand.
    const row = lines.length === 1 ? data?.rows.find((r) => r.line === lines[0]) : undefined;
    if (lines.length === 1 && !row)
      say({ text: `${lines[0]} is not in sight. Find it, or choose it anew.`, look: true });
    else setPanel({ does: 'form', lines, row });
  };
  const takeOut = () => {
    if (meant().length > 0 && !refused()) setPanel({ does: 'out', lines: meant() });
  };
  const leavePanel = () => {
    setPanel(null);
    scroll.current?.focus();
  };

  /** Writes one cell, after those that were written before it; gives what is wrong with it, or nothing once it is on its way. */
  const writeCell = (l: string, column: string, text: string): Promise<string> => {
    const write = async () => {
      const now = latestIn(written.current, l);
      const body = { kind: kind.word, lines: [now], cells: { [column]: text } };
      const got = await ask(api.POST('/api/table/write', { body }));
      if (got.fault) return got.fault.expected ? `${got.fault.what}; expected ${got.fault.expected}` : got.fault.what;
      const [add] = got.add;
      if (add === undefined) return '';
      const come = got.now ?? add;
      if (!(await record(`- ${now}\n+ ${add}`))) return '';
      written.current.set(now, come);
      written.current.delete(come); // it is that again
      setBecame(new Map(written.current));
      setChosen((all) => (all.has(now) ? new Set([...all].map((one) => (one === now ? come : one))) : all));
      setFollow(come);
      return '';
    };
    const next = writing.current.then(write).catch((error: unknown) => (error as Error).message);
    writing.current = next;
    return next;
  };
  /** Keeps the cell that is being written. The field is free at once; what cannot be kept comes back to it. */
  const keepCell = (cell: EditedCell, step: number) => {
    setEditing(null);
    scroll.current?.focus();
    if (step !== 0) toCell(at, col + step);
    if (cell.text.trim() === cell.was) return;
    void writeCell(cell.line, cell.column, cell.text).then((refused) => {
      if (refused === '') return;
      setEditing((now) => {
        if (now === null) return { ...cell, refused };
        say({ text: `“${cell.text}” was not kept as ${cell.column} of ${cell.line}: ${refused}`, look: true });
        return now;
      });
    });
  };

  const onKey = (e: KeyboardEvent) => {
    if (editing || e.altKey) return;
    const page = Math.floor((scroll.current?.clientHeight ?? 600) / rowHeight) - 2;
    const ctrl = e.ctrlKey || e.metaKey;
    const move = (i: number) => {
      toCell(i, col);
      const next = Math.max(0, Math.min(found - 1, i));
      if (e.shiftKey) choose(anchor, next);
      else setAnchor(next);
    };
    if (ctrl && !['a', 'Home', 'End'].includes(e.key)) return;
    switch (e.key) {
      case 'ArrowDown':
      case 'j':
        if (inHead) toCell(at, col);
        else move(at + 1);
        break;
      case 'ArrowUp':
      case 'k':
        if (at === 0 && !e.shiftKey) setInHead(true);
        else move(at - 1);
        break;
      case 'ArrowRight':
        if (inHead) setCol(Math.min(columns.length - 1, col + 1));
        else toCell(at, col + 1);
        break;
      case 'ArrowLeft':
        if (inHead) setCol(Math.max(0, col - 1));
        else toCell(at, col - 1);
        break;
      case 'PageDown':
        move(at + page);
        break;
      case 'PageUp':
        move(at - page);
        break;
      case 'Home':
        if (ctrl) move(0);
        else toCell(at, 0);
        break;
      case 'End':
        if (ctrl) move(found - 1);
        else toCell(at, columns.length - 1);
        break;
      case 'Enter':
      case 'F2':
        if (inHead) sort(columns[col]?.column ?? '');
        else edit();
        break;
      case ' ':
        if (here && !inHead) {
          toggle(here.line);
          setAnchor(at);
        }
        break;
      case 'a':
        if (!ctrl) return;
        void chooseLines();
        break;
      case 'Delete':
        takeOut();
        break;
      case 'Insert':
        form([]);
        break;
      case 'Escape':
        if (chosen.size === 0) return;
        setChosen(new Set());
        break;
      default:
        return;
    }
    e.preventDefault();
    e.stopPropagation();
  };
  const latest = useRef(choose);
  useEffect(() => {
    latest.current = choose;
  });
  const onPick = useCallback(
    (i: number, c: number, l: string, e: MouseEvent) => {
      setInHead(false);
      if (e.shiftKey) {
        latest.current(anchor, i);
      } else {
        setAnchor(i);
        if (c < 0 || e.ctrlKey || e.metaKey) toggle(l);
      }
      setRow(i);
      if (c >= 0) setCol(c);
    },
    [anchor, toggle],
  );

  useKeys({
    f: () => document.getElementById('filter')?.focus(),
    t: () => go('/records'),
    e: () => form(meant()),
    w: () => here && go(usesURL(here.cells[0] ?? '')),
    y: () => {
      const rows = data?.rows.filter((r) => chosen.size === 0 || chosen.has(r.line)) ?? [];
      const text = asColumns([
        columns.map((c) => c.title),
        ...rows.map((r) => columns.map((c) => (c.index < 0 ? String(r.at ?? '') : (r.cells[c.index] ?? '')))),
      ]);
      void navigator.clipboard
        ?.writeText(text)
        .then(() => say({ text: `Copied ${rows.length} rows; they paste into a sheet as columns.` }));
    },
    '+': () => form([]),
    ArrowDown: () => scroll.current?.focus(),
    ArrowUp: () => scroll.current?.focus(),
  });
  const forWriting: Hint[] = [
    ['Enter', 'edit the cell'],
    ['e', 'edit the record'],
    ['Space', 'choose it'],
    ['+', 'add one'],
    ['Delete', 'take out'],
  ];
  useViewHints([
    ['↑↓ ←→', 'move'],
    ...(may ? forWriting : []),
    ['t', 'shown the other way'],
    ['f', 'find'],
    ['w', 'where it is used'],
    ['y', 'copy'],
  ]);
  const shown = found > 0;
  useEffect(() => {
    if (shown && document.activeElement === document.body) scroll.current?.focus({ preventScroll: true });
  }, [shown]);

  const items = virtual.getVirtualItems();
  return (
    <Three>
      <Tools>
        <FilterField value={like} onChange={setLike} onLeave={() => scroll.current?.focus()} />
        <Choice label="columns" value={which} options={columnChoices} onChange={setWhich} />
        {chosen.size > 0 && (
          <span>
            {count(chosen.size)} chosen <LinkButton onPress={() => setChosen(new Set())}>none</LinkButton>
          </span>
        )}
      </Tools>
      <KindsNav
        kinds={kinds}
        counts={data?.kinds ?? {}}
        current={kind.word}
        onKind={(word) => go(tableURL(word))}
        onOther={() => go('/records')}
      />
      {asked.isError ? (
        <Failed error={asked.error} again={() => void asked.refetch()} />
      ) : !data ? (
        <Loading what="Reading the records…" />
      ) : found === 0 ? (
        <Quiet>
          {data.kinds[kind.word] === 0 ? (
            <>
              No {kind.word} is recorded. {may && <LinkButton onPress={() => form([])}>Add one</LinkButton>}
            </>
          ) : (
            <>
              None is like that. <LinkButton onPress={() => setLike('')}>Show all</LinkButton>
            </>
          )}
        </Quiet>
      ) : (
        <Scroll
          ref={scroll}
          tabIndex={0}
          role="grid"
          aria-label={`Records: ${kind.word}`}
          aria-rowcount={found + 1}
          aria-colcount={columns.length + 2}
          aria-multiselectable
          aria-activedescendant={inHead ? `head-${col}` : `cell-${at}-${col}`}
          onKeyDown={onKey}
        >
          <div className="head" role="row" aria-rowindex={1} style={{ gridTemplateColumns: template }}>
            <div
              role="columnheader"
              className="tick"
              aria-label="choose all"
              title={`Choose all ${found}`}
              onClick={() => (chosen.size > 0 ? setChosen(new Set()) : void chooseLines())}
            >
              <Tick $on={chosen.size > 0 && chosen.size >= found} />
            </div>
            {columns.map((c, i) => (
              <div
                key={c.column}
                id={`head-${i}`}
                role="columnheader"
                data-column={c.column}
                className={`${by === c.column ? 'sorted' : ''}${inHead && i === col ? ' at' : ''}`}
                aria-sort={by !== c.column ? 'none' : down ? 'descending' : 'ascending'}
                title={kind.fields[c.index]?.expected ?? 'which of its list it is'}
                onClick={() => sort(c.column)}
              >
                {c.title}
                {by === c.column && (down ? ' ↓' : ' ↑')}
              </div>
            ))}
            <div role="columnheader">
              <span className="visually-hidden">to look at</span>
            </div>
          </div>
          <div role="rowgroup" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
            {items.map((v) => {
              const r = rowAt(v.index);
              if (!r) return null;
              return (
                <RecordRow
                  key={v.index}
                  index={v.index}
                  start={v.start}
                  row={r}
                  columns={columns}
                  template={template}
                  at={v.index === at && !inHead ? col : -1}
                  on={chosen.has(r.line)}
                  altered={inForce !== undefined && !inForce.has(r.line)}
                  mark={marksOf.get(r.line)}
                  onPick={onPick}
                  onEdit={edit}
                  editing={editing && isEdited(r.line) ? editing.column : ''}
                  editor={
                    editing && (
                      <CellEditor
                        kind={kind}
                        cell={{ ...editing, line: r.line }}
                        onType={(text) => setEditing({ ...editing, text, refused: '' })}
                        onKeep={(step) => keepCell(editing, step)}
                        onLeave={() => {
                          setEditing(null);
                          scroll.current?.focus();
                        }}
                      />
                    )
                  }
                />
              );
            })}
          </div>
        </Scroll>
      )}
      <Side aria-label="The chosen records">
        {panel?.does === 'form' ? (
          <RecordForm
            key={panel.lines.join('\n')}
            kind={kind}
            lines={panel.lines}
            row={panel.row}
            onLeave={leavePanel}
            onKept={(now) => {
              setChosen(new Set());
              setFollow(now);
            }}
          />
        ) : panel?.does === 'out' ? (
          <TakeOut
            lines={panel.lines}
            onLeave={leavePanel}
            onOut={() => {
              setChosen(new Set());
              leavePanel();
            }}
          />
        ) : (
          <AboutRecord
            kind={kind}
            row={here}
            chosen={chosen.size}
            mark={here && marksOf.get(here.line)}
            may={may}
            onForm={() => form(meant())}
            onAdd={() => form([])}
            onOut={takeOut}
          />
        )}
      </Side>
    </Three>
  );
}

/** What became of a line, by what was written here. */
function latestIn(became: ReadonlyMap<string, string>, line: string) {
  let now = line;
  for (let next = became.get(now); next !== undefined; next = became.get(now)) now = next;
  return now;
}

/** How wide each column is, in characters: as what is in it, and never less than it was. */
function useWidths(columns: Column[], rows: TableRow[] | undefined) {
  const [known, setKnown] = useState<Record<string, number>>({});
  const next = { ...known };
  let grown = false;
  for (const c of columns) {
    let w = next[c.column] ?? c.title.length + 2;
    for (const r of rows?.slice(0, 400) ?? []) w = Math.max(w, Math.min(widest, r.cells[c.index]?.length ?? 0));
    if (w !== known[c.column]) {
      next[c.column] = w;
      grown = true;
    }
  }
  if (grown) setKnown(next);
  return columns.map((c) => next[c.column] ?? 4);
}

interface RowProps {
  index: number;
  start: number;
  row: TableRow;
  columns: Column[];
  template: string;
  /** The column at hand; -1 where the row is not. */
  at: number;
  on: boolean;
  altered: boolean;
  mark: LineMark | undefined;
  onPick: (index: number, column: number, line: string, e: MouseEvent) => void;
  onEdit: () => void;
  /** The column that is being written; '' for none. */
  editing: string;
  editor: ReactNode;
}

const RecordRow = memo(
  function RecordRow({
    index,
    start,
    row,
    columns,
    template,
    at,
    on,
    altered,
    mark,
    onPick,
    onEdit,
    editing,
    editor,
  }: RowProps) {
    const off = columns.some((c) => c.column === 'off' && row.cells[c.index]);
    return (
      <div
        role="row"
        className={`row${on ? ' chosen' : ''}${off ? ' off' : ''}${editing === '' ? '' : ' editing'}`}
        aria-rowindex={index + 2}
        aria-selected={on}
        data-line={row.line}
        {...(altered ? { 'data-altered': 'not in force' } : {})}
        style={{ transform: `translateY(${start}px)`, gridTemplateColumns: template }}
      >
        <div role="gridcell" className="tick" onClick={(e) => onPick(index, -1, row.line, e)}>
          <Tick $on={on} aria-hidden />
        </div>
        {columns.map((c, i) => {
          const text = c.index < 0 ? String(row.at ?? '') : (row.cells[c.index] ?? '');
          const edited = editing === c.column;
          const kind = c.index < 0 ? ' place' : c.index === 0 ? ' first' : '';
          return (
            <div
              key={c.column}
              id={`cell-${index}-${i}`}
              role="gridcell"
              data-column={c.column}
              className={`cell${kind}${at === i ? ' at' : ''}${edited ? ' edited' : ''}`}
              title={text.length > widest ? text : undefined}
              onClick={(e) => onPick(index, i, row.line, e)}
              onDoubleClick={onEdit}
            >
              {edited ? editor : text}
            </div>
          );
        })}
        <div role="gridcell" className="why" data-level={mark?.level} title={mark && `${mark.code}: ${mark.why}`}>
          {mark?.why}
        </div>
      </div>
    );
  },
  (a, b) =>
    a.editing === '' &&
    b.editing === '' &&
    a.row === b.row &&
    a.start === b.start &&
    a.at === b.at &&
    a.on === b.on &&
    a.altered === b.altered &&
    a.mark === b.mark &&
    a.template === b.template &&
    a.columns === b.columns &&
    a.onPick === b.onPick &&
    (b.at < 0 || a.onEdit === b.onEdit),
);
