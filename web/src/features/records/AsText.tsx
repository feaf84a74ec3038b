import { useCallback, useEffect, useRef, useState, type ReactNode } from 'react';
import styled from 'styled-components';
import { useLocation } from 'wouter';
import {
  api,
  ask,
  Failure,
  refresh,
  useKinds,
  useRecords,
  type Fault,
  type RecordsAnswer,
  type TextAnswer,
} from '../../api/client';
import { EffectList } from '../change/EffectList';
import { ImportPanel } from './ImportPanel';
import { KindsNav } from './KindsNav';
import { chosenLines, keepChosen, tableURL } from './chosen';
import { offerFiles, readFiles, useOffered } from './incoming';
import { NotationEditor, type EditorHandle } from './NotationEditor';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { Acts, Failed, FaultRow, LinkButton, Loading, Plain, Strong } from '../../ui/Quiet';
import { filterURL } from '../../ui/route';
import { useLinesInForce } from '../../ui/altered';
import { Running } from '../../ui/Running';
import { useSession } from '../change/session';
import { apiURL, through } from '../../api/through';
import { size } from '../../ui/theme';

const Three = styled.div`
  display: grid;
  grid-template-columns: 140px minmax(0, 1fr) 344px;
  min-height: 0;
`;

const Find = styled.input`
  width: 100%;
  margin: 4px 0 6px;
  padding: 4px 8px;
  border: 1px solid ${(p) => p.theme.rule};
  background: ${(p) => p.theme.panel};
  color: ${(p) => p.theme.ink};
`;

const Side = styled.aside`
  border-left: 1px solid ${(p) => p.theme.rule};
  overflow: auto;
  padding: 14px 22px 24px 20px;
  > p {
    color: ${(p) => p.theme.ink2};
  }
  > h2 {
    font-size: ${size.lead};
    line-height: 21px;
    margin-bottom: 8px;
  }
  > h3 {
    font-size: ${size.text};
    font-weight: 600;
    margin: 22px 0 4px;
  }
  > ul {
    margin: 0;
    padding: 0;
    list-style: none;
  }
  > ul > li {
    display: flex;
    justify-content: space-between;
    gap: 12px;
    padding: 5px 0;
    border-top: 1px solid ${(p) => p.theme.hairline};
  }
  a {
    font:
      12px/18px 'IBM Plex Mono',
      monospace;
    color: ${(p) => p.theme.ink};
    overflow-wrap: anywhere;
  }
  small {
    color: ${(p) => p.theme.ink2};
  }
`;

/** Where what was typed is kept: what is typed through a draft is apart. */
function typedKey() {
  return `records-draft${through() || ''}`;
}

interface Draft {
  base: number;
  edition?: number;
  text: string;
}

/** What was typed and not saved outlives the page. */
function keptDraft(): Draft | null {
  try {
    return JSON.parse(sessionStorage.getItem(typedKey()) ?? 'null') as Draft | null;
  } catch {
    return null;
  }
}

type Export = RecordsAnswer['exports'][number];

function exportURL(x: Export) {
  return apiURL('/api/export', { format: x.format, name: x.name, from: x.from ?? 'internet' });
}

function exportWords(x: Export) {
  if (x.format === 'estate') return 'everything';
  if (x.format === 'hosts') return 'hosts file';
  if (x.format === 'nft') return 'ruleset, as JSON';
  if (x.format === 'save') return 'ruleset, saved, IPv4';
  if (x.format === 'save6') return 'ruleset, saved, IPv6';
  if (x.format === 'csv') return 'sheet';
  return x.from === 'internet' ? 'zone file' : `zone file, for ${x.from}`;
}

/** The whole estate as notation, saved as one change after showing what it would do. */
export function AsText() {
  const records = useRecords();
  const kinds = useKinds();
  const { say } = useSession();
  const [, go] = useLocation();
  const editor = useRef<EditorHandle>(null);
  const [draft, setDraft] = useState<Draft | null>(keptDraft);
  const [answer, setAnswer] = useState<TextAnswer | null>(null);
  const [saving, setSaving] = useState<AbortController | null>(null);
  const inForce = useLinesInForce();
  const incoming = useOffered();
  const picker = useRef<HTMLInputElement>(null);
  const asked = useRef(0);
  const text = draft?.text ?? records.data?.text ?? '';
  const base = draft?.base ?? records.data?.revision ?? 0;
  const dirty = draft !== null;

  useEffect(() => {
    if (draft) sessionStorage.setItem(typedKey(), JSON.stringify(draft));
    else sessionStorage.removeItem(typedKey());
  }, [draft]);

  const loaded = records.data !== undefined;
  useEffect(() => {
    if (!loaded) return;
    const turn = ++asked.current;
    const stop = new AbortController();
    const timer = setTimeout(
      async () => {
        try {
          const got = await ask(api.POST('/api/text', { body: { base, text }, signal: stop.signal }));
          if (turn === asked.current) setAnswer(got);
        } catch (error) {
          if (turn === asked.current) say({ text: (error as Error).message, look: true });
        }
      },
      dirty ? 160 : 0,
    );
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [text, base, loaded, dirty, say]);

  const onChange = useCallback(
    (next: string) => {
      const stored = records.data;
      if (!stored) return;
      setDraft((d) =>
        next === stored.text && (d === null || d.base === stored.revision)
          ? null
          : { base: d?.base ?? stored.revision, edition: d ? d.edition : stored.edition, text: next },
      );
    },
    [records.data],
  );
  const discard = () => {
    setDraft(null);
    if (records.data) editor.current?.setText(records.data.text);
  };
  const save = useCallback(async () => {
    if (!draft || saving) return;
    const stop = new AbortController();
    setSaving(stop);
    try {
      const done = await ask(
        api.POST('/api/records', {
          body: { base: draft.base, edition: draft.edition, text: draft.text, why: 'Edited the records' },
          signal: stop.signal,
        }),
      );
      setDraft(null);
      await refresh();
      const words = done.effect?.short ?? '';
      say({
        text: `${through() ? 'Saved in the draft' : `Saved as revision ${done.revision}`}.${words ? ` ${words[0]?.toUpperCase()}${words.slice(1)}.` : ''} u takes it back.`,
      });
    } catch (error) {
      const failure = error as Failure;
      if (stop.signal.aborted) {
        await refresh();
        say({ text: 'Stopped. What was not kept by then still stands in the editor.' });
      } else {
        say({ text: failure.message, look: true, problem: failure.problem });
      }
    } finally {
      setSaving(null);
    }
  }, [draft, saving, say]);

  const asTable = () => go(tableURL());
  useKeys({ t: asTable });
  useEffect(() => {
    if (loaded) editor.current?.toLines(chosenLines());
  }, [loaded]);

  useViewHints([
    ['t', 'shown the other way'],
    ['Ctrl S', 'save'],
    ['Ctrl Space', 'complete'],
    ['F8', 'next caution'],
    ['Esc Tab', 'out of the editor'],
  ]);
  if (records.isError) return <Failed error={records.error} again={() => void records.refetch()} />;
  if (!records.data || !kinds.data) return <Loading what="Reading the records…" />;
  const faults: Fault[] = answer?.faults ?? [];
  const { filters } = records.data;
  const changed = answer ? answer.removed.length + answer.added.length : 0;
  return (
    <Three>
      <input
        ref={picker}
        id="import-files"
        type="file"
        multiple
        hidden
        onChange={(e) => {
          const field = e.target;
          void readFiles(field.files).then((files) => {
            offerFiles(files);
            field.value = '';
          });
        }}
      />
      <pre className="print-only">{records.data.text}</pre>
      <KindsNav
        kinds={kinds.data}
        counts={records.data.kinds}
        asText
        onKind={(kind) => editor.current?.toKind(kind)}
        onOther={asTable}
      />
      <NotationEditor
        ref={editor}
        text={text}
        kinds={kinds.data}
        faults={faults}
        marks={answer?.marks ?? []}
        inForce={inForce}
        onChange={onChange}
        onSave={() => void save()}
        onChosen={keepChosen}
      />
      <Side aria-label="What saving would do">
        {incoming ? (
          <ImportPanel incoming={incoming} onClose={() => offerFiles(null)} />
        ) : faults.length > 0 ? (
          <>
            <h2>
              {faults.length === 1 ? 'One line has an error' : `${faults.length} lines have errors`}; nothing can be
              saved yet.
            </h2>
            {faults.slice(0, mostFaults).map((f) => (
              <FaultRow key={`${f.line}:${f.column}`}>
                <LinkButton onPress={() => editor.current?.toPlace(f.line, f.column)}>
                  line {f.line}, column {f.column}
                </LinkButton>
                : {f.what}
                {(f.expected || f.nearest) && (
                  <small>
                    {f.expected && `expected ${f.expected}`}
                    {f.nearest && ` (nearest: ${f.nearest})`}
                  </small>
                )}
              </FaultRow>
            ))}
            {faults.length > mostFaults && <p>and {faults.length - mostFaults} more</p>}
            {dirty && (
              <Acts>
                <Plain onPress={discard}>Discard</Plain>
              </Acts>
            )}
          </>
        ) : dirty ? (
          <>
            <h2>
              {changed === 0
                ? 'Nothing differs from what is kept but blanks and order.'
                : `${answer?.removed.length ?? 0} ${answer?.removed.length === 1 ? 'line goes' : 'lines go'}, ${answer?.added.length ?? 0} ${answer?.added.length === 1 ? 'comes' : 'come'}.`}
            </h2>
            {answer?.effect && (
              <div style={{ margin: '0 -14px' }}>
                <EffectList effect={answer.effect} verb="Saving this would" />
              </div>
            )}
            <Acts>
              <Strong isDisabled={saving !== null} onPress={() => void save()}>
                Save {changed > 0 ? `${changed} ${changed === 1 ? 'line' : 'lines'}` : ''}
              </Strong>
              {saving === null ? (
                <Plain onPress={discard}>Discard</Plain>
              ) : (
                <Running what="Saving" stop={() => saving.abort()} />
              )}
            </Acts>
            {records.data.revision !== base && (
              <p>
                This text was begun on revision {base}; the estate is at {records.data.revision} now. Lines that others
                changed meanwhile are not overwritten.
              </p>
            )}
          </>
        ) : (
          <>
            <h2>The whole estate, a record a line.</h2>
            <p>
              Change it here, or paste one. What is wrong stands in the margin as you type, and what saving would do
              stands here before anything is kept.
            </p>
            <h3>Take over files</h3>
            <p>
              <LinkButton onPress={() => picker.current?.click()}>Choose files</LinkButton>, or drop them anywhere: zone
              files, hosts files, rulesets of the packet filter, certificates, a web server&rsquo;s folder or an archive
              of it, sheets, estates. What they would add, change and leave is shown first.
            </p>
            {filters.length > 0 && (
              <>
                <h3>Filters, line by line</h3>
                <Few
                  of={filters}
                  word={(f) => f}
                  called="filters"
                  show={(f) => <LinkButton onPress={() => go(filterURL(f))}>{f}</LinkButton>}
                />
              </>
            )}
            <h3>Write out</h3>
            <Few
              of={records.data.exports}
              word={(x) => `${x.file} ${exportWords(x)}`}
              called="files"
              show={(x) => (
                <>
                  <a href={exportURL(x)} download={x.file}>
                    {x.file}
                  </a>
                  <small>{exportWords(x)}</small>
                </>
              )}
            />
          </>
        )}
      </Side>
    </Three>
  );
}

/** How many faults are listed. */
const mostFaults = 40;

/** How many of a list are shown; what is looked for comes first. */
const few = 24;

interface FewProps<T> {
  of: T[];
  /** What one is found by, and told from the others by. */
  word: (one: T) => string;
  called: string;
  show: (one: T) => ReactNode;
}

/** A list that is looked through where it is long, and says what it leaves out. */
function Few<T>({ of, word, called, show }: FewProps<T>) {
  const [wanted, setWanted] = useState('');
  const found = of.filter((one) => word(one).toLowerCase().includes(wanted.trim().toLowerCase()));
  return (
    <>
      {of.length > few && (
        <Find
          type="search"
          value={wanted}
          aria-label={`Find among ${of.length} ${called}`}
          placeholder={`find among ${of.length} ${called}`}
          onChange={(e) => setWanted(e.target.value)}
        />
      )}
      <ul>
        {found.slice(0, few).map((one) => (
          <li key={word(one)}>{show(one)}</li>
        ))}
      </ul>
      {found.length > few && (
        <p>
          and {found.length - few} more {called}
        </p>
      )}
      {found.length === 0 && <p>None is like that.</p>}
    </>
  );
}
