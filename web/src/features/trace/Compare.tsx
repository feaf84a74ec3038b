import { useState, type ReactNode } from 'react';
import { TabPanel, Tabs } from 'react-aria-components';
import styled, { css, type DefaultTheme } from 'styled-components';
import { useLocation } from 'wouter';
import {
  useComparison,
  useDrafts,
  useLastChanges,
  useNames,
  useVantages,
  type Break,
  type Pair,
  type Path,
  type Segment,
  type Step,
  type TraceResult,
} from '../../api/client';
import { useViewHints } from '../../ui/hints';
import { useKeys } from '../../ui/keys';
import { isGood, Mark, outcomeWords } from '../../ui/marks';
import { Picker, VantagePicker } from '../../ui/Picker';
import { Failed, Loading, Quiet } from '../../ui/Quiet';
import { compareURL, traceURL, useQueryWord } from '../../ui/route';
import { Wrapping } from '../../ui/Wrapping';
import { useMending } from '../change/tried';
import { BreakRow, mendFor, PlaceCell, Rail, Station } from './Line';
import { Said, Way, Ways } from './Trace';
import { asText, wayWord } from './words';
import { size } from '../../ui/theme';

const Sheet = styled.div`
  overflow: auto;
  padding-bottom: 40px;
`;

const Halves = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  > * + * {
    border-left: 1px solid ${(p) => p.theme.rule};
  }
`;

const SideHead = styled.header`
  padding: 10px 24px 9px 26px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  display: grid;
  grid-template-columns: minmax(0, 1fr) auto;
  gap: 3px 16px;
  align-content: start;
  align-items: start;
  min-width: 0;
  h2 {
    font-weight: 600;
    font-size: ${size.lead};
    line-height: 22px;
    overflow-wrap: anywhere;
  }
  > div:last-child {
    grid-column: 1 / -1;
    display: flex;
    flex-wrap: wrap;
    gap: 2px 18px;
    color: ${(p) => p.theme.ink2};
  }
`;

const Column = styled.div`
  display: flex;
  flex-direction: column;
  min-width: 0;
`;

const Half = styled(Station)`
  grid-template-columns: 38px minmax(0, 146px) minmax(0, 1fr);
  padding: 0 14px 0 26px;
`;

const Records = styled.div`
  font:
    12px/17px 'IBM Plex Mono',
    monospace;
  font-style: normal;
  color: ${(p) => p.theme.ink2};
  overflow-wrap: anywhere;
`;

/** How a line is drawn: what happens, what would past a break, or not at all. */
type Drawn = 'live' | 'ghost' | 'none';

function line(drawn: Drawn, theme: DefaultTheme) {
  return drawn === 'none' ? '0' : drawn === 'live' ? `2px solid ${theme.ink}` : `2px dotted ${theme.faint}`;
}

/** Where the rail stands in a column, in pixels. */
const railAt = 34;

/** A side's line goes on where it has no step of its own. */
const Through = styled.div<{ $line: Drawn }>`
  flex: 1;
  position: relative;
  &::before {
    content: '';
    position: absolute;
    left: ${railAt}px;
    top: 0;
    bottom: -1px;
    border-left: ${(p) => line(p.$line, p.theme)};
  }
`;

const turn = css<{ $left: Drawn; $right: Drawn }>`
  position: relative;
  height: 20px;
  &::before {
    content: '';
    position: absolute;
    left: ${railAt}px;
    top: -1px;
    bottom: -1px;
    border-left: ${(p) => line(p.$left, p.theme)};
  }
  &::after {
    content: '';
    position: absolute;
    left: ${railAt}px;
    width: calc(50% + 2px);
    top: -1px;
    bottom: -1px;
    border-right: ${(p) => line(p.$right, p.theme)};
  }
`;

/** The other side's line leaves the common one. */
const Parting = styled.div<{ $left: Drawn; $right: Drawn }>`
  ${turn}
  &::after {
    border-top: ${(p) => line(p.$right, p.theme)};
    border-top-right-radius: 12px;
  }
`;

/** And comes back to it. */
const Joining = styled.div<{ $left: Drawn; $right: Drawn }>`
  ${turn}
  &::after {
    border-bottom: ${(p) => line(p.$right, p.theme)};
    border-bottom-right-radius: 12px;
  }
`;

const Alike = styled.p`
  padding: 7px 26px 8px;
  color: ${(p) => p.theme.ink2};
  border-bottom: 1px solid ${(p) => p.theme.hairline};
`;

/** The vantage that a trace is held against, where none is said: from inside what was from outside, and the other way round. */
function useOpposite(from: string) {
  const vantages = useVantages();
  if (from !== 'internet') return 'internet';
  return vantages.data?.find((v) => v.kind === 'network')?.name ?? 'internet';
}

/** Two traces side by side, joined where they are the same and split where they part. */
export function Compare({ target }: { target: string }) {
  const [from, setFrom] = useQueryWord('from', 'internet');
  const [other, setOther] = useQueryWord('other', '');
  const [revision, setRevision] = useQueryWord('revision', '');
  const [draft, setDraft] = useQueryWord('with', '');
  const [saidFrom, setOtherFrom] = useQueryWord('otherfrom', '');
  const opposite = useOpposite(from);
  const otherfrom = saidFrom || (other || revision || draft ? from : opposite);
  const comparison = useComparison(target, from, { other, otherfrom, revision, draft });
  const past = revision !== '' || draft !== '';
  const [chosen, setWay] = useState<number | null>(null);
  const [, go] = useLocation();
  const c = comparison.data;
  const current = Math.min(chosen ?? firstParting(c?.ways ?? []), (c?.ways.length ?? 1) - 1);
  const pair = c?.ways[current];
  const mending = useMending();
  const mend = (b: Break, path: Path, side: TraceResult) => {
    if (b.mend) void mending(b.mend, mendFor(b, path, side.target, side.from), `Mended ${b.short || b.code}`);
  };
  useKeys({
    o: () => setWay((current + 1) % Math.max(1, c?.ways.length ?? 1)),
    s: () => !past && go(compareURL(other || target, { from: otherfrom, other: target, otherFrom: from })),
    v: () => document.getElementById('othervantage')?.focus(),
    m: () => {
      const first = c && pair && firstMend(c.left, c.right, pair, !past);
      if (first) mend(first.brk, first.path, first.side);
    },
    y: () => void navigator.clipboard?.writeText(c ? `${asText(c.left)}\n\n${asText(c.right)}` : ''),
    Escape: () => go(traceURL(target, from)),
  });
  useViewHints([
    ['o', 'other way'],
    ['s', 'change sides'],
    ['m', 'mend'],
    ['v', 'seen from'],
    ['y', 'copy'],
    ['Esc', 'the left one alone'],
  ]);
  return (
    <Sheet>
      <Halves>
        <SideHead>
          <h2>{target}</h2>
          <Verdict result={c?.left} path={pathOf(c?.left, pair?.left)} />
          <div>
            <VantagePicker value={from} onChange={setFrom} />
          </div>
        </SideHead>
        <SideHead>
          <h2>{other || target}</h2>
          <Verdict result={c?.right} path={pathOf(c?.right, pair?.right)} />
          <div>
            <VantagePicker value={otherfrom} onChange={setOtherFrom} id="othervantage" />
            <OtherTarget value={other} onChange={setOther} />
            <Revision value={revision} onChange={setRevision} />
            <WithDraft value={draft} onChange={setDraft} />
          </div>
        </SideHead>
      </Halves>
      {comparison.isError ? (
        <Failed error={comparison.error} again={() => void comparison.refetch()} />
      ) : !c || !pair ? (
        <Loading what={c ? 'There is no way to follow on either side.' : 'Following both…'} />
      ) : (
        <Tabs selectedKey={String(current)} onSelectionChange={(key) => setWay(Number(key))}>
          <Ways aria-label="Ways" $many={c.ways.length > 1}>
            {c.ways.map((w, i) => (
              <Way key={i} id={String(i)}>
                {[pathOf(c.left, w.left), pathOf(c.right, w.right)].map((p, n) => p && <Mark key={n} kind={p.mark} />)}
                <code>{pairWord(c.left, c.right, w)}</code>
              </Way>
            ))}
          </Ways>
          <TabPanel id={String(current)} style={{ outline: 'none' }}>
            <Segments
              left={c.left}
              right={c.right}
              pair={pair}
              breakRow={(b, path, side) => (
                <BreakRow
                  key={b.code + b.at}
                  brk={b}
                  ground={path.steps[b.step]?.ground ?? 'land'}
                  of={mendFor(b, path, side.target, side.from)}
                  onMend={() => mend(b, path, side)}
                  onEdit={() => go(traceURL(side.target, side.from))}
                  editing={null}
                  editor={() => null}
                />
              )}
              past={past}
            />
          </TabPanel>
        </Tabs>
      )}
    </Sheet>
  );
}

/** The first way that both have and that is not the same: what one came to see. */
function firstParting(ways: Pair[]) {
  return Math.max(
    0,
    ways.findIndex((w) => w.left !== null && w.right !== null && !w.same),
  );
}

function pathOf(result: TraceResult | undefined, index: number | null | undefined) {
  return index === null || index === undefined ? undefined : result?.paths[index];
}

function pairWord(left: TraceResult, right: TraceResult, w: Pair) {
  const a = pathOf(left, w.left);
  const b = pathOf(right, w.right);
  const here = a && wayWord(a, left);
  const there = b && wayWord(b, right);
  return here && there && here !== there ? `${here} · ${there}` : (here ?? there ?? '');
}

/** The first break with a mend, of the left way and then of the right one; none of what is past. */
function firstMend(left: TraceResult, right: TraceResult, pair: Pair, rightToo: boolean) {
  for (const [side, index] of [[left, pair.left], ...(rightToo ? [[right, pair.right]] : [])] as [
    TraceResult,
    number | null,
  ][]) {
    const path = pathOf(side, index);
    const brk = path?.breaks.find((b) => b.mend);
    if (path && brk) return { side, path, brk };
  }
  return null;
}

function Verdict({ result, path }: { result: TraceResult | undefined; path: Path | undefined }) {
  if (!result) return <span />;
  if (!path) return <Said $look={false}>no such way</Said>;
  const things = path.breaks.length;
  return (
    <Said $look={!isGood(path.outcome) && path.outcome !== 'undecided'} data-verdict={path.outcome}>
      <Mark kind={path.mark} />
      <span>
        {outcomeWords[path.outcome]}
        {path.inner && ` (${outcomeWords[path.inner]})`}
        {things > 0 && `, ${things} to mend`}
      </span>
    </Said>
  );
}

function OtherTarget({ value, onChange }: { value: string; onChange: (target: string) => void }) {
  const names = useNames('internet');
  const rows = names.data?.rows ?? [];
  const items = rows.map((r) => ({ name: `${r.name}:${r.port}${r.transport === 'udp' ? '/udp' : ''}`, kind: '' }));
  return <Picker label="of" value={value} onChange={onChange} items={items} empty="the same" />;
}

function Revision({ value, onChange }: { value: string; onChange: (revision: string) => void }) {
  const changes = useLastChanges();
  const items = changes.map((e) => ({ name: String(e.revision), kind: e.why ?? e.act }));
  return <Picker label="at revision" value={value} onChange={onChange} items={items} empty="now" />;
}

/** The other side as a draft would make it. */
function WithDraft({ value, onChange }: { value: string; onChange: (draft: string) => void }) {
  const drafts = useDrafts();
  const items = (drafts.data ?? []).map((d) => ({ name: `${d.id} ${d.title}`, kind: '' }));
  if (items.length === 0 && value === '') return null;
  const shown = items.find((i) => i.name.startsWith(`${value} `))?.name ?? value;
  const choose = (name: string) => onChange(name.split(' ')[0] ?? '');
  return <Picker label="with draft" value={shown} onChange={choose} items={items} empty="none" />;
}

interface SegmentsProps {
  left: TraceResult;
  right: TraceResult;
  pair: Pair;
  /** The right side is an older revision, or a draft: nothing of it can be mended here. */
  past: boolean;
  breakRow: (b: Break, path: Path, side: TraceResult) => ReactNode;
}

function Segments({ left, right, pair, past, breakRow }: SegmentsProps) {
  const a = pathOf(left, pair.left);
  const b = pathOf(right, pair.right);
  const all = pair.segments;
  return (
    <div role="list" aria-label="Steps of both">
      {pair.same && <Alike>Both go the same way, step by step.</Alike>}
      {all.map((s, i) =>
        s.joined && a && b ? (
          <div key={i}>
            {s.left.map((n, k) => {
              const there = s.right[k] ?? 0;
              const [step, twin] = [a.steps[n], b.steps[there]];
              const broken = a.breaks.filter((x) => x.step === n);
              return (
                step &&
                twin && (
                  <div key={n} role="listitem">
                    {!(step.verdict === 'break' && broken.length > 0) && (
                      <Joined
                        step={step}
                        twin={twin}
                        first={i === 0 && k === 0}
                        last={i === all.length - 1 && k === s.left.length - 1}
                      />
                    )}
                    {broken.map((x) => breakRow(x, a, left))}
                  </div>
                )
              );
            })}
          </div>
        ) : (
          <Split
            key={i}
            {...{ left, right, a, b, past, breakRow }}
            before={all[i - 1]}
            segment={s}
            after={all[i + 1]}
          />
        ),
      )}
    </div>
  );
}

function drawn(step: Step | undefined): Drawn {
  return !step ? 'none' : step.ghost ? 'ghost' : 'live';
}

interface SplitProps extends Omit<SegmentsProps, 'pair'> {
  a: Path | undefined;
  b: Path | undefined;
  before: Segment | undefined;
  segment: Segment;
  after: Segment | undefined;
}

/** What each side does by itself, between what both do. */
function Split({ left, right, a, b, past, breakRow, before, segment, after }: SplitProps) {
  const was = [a?.steps[before?.left.at(-1) ?? -1], b?.steps[before?.right.at(-1) ?? -1]];
  const next = [a?.steps[after?.left[0] ?? -1], b?.steps[after?.right[0] ?? -1]];
  const side = (
    result: TraceResult,
    path: Path | undefined,
    steps: number[],
    goesOn: Step | undefined,
    where: string,
  ) => (
    <Column data-side={where}>
      {steps.map((n) => {
        const step = path?.steps[n];
        const broken = path?.breaks.filter((x) => x.step === n) ?? [];
        return (
          step && (
            <div key={n} role="listitem">
              {!(step.verdict === 'break' && broken.length > 0) && (
                <HalfStation
                  step={step}
                  first={n === 0}
                  last={n === (path?.steps.length ?? 0) - 1 && broken.length === 0}
                />
              )}
              {path &&
                broken.map((x) =>
                  past && where === 'right' ? <PastBreak key={x.code} brk={x} /> : breakRow(x, path, result),
                )}
            </div>
          )
        );
      })}
      {!path && (
        <Quiet>
          {result.target} has no such way from {result.from}.
        </Quiet>
      )}
      <Through $line={drawn(goesOn)} />
    </Column>
  );
  return (
    <>
      {before && <Parting $left={drawn(was[0])} $right={drawn(was[1])} />}
      <Halves>
        {side(left, a, segment.left, next[0], 'left')}
        {side(right, b, segment.right, next[1], 'right')}
      </Halves>
      {after && <Joining $left={drawn(next[0])} $right={drawn(next[1])} />}
    </>
  );
}

/** A break of an older revision: it is said, and not to be mended. */
function PastBreak({ brk }: { brk: Break }) {
  return (
    <Half $ground="water" $ghost={false} $on={false} data-break={brk.code}>
      <Rail $ghost $first={false} $last={false} />
      <div>
        <Said $look>{brk.short}</Said>
        <small>{brk.code}</small>
      </div>
      <div>{brk.why}</div>
    </Half>
  );
}

/** What is done to both; where it is said otherwise of the other, that stands below. */
function Joined({ step, twin, first, last }: { step: Step; twin: Step; first: boolean; last: boolean }) {
  const ghost = Boolean(step.ghost && twin.ghost);
  return (
    <Station $ground={step.ground} $ghost={ghost} $on={false} data-joined="">
      <Rail $ghost={ghost} $first={first} $last={last} />
      <PlaceCell step={step} />
      <div>
        {step.why}
        {twin.why !== step.why && <small>on the right: {twin.why}</small>}
      </div>
      <RecordLines records={step.records} />
    </Station>
  );
}

function HalfStation({ step, first, last }: { step: Step; first: boolean; last: boolean }) {
  return (
    <Half $ground={step.ground} $ghost={step.ghost ?? false} $on={false}>
      <Rail $ghost={step.ghost ?? false} $first={first} $last={last} />
      <PlaceCell step={step} />
      <div>
        {step.why}
        <RecordLines records={step.records} />
      </div>
    </Half>
  );
}

function RecordLines({ records }: { records: string[] }) {
  return (
    <Records>
      {records.map((r) => (
        <div key={r}>
          <Wrapping text={r} />
        </div>
      ))}
    </Records>
  );
}
