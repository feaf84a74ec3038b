// The line from the stranger to the backend: a station a step, a gap a break.
import { useMemo, type ReactNode } from 'react';
import styled, { css } from 'styled-components';
import { useLocation } from 'wouter';
import type { Break, Path, SeenLook, Step } from '../../api/client';
import { LinkButton, Plain, Strong } from '../../ui/Quiet';
import { Lock } from '../../ui/marks';
import { filterURL } from '../../ui/route';
import { useLinesInForce } from '../../ui/altered';
import { Wrapping } from '../../ui/Wrapping';
import { Chain } from '../answers/Chain';
import { SeenLines } from '../look/Seen';
import { useSession } from '../change/session';
import { Tried, useDeclaring, useHolds, type MendFor } from '../change/tried';
import type { Edited } from './RecordEditor';
import { size } from '../../ui/theme';

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

export const Station = styled.div<{ $ground: string; $ghost: boolean; $on: boolean }>`
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
    font-size: ${size.plain};
    line-height: 16px;
    color: ${(p) => p.theme.ink2};
  }
`;

export const Rail = styled.div<{ $ghost: boolean; $first: boolean; $last: boolean }>`
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
  > section > div > p:first-child {
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
  &[data-altered] {
    padding-left: 9px;
  }
  &:hover {
    text-decoration: underline;
    text-decoration-style: dashed;
    text-underline-offset: 3px;
  }
`;

interface LineProps {
  path: Path;
  at: number;
  onAt: (i: number) => void;
  editing: Edited | null;
  onEdit: (record: string, step: number) => void;
  onMend: (b: Break) => void;
  forWhat: (b: Break) => MendFor;
  editor: (edited: Edited) => ReactNode;
  /** What was seen, by station. */
  seen?: Map<number, SeenLook[]>;
}

/** What the mend of a break on a path is for. */
export function mendFor(b: Break, path: Path, target: string, from: string): MendFor {
  return { code: b.code, subject: b.subject, target, from, port: path.port, udp: path.transport === 'udp' };
}

/** The line from the stranger to the backend: a station a step, a gap a break. */
export function Line({ path, at, onAt, editing, onEdit, onMend, forWhat, editor, seen }: LineProps) {
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
                seen={seen?.get(i)}
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
                seen={silent && b === breaks[0] ? seen?.get(i) : undefined}
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

/** Where a step is done, and what kind of step it is. */
export function PlaceCell({ step }: { step: Step }) {
  return (
    <div>
      <b>
        <Wrapping text={step.at} />
      </b>
      <small>{stageWords[step.stage]}</small>
    </div>
  );
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
  seen: SeenLook[] | undefined;
}

function StationRow({ step, before, first, last, on, onAt, onEdit, editing, editor, seen }: StationProps) {
  const ghost = step.ghost ?? false;
  const [, go] = useLocation();
  const inForce = useLinesInForce();
  return (
    <Station $ground={step.ground} $ghost={ghost} $on={on} onClick={onAt}>
      <Rail $ghost={ghost} $first={first} $last={last} />
      <PlaceCell step={step} />
      <div>
        {step.why}
        {step.chain && <Chain links={step.chain} />}
        <small>
          {changed(step, before)} {step.flow.encrypted && <Lock />}
        </small>
        <SeenLines looks={seen} />
      </div>
      {editing !== null ? (
        <div>{editor(editing)}</div>
      ) : step.records.length > 0 ? (
        <Records>
          {step.filter && (
            <LinkButton onPress={() => go(filterURL(step.filter ?? ''))}>{step.filter}, line by line</LinkButton>
          )}
          {step.records.map((r) => (
            <RecordLine
              key={r}
              type="button"
              $ghost={ghost}
              title="edit this record"
              data-altered={(inForce && !inForce.has(r)) || undefined}
              onClick={() => onEdit(r)}
            >
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
  seen?: SeenLook[];
}

export function BreakRow({ brk, ground, onMend, of, onEdit, editing, editor, seen }: BreakProps) {
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
        <div>
          <p>{brk.why}</p>
          <SeenLines looks={seen} />
        </div>
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
