import { useMemo, useState } from 'react';
import styled, { css } from 'styled-components';
import { useLocation } from 'wouter';
import { useFilter, type FilterAnswer, type FilterLine, type Share } from '../../api/client';
import { EffectList } from '../change/EffectList';
import { useKeys } from '../../ui/keys';
import { ListLine, LongList } from '../../ui/LongList';
import { MendLines } from '../change/MendLines';
import { usePreview } from '../change/preview';
import { Acts, Failed, LinkButton, Loading, Plain, Quiet, Strong } from '../../ui/Quiet';
import { traceURL, useChosen, useQueryWord } from '../../ui/route';
import { useSession } from '../change/session';
import { Lines, Sheet, Side, Top, Two } from '../../ui/TwoPane';
import { useViewHints } from '../../ui/hints';
import { Wrapping } from '../../ui/Wrapping';
import { useLinesInForce } from '../../ui/altered';
import { size } from '../../ui/theme';

const columns = '44px 62px minmax(90px, 1.1fr) minmax(90px, 1.4fr) minmax(90px, 1.2fr) 118px';

const Head = styled.div`
  position: sticky;
  top: 0;
  z-index: 1;
  display: grid;
  grid-template-columns: ${columns};
  column-gap: 14px;
  padding: 6px 24px 5px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  background: ${(p) => p.theme.ground};
  color: ${(p) => p.theme.ink2};
  font-size: ${size.plain};
`;

const inColumns = css`
  display: grid;
  grid-template-columns: ${columns};
  column-gap: 14px;
  align-items: start;
  padding: 6px 24px;
  border-bottom: 1px solid ${(p) => p.theme.hairline};
  font:
    12px/19px 'IBM Plex Mono',
    monospace;
  overflow-wrap: anywhere;
  small {
    font:
      12px/19px 'IBM Plex Sans Variable',
      sans-serif;
    color: ${(p) => p.theme.ink2};
  }
  b {
    font-weight: 600;
  }
`;

const Line = styled(ListLine)<{ $off: boolean; $look: boolean }>`
  ${inColumns}
  color: ${(p) => (p.$off ? p.theme.ink2 : p.theme.ink)};
  &[data-selected] {
    box-shadow: inset 3px 0 0 ${(p) => (p.$look ? p.theme.magenta : p.theme.ink)};
  }
`;

const Rest = styled.div`
  ${inColumns}
`;

const Said = styled.span<{ $look?: boolean }>`
  grid-column: 3 / 6;
  font:
    12.5px/19px 'IBM Plex Sans Variable',
    sans-serif;
  color: ${(p) => (p.$look ? p.theme.magenta : p.theme.ink2)};
`;

const Wrong = styled.p`
  color: ${(p) => p.theme.magenta};
  margin: 8px 0;
`;

const says: Record<string, string> = { pass: 'passes', drop: 'drops', refuse: 'refuses', unknown: 'not known' };

/** A filter as an ordered list: what each line takes that those before it did not, who needs it, and what moving it does. */
export function Filter({ name }: { name: string }) {
  const filter = useFilter(name);
  if (filter.isError) return <Failed error={filter.error} again={() => void filter.refetch()} />;
  if (!filter.data) return <Loading what="Reading the filter…" />;
  return <InOrder key={filter.data.name} filter={filter.data} />;
}

/** What is to become of the chosen line. */
type Plan = { kind: 'none' } | { kind: 'without' } | { kind: 'move'; from: number; to: number };

const none: Plan = { kind: 'none' };

function InOrder({ filter }: { filter: FilterAnswer }) {
  const { change } = useSession();
  const [, go] = useLocation();
  const [word, setWord] = useQueryWord('line', '1');
  const { chosen: now, choose: setNow, settle } = useChosen(word, setWord);
  const at = Math.min(Math.max(Number(now) || 1, 1), Math.max(filter.lines.length, 1));
  const [plan, setPlan] = useState<Plan>(none);
  const line = filter.lines[at - 1];

  const choose = (place: string) => {
    setPlan(none);
    setNow(place);
  };
  const move = (by: number) => {
    if (!line) return;
    const from = plan.kind === 'move' ? plan.to : at;
    const to = Math.min(Math.max(from + by, 1), filter.lines.length);
    setPlan(to === at ? none : { kind: 'move', from: at, to });
  };
  const { remove, add } = useMemo(() => edit(filter.name, line, plan), [filter.name, line, plan]);
  const preview = usePreview(remove, add);
  const keep = async () => {
    if (!line || remove.length === 0 || preview.wrong) return;
    const why =
      plan.kind === 'move'
        ? `Moved line ${at} of ${filter.name} to ${plan.to}`
        : `Took line ${at} out of ${filter.name}`;
    if (!(await change({ remove, add }, why))) return;
    if (plan.kind === 'move') setNow(String(plan.to));
    setPlan(none);
  };

  useViewHints([
    ['↑ ↓', 'lines'],
    ['[ ]', 'move it up, down'],
    ['-', 'without it'],
    ['Enter', 'keep'],
  ]);
  useKeys({
    '[': () => move(-1),
    ']': () => move(1),
    '-': () => setPlan((p) => (p.kind === 'without' ? none : { kind: 'without' })),
    Escape: () => setPlan(none),
  });

  const inForce = useLinesInForce();
  const drawn = useMemo(() => row(inForce), [inForce]);
  const shown = useMemo(
    () => arranged(filter.lines, plan).map((l) => ({ ...l, id: String(l.place) })),
    [filter.lines, plan],
  );
  return (
    <Two>
      <Sheet
        style={{
          overflow: 'hidden',
          display: 'grid',
          gridTemplateRows: 'auto auto minmax(0, auto) auto',
          alignContent: 'start',
        }}
      >
        <Top>
          <h2>Filter {filter.name}</h2>
          <p>
            {filter.says} {filter.dropWins && 'Its drops are met before all else. '}
            {filter.on.length > 1 && `It stands on ${filter.on.slice(0, 6).join(', ')}`}
            {filter.on.length > 6 && ` and ${filter.on.length - 6} more`}
          </p>
        </Top>
        <Head aria-hidden>
          <span>line</span>
          <span>does</span>
          <span>ports</span>
          <span>from</span>
          <span>to</span>
          <span>for</span>
        </Head>
        {shown.length === 0 ? (
          <Quiet>It has no line: everything is met by what it says of the rest.</Quiet>
        ) : (
          <LongList
            label={`Lines of ${filter.name}`}
            items={shown}
            chosen={String(at)}
            onChoose={choose}
            onEnter={() => void keep()}
            lineHeight={32}
          >
            {drawn}
          </LongList>
        )}
        <Rest>
          <small>rest</small>
          <b>{says[filter.otherwise] ?? filter.otherwise}</b>
          <Said>
            what no line names
            {filter.keeps.length > 0 && (
              <>
                . The filter alone keeps the internet from <Places names={filter.keeps} />
              </>
            )}
          </Said>
        </Rest>
      </Sheet>
      <Side aria-label="The chosen line">
        {line ? (
          <>
            <h3>Line {line.place}</h3>
            <p style={{ marginBottom: 10 }}>
              <code>
                <Wrapping text={line.record} />
              </code>
            </p>
            {line.before.length > 0 && !line.shadowed && (
              <p style={{ marginBottom: 10 }}>
                {line.before.length === 1 ? 'Line' : 'Lines'} {line.before.slice(0, 8).join(', ')}
                {line.before.length > 8 && ` and ${line.before.length - 8} more`} before it take part of what it names.
              </p>
            )}
            {line.keeps.length > 0 && (
              <p style={{ marginBottom: 14 }}>
                It alone keeps the internet from <Places names={line.keeps} />.
              </p>
            )}
            {line.needs > 0 ? (
              <>
                <h3>
                  {line.needs} {line.needs === 1 ? 'gets' : 'get'} through by it
                </h3>
                <Lines>
                  {line.neededBy.slice(0, 12).map((n) => (
                    <li key={n}>
                      <LinkButton
                        onPress={() => {
                          settle();
                          go(traceURL(n));
                        }}
                      >
                        {n}
                      </LinkButton>
                    </li>
                  ))}
                  {line.needs > 12 && <li>and {line.needs - 12} more</li>}
                </Lines>
              </>
            ) : (
              line.keeps.length === 0 && <p style={{ marginBottom: 14 }}>Nothing that is meant gets through by it.</p>
            )}
            <Acts>
              <Plain onPress={() => move(-1)} isDisabled={(plan.kind === 'move' ? plan.to : at) <= 1}>
                Up
              </Plain>
              <Plain onPress={() => move(1)} isDisabled={(plan.kind === 'move' ? plan.to : at) >= filter.lines.length}>
                Down
              </Plain>
              <Plain onPress={() => setPlan({ kind: 'without' })}>Without it</Plain>
            </Acts>
            {plan.kind !== 'none' && (
              <>
                <MendLines mend={{ remove, add }} />
                {preview.wrong !== '' && <Wrong role="alert">{preview.wrong}</Wrong>}
                {preview.effect && (
                  <div style={{ margin: '12px -14px 0' }}>
                    <EffectList
                      effect={preview.effect}
                      verb={plan.kind === 'move' ? `At ${plan.to} it would` : 'Without it this would'}
                    />
                  </div>
                )}
                <Acts>
                  <Strong isDisabled={!preview.effect} onPress={() => void keep()}>
                    {plan.kind === 'move' ? `Move to ${plan.to}` : 'Take it out'}
                  </Strong>
                  <Plain onPress={() => setPlan(none)}>Leave it</Plain>
                </Acts>
              </>
            )}
          </>
        ) : (
          <p>Record a line with `rule {filter.name} pass …` in the bearing line.</p>
        )}
      </Side>
    </Two>
  );
}

/** What a line is there for, in two words. */
function wantedFor(line: FilterLine): string {
  if (line.keeps.length > 0) return `keeps ${line.keeps.length} shut`;
  return line.needs > 0 ? `lets ${line.needs} in` : 'nothing';
}

/** Places and ports in a sentence, of many the first. */
function Places({ names }: { names: string[] }) {
  const more = names.length - 6;
  return (
    <>
      {names.slice(0, 6).map((n, i) => (
        <span key={n}>
          {i > 0 && ', '}
          <code>{n}</code>
        </span>
      ))}
      {more > 0 && ` and ${more} more`}
    </>
  );
}

/** The lines that go and come with a plan. */
function edit(filter: string, line: FilterLine | undefined, plan: Plan): { remove: string[]; add: string[] } {
  if (!line || plan.kind === 'none') return { remove: [], add: [] };
  if (plan.kind === 'without') return { remove: [line.record], add: [] };
  const head = `rule ${filter} `;
  return { remove: [line.record], add: [`${head}at ${plan.to} ${line.record.slice(head.length)}`] };
}

/** The lines in the order that a plan gives them. */
function arranged(lines: FilterLine[], plan: Plan) {
  if (plan.kind !== 'move') return lines;
  const out = lines.filter((l) => l.place !== plan.from);
  const moved = lines[plan.from - 1];
  if (moved) out.splice(plan.to - 1, 0, moved);
  return out;
}

const row = (inForce: ReadonlySet<string> | undefined) => (line: FilterLine & { id: string }) => {
  const look = line.shadowed || line.idle;
  return (
    <Line
      id={line.id}
      textValue=""
      $off={line.off}
      $look={look}
      data-rule={line.place}
      data-altered={(inForce && !inForce.has(line.record)) || undefined}
    >
      <small>{line.place}</small>
      <b>{line.off ? 'off' : (says[line.action] ?? line.action)}</b>
      {line.off ? (
        <Said>
          <code>{line.record}</code>
        </Said>
      ) : line.shadowed ? (
        <Said $look>
          {line.before.length === 0
            ? 'names nothing that comes this way'
            : `nothing is left for it: ${line.before.length === 1 ? 'line' : 'lines'} ${line.before.slice(0, 6).join(', ')} ${line.before.length === 1 ? 'takes' : 'take'} all that it names`}
        </Said>
      ) : line.takes.length === 0 ? (
        <Said>
          {line.partly ? 'it overlaps too many lines for its share to be told' : 'names nothing that comes this way'}
        </Said>
      ) : (
        <Shares line={line} />
      )}
      <small>
        {line.off || line.shadowed ? '' : wantedFor(line)}
        {line.idle && ' · changes nothing'}
      </small>
    </Line>
  );
};

function Shares({ line }: { line: FilterLine }) {
  const first = line.takes.slice(0, 3);
  const cell = (of: (s: Share) => string) => (
    <span>
      {first.map((s, i) => (
        <div key={i}>{of(s)}</div>
      ))}
    </span>
  );
  const rest = line.takes.length - first.length + line.more;
  return (
    <>
      <span>
        {first.map((s, i) => (
          <div key={i}>{s.ports}</div>
        ))}
        {rest > 0 && <small>and {rest} more parts</small>}
      </span>
      {cell((s) => words(s.from) + by(s.entering, 'in by'))}
      {cell((s) => words(s.to) + by(s.leaving, 'out by'))}
    </>
  );
}

const words = (list: string[]) =>
  list.length === 0 ? 'any' : list.slice(0, 8).join(', ') + (list.length > 8 ? ` and ${list.length - 8} more` : '');
const by = (list: string[], how: string) => (list.length === 0 ? '' : `, ${how} ${list.join(', ')}`);
