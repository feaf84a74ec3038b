import { useEffect, useMemo, useRef, useState, type ReactNode } from 'react';
import { Tab, TabList, TabPanel, Tabs } from 'react-aria-components';
import styled, { css } from 'styled-components';
import { Link, useLocation } from 'wouter';
import {
  api,
  ask,
  Failure,
  useNames,
  useTrace,
  type Break,
  type Path,
  type Step,
  type TraceResult,
} from '../../api/client';
import { Chain } from '../answers/Chain';
import { Wrapping } from '../../ui/Wrapping';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { cidrs, isGood, Lock, Mark, outcomeWords } from '../../ui/marks';
import { VantagePicker } from '../../ui/Picker';
import { Failed, LinkButton, Loading, Plain, Strong } from '../../ui/Quiet';
import { filterURL, tablePlace, traceURL, usesURL, useQueryWord, withoutURL } from '../../ui/route';
import { revisionNow, useSession } from '../change/session';
import { Tools } from '../../ui/Tools';
import { Tried, useDeclaring, useHolds, useMending, type MendFor } from '../change/tried';

const Two = styled.div`
  display: grid;
  grid-template-columns: 262px minmax(0, 1fr);
  min-height: 0;
  @media (max-width: 700px) {
    grid-template-columns: 1fr;
  }
`;

const Side = styled.nav`
  border-right: 1px solid ${(p) => p.theme.rule};
  overflow: auto;
  @media (max-width: 700px) {
    display: none;
  }
`;

const SideRow = styled(Link)<{ $on: boolean }>`
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto 16px;
  gap: 10px;
  align-items: center;
  height: 29px;
  padding: 0 16px 0 24px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  ${(p) =>
    p.$on &&
    css`
      background: ${p.theme.panel};
      box-shadow:
        0 -1px 0 ${p.theme.ink},
        0 1px 0 ${p.theme.ink};
      font-weight: 600;
      position: relative;
    `}
  span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  code {
    color: ${(p) => p.theme.ink2};
    font-weight: 400;
  }
  &:hover {
    background: ${(p) => p.theme.hover};
  }
`;

const Sheet = styled.div`
  overflow: auto;
  padding-bottom: 40px;
  outline: none;
`;

const Top = styled.div`
  padding: 14px 28px 12px 26px;
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 4px 20px;
  h2 {
    font-weight: 600;
    font-size: 17px;
    line-height: 24px;
    overflow-wrap: anywhere;
    code {
      font-size: 14px;
      font-weight: 400;
      color: ${(p) => p.theme.ink2};
      margin-left: 6px;
    }
  }
  p {
    color: ${(p) => p.theme.ink2};
    grid-column: 1 / -1;
  }
`;

const Said = styled.div<{ $look: boolean }>`
  display: flex;
  align-items: center;
  gap: 8px;
  font-weight: 600;
  color: ${(p) => (p.$look ? p.theme.magenta : p.theme.ink)};
  white-space: nowrap;
`;

const Ways = styled(TabList)<{ $many: boolean }>`
  display: ${(p) => (p.$many ? 'flex' : 'none')};
  flex-wrap: wrap;
  gap: 0 22px;
  padding: 0 26px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
`;

const Way = styled(Tab)`
  display: flex;
  gap: 8px;
  align-items: center;
  border-bottom: 2px solid transparent;
  padding: 5px 0;
  cursor: pointer;
  color: ${(p) => p.theme.ink2};
  outline: none;
  &[data-selected] {
    border-bottom-color: ${(p) => p.theme.ink};
    color: ${(p) => p.theme.ink};
    code {
      font-weight: 600;
    }
  }
  &[data-focus-visible] {
    outline: 2px solid ${(p) => p.theme.ink};
  }
`;

const rail = css`
  display: grid;
  grid-template-columns: 38px 182px minmax(0, 1fr) minmax(0, 0.95fr);
  padding: 0 28px 0 26px;
  break-inside: avoid;
  @media (max-width: 700px) {
    grid-template-columns: 30px minmax(0, 1fr);
    padding: 0 14px;
    > :first-child {
      grid-row: 1 / span 4;
    }
    > :nth-child(n + 3) {
      grid-column: 2;
    }
  }
`;

const Station = styled.div<{ $ground: string; $ghost: boolean; $on: boolean }>`
  ${rail}
  background: ${(p) => (p.$ground === 'water' ? p.theme.water : p.$ground === 'shallows' ? p.theme.shallows : p.theme.land)};
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  min-height: 45px;
  color: ${(p) => (p.$ghost ? p.theme.ink2 : p.theme.ink)};
  font-style: ${(p) => (p.$ghost ? 'italic' : 'normal')};
  box-shadow: ${(p) => (p.$on ? `inset 3px 0 0 ${p.theme.ink}` : 'none')};
  > div {
    padding: 6px 12px 6px 0;
    min-width: 0;
  }
  b {
    font-weight: 600;
    overflow-wrap: anywhere;
  }
  small {
    display: block;
    font-size: 12px;
    line-height: 16px;
    color: ${(p) => p.theme.ink2};
  }
`;

const Rail = styled.div<{ $ghost: boolean; $first: boolean; $last: boolean }>`
  position: relative;
  padding: 0 !important;
  &::before {
    content: '';
    position: absolute;
    left: 8px;
    top: ${(p) => (p.$first ? '14px' : 0)};
    bottom: ${(p) => (p.$last ? 'calc(100% - 16px)' : '-1px')};
    border-left: 2px ${(p) => (p.$ghost ? `dotted ${p.theme.faint}` : `solid ${p.theme.ink}`)};
  }
  &::after {
    content: '';
    position: absolute;
    left: 4px;
    top: 11px;
    width: 10px;
    height: 10px;
    box-sizing: border-box;
    background: ${(p) => p.theme.panel};
    border: 2px ${(p) => (p.$ghost ? `dotted ${p.theme.faint}` : `solid ${p.theme.ink}`)};
    border-radius: 50%;
  }
`;

const Gap = styled.div<{ $ground: string }>`
  ${rail}
  background: ${(p) => (p.$ground === 'water' ? p.theme.water : p.$ground === 'shallows' ? p.theme.shallows : p.theme.land)};
  > svg {
    margin-left: 0;
    height: 100%;
    min-height: 92px;
    width: 18px;
  }
  > section {
    grid-column: 2 / -1;
    margin: 9px 0 10px;
    border: 1px dashed ${(p) => p.theme.magenta};
    background: ${(p) => p.theme.panel};
    padding: 9px 12px 11px;
    display: grid;
    grid-template-columns: minmax(0, 1fr) auto;
    gap: 7px 16px;
    align-items: end;
  }
  h3 {
    font-weight: 600;
    color: ${(p) => p.theme.magenta};
    small {
      font:
        400 11.5px 'IBM Plex Mono',
        monospace;
      color: ${(p) => p.theme.ink2};
      margin-left: 10px;
    }
  }
  p {
    grid-column: 1 / -1;
    margin-top: -4px;
  }
`;

const Buttons = styled.div`
  display: flex;
  gap: 10px;
`;

const Records = styled.div`
  border-left: 1px solid ${(p) => p.theme.rule};
  padding: 1px 0 1px 9px !important;
  margin: 7px 0;
  align-self: start;
`;

const RecordLine = styled.button<{ $ghost: boolean }>`
  display: block;
  width: 100%;
  border: 0;
  padding: 0;
  background: none;
  text-align: left;
  cursor: text;
  font:
    12px/17px 'IBM Plex Mono',
    monospace;
  font-style: normal;
  color: ${(p) => (p.$ghost ? p.theme.ink2 : p.theme.ink)};
  overflow-wrap: anywhere;
  &:hover {
    text-decoration: underline;
    text-decoration-style: dashed;
    text-underline-offset: 3px;
  }
`;

const Editing = styled.div`
  textarea {
    display: block;
    width: 100%;
    resize: none;
    border: 1px solid ${(p) => p.theme.ink};
    background: ${(p) => p.theme.panel};
    color: ${(p) => p.theme.ink};
    padding: 3px 6px;
    line-height: 17px;
    field-sizing: content;
  }
  p {
    font-style: normal;
    padding: 4px 0;
  }
`;

/** One name, address or place, followed step by step. */
export function Trace({ target }: { target: string }) {
  const [from, setFrom] = useQueryWord('from', 'internet');
  const trace = useTrace(target, from);
  const names = useNames(from);
  const [draft, setDraft] = useState<TraceResult | null>(null);
  const [way, setWay] = useState(0);
  const [at, setAt] = useState(0);
  const [editing, setEditing] = useState<Edited | null>(null);
  const [, go] = useLocation();
  const sheet = useRef<HTMLDivElement>(null);

  // Another target or vantage starts at its first way; what was typed belongs to the old one.
  const here = `${target} ${from}`;
  const [was, setWas] = useState(here);
  if (was !== here) {
    setWas(here);
    setWay(0);
    setAt(0);
    setEditing(null);
    setDraft(null);
  }

  const result = draft ?? trace.data;
  const current = Math.min(way, (result?.paths.length ?? 1) - 1);
  const path = result?.paths[current];
  const mending = useMending();
  const mend = (b: Break | undefined) => {
    if (b?.mend && path) void mending(b.mend, mendFor(b, path, target, from), `Mended ${b.short || b.code}`);
  };
  const firstMend = path?.breaks.find((b) => b.mend);
  useKeys({
    j: () => setAt(Math.min(at + 1, (path?.steps.length ?? 1) - 1)),
    k: () => setAt(Math.max(at - 1, 0)),
    m: () => mend(firstMend),
    e: () => {
      const record = path?.steps[at]?.records.at(-1);
      if (record) setEditing(begin(record, at));
    },
    v: () => document.getElementById('vantage')?.focus(),
    o: () => setWay((way + 1) % Math.max(1, result?.paths.length ?? 1)),
    y: () => void navigator.clipboard?.writeText(asText(result)),
    g: () => go(withoutURL(target, { kind: 'name', from })),
    Escape: () => {
      const { search } = tablePlace(); // with the filter that was set there, where it is seen from here too
      const same = (new URLSearchParams(search).get('from') ?? 'internet') === from;
      go(`/${same ? search : from === 'internet' ? '' : `?from=${encodeURIComponent(from)}`}`);
    },
  });
  useViewHints([
    ['j k', 'step'],
    ['e', 'edit the record'],
    ['m', 'mend'],
    ['o', 'other way'],
    ['v', 'seen from'],
    ['g', 'what if gone'],
    ['y', 'copy'],
    ['Esc', 'back to the table'],
  ]);
  useEffect(() => {
    sheet.current?.querySelector(`[data-step="${at}"]`)?.scrollIntoView({ block: 'nearest' });
  }, [at]);

  return (
    <Two>
      <Tools>
        <VantagePicker value={from} onChange={setFrom} />
      </Tools>
      <Side aria-label="Names">
        {(names.data?.rows ?? []).slice(0, 400).map((r) => {
          const t = `${r.name}:${r.port}${r.transport === 'udp' ? '/udp' : ''}`;
          const inside = r.zone && r.name.endsWith(`.${r.zone}`) ? r.name.slice(0, -r.zone.length - 1) : r.name;
          const written = r.unicode?.replace(`.${r.zone}`, '') ?? inside;
          const on = t === target || r.name === target;
          return (
            <SideRow key={t} href={traceURL(t, from)} $on={on} aria-current={on ? 'true' : undefined} title={r.name}>
              <span>{inside === r.zone ? '@ apex' : written}</span>
              <code>{r.port}</code>
              <Mark kind={r.mark} />
            </SideRow>
          );
        })}
      </Side>
      <Sheet ref={sheet} tabIndex={-1}>
        {trace.isError ? (
          <Failed error={trace.error} again={() => void trace.refetch()} />
        ) : !result || !path ? (
          <Loading what={result ? 'There is no way to follow.' : 'Following…'} />
        ) : (
          <>
            <Heading result={result} path={path} drafted={draft !== null} />
            <Tabs selectedKey={String(current)} onSelectionChange={(key) => setWay(Number(key))}>
              <Ways aria-label="Ways" $many={result.paths.length > 1}>
                {result.paths.map((p, i) => (
                  <Way key={i} id={String(i)}>
                    <Mark kind={p.mark} />
                    <code>{wayWord(p, result)}</code>
                  </Way>
                ))}
              </Ways>
              <TabPanel id={String(current)} style={{ outline: 'none' }}>
                <Line
                  path={path}
                  at={at}
                  onAt={setAt}
                  editing={editing}
                  onEdit={(record, step) => setEditing(begin(record, step))}
                  onMend={mend}
                  forWhat={(b) => mendFor(b, path, target, from)}
                  editor={(edited) => (
                    <RecordEditor
                      edited={edited}
                      onType={setEditing}
                      target={target}
                      from={from}
                      onDraft={setDraft}
                      onDone={() => {
                        setEditing(null);
                        setDraft(null);
                      }}
                    />
                  )}
                />
              </TabPanel>
            </Tabs>
          </>
        )}
      </Sheet>
    </Two>
  );
}

function wayWord(p: Path, result: TraceResult) {
  const several = new Set(result.paths.map((x) => x.port)).size > 1;
  const words = [
    several ? `${p.port}${p.transport === 'udp' ? '/udp' : ''}` : '',
    p.address || 'no address',
    p.urlpath === '/' ? '' : p.urlpath,
    p.member ? `to ${p.member}` : '',
    p.via ? `by ${p.via}` : '',
  ];
  const sources = p.sources.only.length
    ? `from ${cidrs(p.sources.only)}`
    : p.sources.except.length
      ? `except ${cidrs(p.sources.except)}`
      : '';
  return [...words, sources].filter(Boolean).join(' ');
}

function Heading({ result, path, drafted }: { result: TraceResult; path: Path; drafted: boolean }) {
  const things = path.breaks.length;
  const name = result.target.replace(/^\w+:\/\//, '').replace(/:\d+(\/\w+)?$/, '');
  const ends = path.end ? `ends at ${path.end}` : 'nobody takes it';
  return (
    <Top>
      <h2>
        {result.unicode ? `${result.unicode} ` : name}
        {result.unicode && <small>{path.steps[0]?.flow.name ?? name}</small>}
        <code>
          {path.port}/{path.transport}
        </code>
      </h2>
      <Said $look={!isGood(path.outcome) && path.outcome !== 'undecided'} data-verdict={path.outcome}>
        <Mark kind={path.mark} />
        <span>
          {drafted && 'as typed: '}
          {outcomeWords[path.outcome]}
          {path.inner && ` (${outcomeWords[path.inner]})`}
          {things > 0 && `, ${things} ${things === 1 ? 'thing' : 'things'} to mend`}
        </span>
      </Said>
      <p>
        seen from {result.from}; {ends}
        {path.intended && `; meant to reach ${path.intended}`}
        {path.sources.only.length > 0 && `; only from ${cidrs(path.sources.only)}`}
        {path.sources.except.length > 0 && `; except from ${cidrs(path.sources.except)}`} ·{' '}
        <Link href={usesURL(hostOf(result.target, name))}>where it is used</Link> ·{' '}
        <Link href={withoutURL(result.target, { kind: name.includes('.') ? 'name' : '', from: result.from })}>
          what it stands on
        </Link>
      </p>
    </Top>
  );
}

/** The name, address or machine in a target. */
function hostOf(target: string, name: string) {
  const host = URL.canParse(target) && target.includes('://') ? new URL(target).hostname : name;
  return host.replace(/^\[|\]$/g, '');
}

/** A record being edited, and the step at which it stood. The step stays while what is typed changes the path. */
interface Edited {
  record: string;
  step: number;
  text: string;
  caret: number;
}

function begin(record: string, step: number): Edited {
  return { record, step, text: record, caret: record.length };
}

interface LineProps {
  path: Path;
  at: number;
  onAt: (i: number) => void;
  editing: Edited | null;
  onEdit: (record: string, step: number) => void;
  onMend: (b: Break) => void;
  forWhat: (b: Break) => MendFor;
  editor: (edited: Edited) => ReactNode;
}

/** What the mend of a break on a path is for. */
function mendFor(b: Break, path: Path, target: string, from: string): MendFor {
  return { code: b.code, subject: b.subject, target, from, port: path.port, udp: path.transport === 'udp' };
}

/** The line from the stranger to the backend: a station a step, a gap a break. */
function Line({ path, at, onAt, editing, onEdit, onMend, forWhat, editor }: LineProps) {
  const breaksAt = useMemo(() => {
    const map = new Map<number, Break[]>();
    for (const b of path.breaks) map.set(b.step, [...(map.get(b.step) ?? []), b]);
    return map;
  }, [path]);
  const editedAt = editing ? Math.min(editing.step, path.steps.length - 1) : -1;
  return (
    <div role="list" aria-label="Steps">
      {path.steps.map((s, i) => {
        const breaks = breaksAt.get(i) ?? [];
        // A step that only says what breaks is said by the gap itself.
        const silent = s.verdict === 'break' && breaks.length > 0;
        const edited = i === editedAt ? editing : null;
        return (
          <div key={i} data-step={i} role="listitem">
            {!silent && (
              <StationRow
                step={s}
                before={path.steps[i - 1]}
                first={i === 0}
                last={i === path.steps.length - 1 && breaks.length === 0}
                on={i === at}
                onAt={() => onAt(i)}
                onEdit={(r) => onEdit(r, i)}
                editing={edited}
                editor={editor}
              />
            )}
            {breaks.map((b) => (
              <BreakRow
                key={b.code + b.at}
                brk={b}
                ground={s.ground}
                onMend={() => onMend(b)}
                of={forWhat(b)}
                onEdit={() => {
                  onAt(i);
                  if (b.records[0]) onEdit(b.records[0], i);
                }}
                editing={silent ? edited : null}
                editor={editor}
              />
            ))}
          </div>
        );
      })}
    </div>
  );
}

const stageWords: Record<Step['stage'], string> = {
  resolve: 'answers',
  route: 'way',
  translate: 'translation',
  filter: 'filter',
  rewrite: 'source',
  socket: 'listener',
  tls: 'TLS',
  site: 'site',
  upstream: 'hands on',
  end: 'end',
};

/** What of the flow a step changed; at the first step, all of it. */
function changed(step: Step, before: Step | undefined) {
  const now = step.flow;
  const was = before?.flow;
  const words = [
    now.to && now.to !== was?.to && `to ${now.to}`,
    now.from && now.from !== was?.from && `from ${now.from === 'internet' ? 'all of internet' : now.from}`,
    now.name && was && now.name !== was.name && `asked for ${now.name}`,
    was?.encrypted && !now.encrypted && 'in the clear from here',
  ];
  return words.filter(Boolean).join(', ');
}

interface StationProps {
  step: Step;
  before: Step | undefined;
  first: boolean;
  last: boolean;
  on: boolean;
  onAt: () => void;
  onEdit: (record: string) => void;
  editing: Edited | null;
  editor: (edited: Edited) => ReactNode;
}

function StationRow({ step, before, first, last, on, onAt, onEdit, editing, editor }: StationProps) {
  const ghost = step.ghost ?? false;
  const [, go] = useLocation();
  return (
    <Station $ground={step.ground} $ghost={ghost} $on={on} onClick={onAt}>
      <Rail $ghost={ghost} $first={first} $last={last} />
      <div>
        <b>
          <Wrapping text={step.at} />
        </b>
        <small>{stageWords[step.stage]}</small>
      </div>
      <div>
        {step.why}
        {step.chain && <Chain links={step.chain} />}
        <small>
          {changed(step, before)} {step.flow.encrypted && <Lock />}
        </small>
      </div>
      {editing !== null ? (
        <div>{editor(editing)}</div>
      ) : step.records.length > 0 ? (
        <Records>
          {step.filter && (
            <LinkButton onPress={() => go(filterURL(step.filter ?? ''))}>{step.filter}, line by line</LinkButton>
          )}
          {step.records.map((r) => (
            <RecordLine key={r} type="button" $ghost={ghost} title="edit this record" onClick={() => onEdit(r)}>
              <Wrapping text={r} />
            </RecordLine>
          ))}
        </Records>
      ) : (
        <div />
      )}
    </Station>
  );
}

interface BreakProps {
  brk: Break;
  ground: string;
  onMend: () => void;
  of: MendFor;
  onEdit: () => void;
  editing: Edited | null;
  editor: (edited: Edited) => ReactNode;
}

function BreakRow({ brk, ground, onMend, of, onEdit, editing, editor }: BreakProps) {
  const holds = useHolds(brk.mend, of);
  const declaring = useDeclaring(brk.mend, of);
  const { change } = useSession();
  return (
    <Gap $ground={ground} data-break={brk.code}>
      <Stop />
      <section aria-label={brk.short}>
        <h3>
          {brk.short}
          <small>{brk.code}</small>
        </h3>
        <p>{brk.why}</p>
        {editing !== null ? (
          <div style={{ gridColumn: '1 / -1' }}>{editor(editing)}</div>
        ) : (
          <>
            {brk.mend ? (
              <Tried mend={brk.mend} of={of} withEffect={false} />
            ) : (
              <span>What belongs here is not in the records.</span>
            )}
            <Buttons>
              {holds && <Strong onPress={onMend}>Mend</Strong>}
              {declaring && (
                <Strong onPress={() => void change(declaring, `Mended ${brk.short || brk.code}, and declared it`)}>
                  Mend and declare
                </Strong>
              )}
              {brk.records.length > 0 && <Plain onPress={onEdit}>Edit</Plain>}
            </Buttons>
          </>
        )}
      </section>
    </Gap>
  );
}

/** The line is stopped here, and goes on in outline. */
function Stop() {
  return (
    <svg aria-hidden="true" preserveAspectRatio="none" viewBox="0 0 18 100">
      <StopPaths />
    </svg>
  );
}

const StopPath = styled.path`
  stroke: ${(p) => p.theme.magenta};
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
`;

const GhostPath = styled.path`
  stroke: ${(p) => p.theme.faint};
  stroke-width: 2;
  stroke-dasharray: 2 3;
  vector-effect: non-scaling-stroke;
`;

function StopPaths() {
  return (
    <>
      <StopPath d="M9 0V16M2 16H16M5 20H13" />
      <GhostPath d="M9 26V100" />
    </>
  );
}

interface EditorProps {
  edited: Edited;
  target: string;
  from: string;
  onType: (e: Edited) => void;
  onDraft: (r: TraceResult | null) => void;
  onDone: () => void;
}

/**
 * A record edited where it stands; the verdict answers as one types, and nothing is kept before Enter. What is typed
 * is the trace's, since the step it stands at comes and goes with the path.
 */
function RecordEditor({ edited, target, from, onType, onDraft, onDone }: EditorProps) {
  const { record, text, caret } = edited;
  const [wrong, setWrong] = useState('');
  const { change } = useSession();
  const field = useRef<HTMLTextAreaElement>(null);
  const place = useRef(caret);
  useEffect(() => {
    field.current?.focus();
    field.current?.setSelectionRange(place.current, place.current);
  }, []);
  useEffect(() => {
    if (text === record) {
      onDraft(null);
      return;
    }
    let gone = false;
    const stop = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const add = text.trim() === '' ? [] : [text];
        const body = { base: revisionNow(), remove: [record], add, target, from };
        const r = await ask(api.POST('/api/draft/trace', { body, signal: stop.signal }));
        if (gone) return;
        setWrong('');
        onDraft(r);
      } catch (error) {
        if (gone) return;
        const fault = error instanceof Failure ? error.problem?.faults?.[0] : undefined;
        setWrong(
          fault
            ? `${fault.what}${fault.expected ? `; expected ${fault.expected}` : ''}`
            : String((error as Error).message),
        );
      }
    }, 70);
    return () => {
      gone = true;
      clearTimeout(timer);
      stop.abort();
    };
  }, [text, record, target, from, onDraft]);
  const save = async () => {
    if (text === record) {
      onDone();
      return;
    }
    const did = await change({ remove: [record], add: text.trim() === '' ? [] : [text.trim()] }, 'Changed the record');
    if (did) onDone();
  };
  return (
    <Editing>
      <textarea
        ref={field}
        rows={2}
        aria-label="the record as notation"
        value={text}
        spellCheck={false}
        onChange={(e) =>
          onType({
            ...edited,
            text: e.target.value.replace(/\n/g, ' '),
            caret: e.target.selectionStart ?? e.target.value.length,
          })
        }
        onKeyDown={(e) => {
          if (e.key === 'Enter') {
            e.preventDefault();
            void save();
          } else if (e.key === 'Escape') {
            e.preventDefault();
            e.stopPropagation();
            onDone();
          }
        }}
      />
      <p role="status">
        {wrong !== ''
          ? wrong
          : text.trim() === ''
            ? 'Enter removes the record.'
            : 'Enter keeps it, Escape leaves it as it was.'}{' '}
        <LinkButton onPress={() => void save()}>keep</LinkButton> · <LinkButton onPress={onDone}>leave</LinkButton>
      </p>
    </Editing>
  );
}

/** The trace as plain text, for a letter or a ticket. */
function asText(r: TraceResult | null | undefined) {
  if (!r) return '';
  const out = [`${r.target} from ${r.from}: ${outcomeWords[r.verdict]}`];
  for (const p of r.paths) {
    out.push(
      '',
      `${p.port}/${p.transport} ${p.address}${p.urlpath === '/' ? '' : p.urlpath}${p.member ? ` to ${p.member}` : ''}: ${outcomeWords[p.outcome]}`,
    );
    for (const s of p.steps) {
      out.push(
        `  ${s.verdict === 'break' ? 'X' : s.ghost ? ':' : '|'} ${s.at}: ${s.why}`,
        ...s.records.map((x) => `        ${x}`),
      );
    }
    for (const b of p.breaks) {
      out.push(
        `  ${b.code}: ${b.why}`,
        ...(b.mend?.remove ?? []).map((x) => `    - ${x}`),
        ...(b.mend?.add ?? []).map((x) => `    + ${x}`),
      );
    }
  }
  return out.join('\n');
}
