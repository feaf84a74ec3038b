import { useEffect, useRef, useState } from 'react';
import { Tab, TabList, TabPanel, Tabs } from 'react-aria-components';
import styled, { css } from 'styled-components';
import { Link, useLocation } from 'wouter';
import { useNames, useTrace, type Break, type Path, type TraceResult } from '../../api/client';
import { apiURL, useThrough } from '../../api/through';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { cidrs, isGood, Mark, outcomeWords } from '../../ui/marks';
import { VantagePicker } from '../../ui/Picker';
import { Failed, Loading } from '../../ui/Quiet';
import { compareURL, planURL, tablePlace, traceURL, usesURL, useQueryWord, withoutURL } from '../../ui/route';
import { beginPublishing } from '../frame/bearing';
import { Tools } from '../../ui/Tools';
import { useMending } from '../change/tried';
import { OtherEnd } from '../uses/WaysIn';
import { Line, mendFor } from './Line';
import { begin, RecordEditor, type Edited } from './RecordEditor';
import { useLookNow } from '../look/lookNow';
import { seenAt, useSeen } from '../look/Seen';
import { Suspects } from '../look/Suspects';
import { asText, hostOf, wayWord } from './words';
import { size } from '../../ui/theme';

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
    font-size: ${size.head};
    line-height: 24px;
    overflow-wrap: anywhere;
    code {
      font-size: ${size.text};
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

export const Said = styled.div<{ $look: boolean }>`
  display: flex;
  align-items: center;
  gap: 8px;
  font-weight: 600;
  color: ${(p) => (p.$look ? p.theme.magenta : p.theme.ink)};
  white-space: nowrap;
`;

export const Ways = styled(TabList)<{ $many: boolean }>`
  display: ${(p) => (p.$many ? 'flex' : 'none')};
  flex-wrap: wrap;
  gap: 0 22px;
  padding: 0 26px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
`;

export const Way = styled(Tab)`
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
  const host = hostOf(target, path?.steps[0]?.flow.name ?? '');
  const seen = useSeen(host, from);
  const lookNow = useLookNow();
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
    c: () => go(compareURL(target, { from })),
    l: () => void lookNow([target]),
    i: () => beginPublishing({ name: host }),
    z: () => go(planURL(`retire ${host}`)),
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
    ['c', 'compare'],
    ['g', 'what if gone'],
    ['l', 'look now'],
    ['i', 'publish'],
    ['z', 'retire'],
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
        <a
          href={apiURL('/api/trace.svg', { target, from })}
          download={`trace-of-${target.replace(/[^\p{L}\p{N}.-]+/gu, '-')}.svg`}
        >
          SVG
        </a>
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
                  seen={seenAt(path, seen)}
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
            {seen.some((l) => l.agrees === 'no' && !l.old && (l.port === 0 || l.port === path.port)) && (
              <Suspects target={target} onLook={lookNow} />
            )}
            {path.intended && path.breaks.length > 0 && !isGood(path.outcome) && (
              <OtherEnd to={path.intended} from={from} />
            )}
          </>
        )}
      </Sheet>
    </Two>
  );
}

function Heading({ result, path, drafted }: { result: TraceResult; path: Path; drafted: boolean }) {
  const looking = useThrough();
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
        </Link>{' '}
        · <Link href={compareURL(result.target, { from: result.from })}>beside another</Link>
        {looking > 0 && (
          <>
            {' '}
            ·{' '}
            <Link href={compareURL(result.target, { from: result.from, draft: looking })}>beside what is in force</Link>
          </>
        )}
      </p>
    </Top>
  );
}
