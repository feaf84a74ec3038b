import styled from 'styled-components';
import { Link } from 'wouter';
import type { Effect, OldAnswer } from '../../api/client';
import { moment } from '../../ui/time';
import { isGood, outcomeWords } from '../../ui/marks';
import { size } from '../../ui/theme';

const Table = styled.div`
  font-size: ${size.plain};
  h4 {
    margin: 0;
    padding: 8px 14px 4px;
    font-weight: 400;
    font-size: ${size.plain};
    color: ${(p) => p.theme.ink2};
  }
  ul {
    margin: 0;
    padding: 0;
  }
  li {
    list-style: none;
    display: grid;
    grid-template-columns: minmax(0, 11fr) minmax(0, 10fr);
    gap: 12px;
    padding: 4px 14px;
    border-top: 1px solid ${(p) => p.theme.hairline};
  }
  li > * {
    min-width: 0;
    overflow-wrap: anywhere;
  }
  a {
    border-bottom: 1px dashed ${(p) => p.theme.ink2};
  }
  a:hover {
    border-bottom-style: solid;
  }
`;

const Look = styled.span<{ $look: boolean }>`
  color: ${(p) => (p.$look ? p.theme.magenta : p.theme.ink)};
  font-weight: ${(p) => (p.$look ? 500 : 400)};
`;

const few = 6;

interface EffectListProps {
  effect: Effect;
  verb: string;
  flush?: boolean;
  /** Every line of it, instead of the first few of each. */
  all?: boolean;
  /** Where a name is seen before and after, side by side. */
  compared?: (target: string, from: string) => string;
}

/** What a change does: to names, doors and findings, the worst first. */
export function EffectList({ effect, verb, flush, all, compared }: EffectListProps) {
  const shown = all ? Infinity : few;
  const more = (n: number, what: string) => moreThan(shown, n, what);
  const subject = ({ subject: text, trace }: Effect['ended'][number]) =>
    compared && trace ? <Link href={compared(trace.target, trace.from)}>{text}</Link> : text;
  const nothing =
    !effect.lost.length &&
    !effect.old.length &&
    !effect.names.length &&
    !effect.doors.length &&
    !effect.ended.length &&
    !effect.brought.length;
  const brought = [...effect.brought].sort((a, b) => rank(a.level) - rank(b.level));
  return (
    <Table data-effect style={flush ? { margin: '0 -14px' } : undefined}>
      <h4>{nothing ? `${verb} change nothing that anyone meets.` : verb}</h4>
      <ul>
        {effect.lost.slice(0, shown).map((s) => (
          <li key={s.place + s.port} data-shut>
            <code>
              {s.place}:{s.port}
            </code>
            <Look $look>
              shuts {s.service} for {s.from.join(', ')}
              {s.nobody ? ': nobody is left who reaches it' : ', who are meant to reach it'}
            </Look>
          </li>
        ))}
        {more(effect.lost.length, 'more ports for administration are shut')}
        {brought.slice(0, shown).map((f) => (
          <li key={f.code + f.subject}>
            <code>{subject(f)}</code>
            <Look $look>{f.why}</Look>
          </li>
        ))}
        {more(brought.length, 'more findings come')}
        {effect.names.slice(0, shown).map((n) => (
          <li key={n.name + n.port + n.from}>
            <code>
              {compared ? <Link href={compared(targetOf(n), n.from)}>{targetOf(n)}</Link> : targetOf(n)}
              {n.from !== 'internet' && ` from ${n.from}`}
            </code>
            <Look $look={n.after !== null && !isGood(n.after)}>
              {n.before === null ? 'new' : outcomeWords[n.before]} → {n.after === null ? 'gone' : outcomeWords[n.after]}
            </Look>
          </li>
        ))}
        {more(effect.names.length, 'more names change')}
        {effect.old.length > 2 && effect.old[0] ? (
          <li>
            <code>{effect.old.length} records</code>
            <span>{oldWords(effect.old[0])}</span>
          </li>
        ) : (
          effect.old.map((o) => (
            <li key={o.name + o.type}>
              <code>
                {o.name} {o.type}
              </code>
              <span>{oldWords(o)}</span>
            </li>
          ))
        )}
        {effect.doors.slice(0, shown).map((d) => (
          <li key={d.from + d.address + d.ports + d.transport + String(d.opens) + d.place + d.to}>
            <code>{compared ? <Link href={compared(doorTarget(d), d.from)}>{doorText(d)}</Link> : doorText(d)}</code>
            <Look $look={d.opens && d.intent !== 'declared'}>
              {d.opens ? `opens to ${d.to}${declared[d.intent]}` : `closes to ${d.to}`}
            </Look>
          </li>
        ))}
        {more(effect.doors.length, 'more doors')}
        {effect.ended.slice(0, shown).map((f) => (
          <li key={f.code + f.subject}>
            <code>{subject(f)}</code>
            <span>ends: {f.why}</span>
          </li>
        ))}
        {more(effect.ended.length, 'more findings end')}
      </ul>
    </Table>
  );
}

/** A number of seconds in the largest unit that is even. */
export function duration(seconds: number) {
  for (const [size, letter] of [
    [604800, 'w'],
    [86400, 'd'],
    [3600, 'h'],
    [60, 'm'],
  ] as const) {
    if (seconds > 0 && seconds % size === 0) return `${seconds / size}${letter}`;
  }
  return `${seconds}s`;
}

/** Until when an answer that changes now may still be seen as it was. */
export function oldWords(o: OldAnswer) {
  const until = new Date(Date.now() + o.seconds * 1000);
  return `${o.missing ? 'that it was not there may be remembered' : 'the old answer may be seen'} until ${moment(until)} (${duration(o.seconds)})`;
}

type Door = Effect['doors'][number];

const declared = { declared: ', as meant', partial: ', declared in part', none: ', undeclared' };

function host(d: Door) {
  return d.address.includes(':') ? `[${d.address}]` : d.address;
}

function doorText(d: Door) {
  return `${host(d)}:${d.ports}${d.transport === 'udp' ? '/udp' : ''}`;
}

/** The first port of a door, as a target. */
function doorTarget(d: Door) {
  return `${host(d)}:${d.ports.split('-')[0]}${d.transport === 'udp' ? '/udp' : ''}`;
}

/** A name as a target with its port. */
export function targetOf(n: Effect['names'][number]) {
  return `${n.name}:${n.port}${n.transport === 'udp' ? '/udp' : ''}`;
}

function rank(level: string) {
  return level === 'error' ? 0 : level === 'warning' ? 1 : 2;
}

function moreThan(shown: number, n: number, what: string) {
  return n > shown ? (
    <li>
      <span>
        {n - shown} {what}
      </span>
    </li>
  ) : null;
}
