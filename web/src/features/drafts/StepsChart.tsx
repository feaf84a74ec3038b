import styled, { useTheme } from 'styled-components';
import type { Outcome, SafeOrder } from '../../api/client';
import { isGood, outcomeWords } from '../../ui/marks';

const Picture = styled.svg`
  display: block;
  width: 100%;
  height: auto;
  text {
    font:
      12px 'IBM Plex Sans Variable',
      sans-serif;
  }
`;

const works = (o: Outcome | undefined) => o !== undefined && (isGood(o) || o === 'partly');

const left = 262;
const top = 74;
const row = 27;

/** Every name's line through every step: unbroken while it works, dashed for those who still have the old answer; doors as bars; waits in blue. */
export function StepsChart({ order }: { order: SafeOrder }) {
  const theme = useTheme();
  const { steps, passages, doors } = order;
  const column = Math.max(104, Math.min(190, Math.floor((800 - left) / steps.length)));
  const x = (n: number) => left + n * column; // where step n begins, from 0
  const width = Math.max(x(steps.length) + 50, 850);
  const doorsTop = top + passages.length * row + (passages.length > 0 ? 26 : 0);
  const height = doorsTop + doors.length * row + 20;
  const end = x(steps.length) + 22;
  return (
    <Picture
      viewBox={`0 0 ${width} ${height}`}
      role="img"
      aria-label={`${passages.length} names and ${doors.length} doors through ${steps.length} steps`}
      data-steps={steps.length}
      style={{ maxWidth: width, padding: '8px 10px 0' }}
    >
      {steps.map((s, n) => {
        const [first, second] = twoLines(s.kind === 'wait' ? `wait ${(s.why ?? '').split(':')[0]}` : s.at, column);
        return (
          <g key={n}>
            <rect
              x={x(n)}
              y={4}
              width={column}
              height={height - 16}
              fill={s.kind === 'wait' ? theme.shallowsHead : theme.water}
              stroke={theme.hairline}
            />
            <text x={x(n) + 8} y={22} fill={theme.ink} style={{ fontWeight: 600 }}>
              {n + 1} {first}
            </text>
            <text x={x(n) + 8} y={38} fill={theme.ink} style={{ fontWeight: 600 }}>
              {second}
            </text>
            <text x={x(n) + 8} y={55} fill={theme.ink2}>
              {s.kind === 'wait' ? 'old answers' : lineWords(s.remove.length, s.add.length)}
            </text>
          </g>
        );
      })}
      {passages.map((p, i) => {
        const y = top + i * row + 10;
        return (
          <g key={p.target + p.from} data-passage={p.target}>
            <title>
              {p.target} from {p.from}
            </title>
            <text x={14} y={y + 4} fill={theme.ink} style={{ fontWeight: p.changes ? 600 : 400 }}>
              {short(p.target, p.from)}
              {p.from !== 'internet' && <tspan fill={theme.ink2}> {p.from}</tspan>}
            </text>
            {p.after.map((o, n) => {
              const from = n === 0 ? left - 18 : x(n - 1) + column / 2;
              const to = n === p.after.length - 1 ? end : x(n) + column / 2;
              const good = works(o);
              const begins = n === 0 || good !== works(p.after[n - 1]);
              return good ? (
                <g key={n}>
                  <line x1={from} x2={to} y1={y} y2={y} stroke={theme.ink} strokeWidth={2} />
                  {p.old[n] && (
                    <path
                      d={`M${from} ${y}q10 7 20 7H${to - 20}q10 0 20 -7`}
                      fill="none"
                      stroke={theme.ink}
                      strokeDasharray="3 3"
                    />
                  )}
                </g>
              ) : (
                begins && (
                  <g key={n}>
                    <path
                      d={`M${from} ${y}h12M${from + 15} ${y - 6}v12M${from + 19} ${y - 6}v12`}
                      stroke={theme.magenta}
                      strokeWidth={2}
                      fill="none"
                    />
                    <text x={from + 26} y={y + 4} fill={theme.magenta}>
                      {outcomeWords[o]}
                    </text>
                  </g>
                )
              );
            })}
            {works(p.after[p.after.length - 1]) && <path d={`M${end} ${y - 5}v10l9 -5Z`} fill={theme.ink} />}
          </g>
        );
      })}
      {doors.length > 0 && (
        <text x={14} y={doorsTop - 8} fill={theme.ink2}>
          doors to the internet
        </text>
      )}
      {doors.map((d, i) => {
        const y = doorsTop + i * row + 8;
        return (
          <g key={d.address + d.ports + d.place} data-door={`${d.address}:${d.ports}`}>
            <title>
              {d.address}:{d.ports} on {d.place}
            </title>
            <text x={14} y={y + 4} fill={theme.ink}>
              {d.address}:{d.ports}
            </text>
            {d.open.map((open, n) => {
              if (!open) return null;
              const from = n === 0 ? left - 18 : x(n - 1) + column / 2;
              const to = n === d.open.length - 1 ? end + 9 : x(n) + column / 2;
              const look = d.intent !== 'declared';
              return (
                <g key={n}>
                  <line
                    x1={from}
                    x2={to}
                    y1={y}
                    y2={y}
                    stroke={look && !d.open[0] ? theme.magenta : theme.ink}
                    strokeWidth={5}
                  />
                  {n < d.open.length - 1 && !d.open[n + 1] && (
                    <text x={to + 7} y={y + 4} fill={theme.ink2}>
                      shut
                    </text>
                  )}
                  {n > 0 && !d.open[n - 1] && (
                    <text x={from} y={y - 5} fill={look ? theme.magenta : theme.ink2}>
                      {opening[d.intent]}
                    </text>
                  )}
                </g>
              );
            })}
          </g>
        );
      })}
    </Picture>
  );
}

const opening = { declared: 'opens, as meant', partial: 'opens, declared in part', none: 'opens, declared by nobody' };

/** A place of work in two lines that fit a column. */
function twoLines(at: string, column: number): [string, string] {
  const words = at.split(' ');
  const most = Math.floor(column / 7.4);
  const cut = (w = '') => (w.length > most ? `${w.slice(0, most - 1)}…` : w);
  return [cut(words[0]), cut(words.slice(1).join(' '))];
}

function lineWords(out: number, in_: number) {
  return [out > 0 && `${out} out`, in_ > 0 && `${in_} in`].filter(Boolean).join(', ');
}

function short(target: string, from: string) {
  const most = from === 'internet' ? 36 : 35 - from.length;
  return target.length > most ? `${target.slice(0, most - 1)}…` : target;
}
