import { useVirtualizer } from '@tanstack/react-virtual';
import { scaleSymlog } from 'd3-scale';
import { useRef, useState, type KeyboardEvent } from 'react';
import styled, { useTheme } from 'styled-components';
import type { WallAddress } from '../../api/client';
import { LinkButton } from '../../ui/Quiet';
import { count } from '../../ui/time';
import { size } from '../../ui/theme';

/** A range of ports in a wall. */
export interface Gap {
  id: string;
  lo: number;
  hi: number;
  udp: boolean;
  some: boolean; // only some sources may pass
  look: boolean; // nobody declared it
  unknown: boolean; // nobody knows
  change?: 'opens' | 'closes';
}

const left = 166;
const right = 24;
const band = 56;
const first = 1;
const last = 65535;

// Between even steps and powers of ten: the ports that people use, from 22 to 9100, get most of the width.
const bend = 30;
const forth = (port: number) => Math.log1p(port / bend);
const back = (at: number) => Math.expm1(at) * bend;

const Box = styled.div`
  position: relative;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  min-height: 0;
  display: grid;
  grid-template-rows: 26px minmax(0, 1fr);
`;

const Axis = styled.div`
  position: relative;
  font:
    11.5px/26px 'IBM Plex Mono',
    monospace;
  color: ${(p) => p.theme.ink2};
  span {
    position: absolute;
    transform: translateX(-50%);
    white-space: nowrap;
  }
  button {
    position: absolute;
    left: 24px;
    font:
      12px/18px 'IBM Plex Sans Variable',
      sans-serif;
  }
`;

const Sheet = styled.div`
  overflow: auto;
  position: relative;
  outline: none;
`;

const Row = styled.div`
  position: absolute;
  left: 0;
  width: 100%;
  height: ${band}px;
  .water,
  .land {
    position: absolute;
    left: 0;
    right: 0;
    height: 50%;
  }
  .water {
    top: 0;
    background: ${(p) => p.theme.water};
  }
  .land {
    bottom: 0;
    background: ${(p) => p.theme.land};
    border-bottom: 1px solid ${(p) => p.theme.hairline};
  }
  code {
    position: absolute;
    left: 24px;
    top: 9px;
    width: ${left - 34}px;
    font:
      600 12px/16px 'IBM Plex Mono',
      monospace;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  small {
    position: absolute;
    left: 24px;
    top: 31px;
    width: ${left - 34}px;
    color: ${(p) => p.theme.ink2};
    font-size: ${size.small};
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  svg {
    position: absolute;
    left: 0;
    top: 0;
  }
`;

interface Props {
  addresses: WallAddress[];
  gaps: Map<string, Gap[]>; // by address
  chosen: string;
  onChoose: (id: string) => void;
}

/** The wall: a line for each address over the ports, with a gap for each door. */
export function Wall({ addresses, gaps, chosen, onChoose }: Props) {
  const theme = useTheme();
  const scroll = useRef<HTMLDivElement>(null);
  const [[from, to], setRange] = useState<[number, number]>([first, last]);
  const [width, setWidth] = useState(1280);
  // eslint-disable-next-line react-hooks/incompatible-library -- the compiler leaves this part as it is
  const rows = useVirtualizer({
    count: addresses.length,
    getScrollElement: () => scroll.current,
    estimateSize: () => band,
    overscan: 4,
    onChange: (v) => {
      const w = v.scrollRect?.width;
      if (w && Math.abs(w - width) > 1) setWidth(w);
    },
  });
  const end = Math.max(left + 200, width - right);
  const x = scaleSymlog([from, to + 1], [left, end]).constant(bend);
  const zoom = (factor: number, at: number) => {
    const mid = forth(Math.min(Math.max(at, from), to));
    const lo = Math.max(first, Math.floor(back(mid - (mid - forth(from)) * factor)));
    const hi = Math.min(last, Math.ceil(back(mid + (forth(to + 1) - mid) * factor)) - 1);
    if (hi - lo >= 8) setRange([lo, hi]);
  };
  const pan = (part: number) => {
    const wide = forth(to + 1) - forth(from);
    const lo = Math.min(Math.max(forth(from) + wide * part, forth(first)), forth(last + 1) - wide);
    setRange([Math.max(first, Math.round(back(lo))), Math.min(last, Math.round(back(lo + wide)) - 1)]);
  };
  const onKey = (e: KeyboardEvent) => {
    const mid = back((forth(from) + forth(to + 1)) / 2);
    if (e.key === '+' || e.key === '=') zoom(0.6, mid);
    else if (e.key === '-') zoom(1 / 0.6, mid);
    else if (e.key === '0') setRange([first, last]);
    else if (e.key === 'ArrowLeft') pan(-0.2);
    else if (e.key === 'ArrowRight') pan(0.2);
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  const whole = from === first && to === last;
  return (
    <Box
      onWheel={(e) => {
        if (e.ctrlKey || e.shiftKey || Math.abs(e.deltaX) > Math.abs(e.deltaY)) {
          const box = e.currentTarget.getBoundingClientRect();
          if (e.ctrlKey) zoom(e.deltaY > 0 ? 1.25 : 0.8, x.invert(e.clientX - box.left));
          else pan((e.deltaX || e.deltaY) / 1200);
        }
      }}
    >
      <Axis aria-hidden={whole}>
        {!whole && <LinkButton onPress={() => setRange([first, last])}>all ports</LinkButton>}
        {ticks(from, to, x).map((t) => (
          <span key={t} style={{ left: Math.min(end - 14, Math.max(left + 6, x(t))) }}>
            {count(t)}
          </span>
        ))}
      </Axis>
      <Sheet
        ref={scroll}
        tabIndex={0}
        role="group"
        aria-label={`The wall, ports ${from} to ${to}: plus and minus zoom, arrows move, 0 shows all. The table below says the same.`}
        onKeyDown={onKey}
      >
        <div style={{ height: rows.getTotalSize(), position: 'relative' }}>
          {rows.getVirtualItems().map((v) => {
            const a = addresses[v.index];
            if (!a) return null;
            const seen = (gaps.get(a.address) ?? []).filter((g) => g.hi >= from && g.lo <= to);
            return (
              <Row key={a.address} data-wall={a.address} style={{ transform: `translateY(${v.start}px)` }}>
                <div className="water" />
                <div className="land" />
                <code title={a.address}>{a.address}</code>
                <small>
                  {a.machine}
                  {a.dynamic && ', changes'}
                </small>
                <svg width={end + right} height={band} aria-hidden="true">
                  <path d={`M${left} 28H${end}`} stroke={theme.ink} strokeWidth="4" />
                  {layOut(seen, x, end).map((g) => (
                    <Opening key={g.gap.id} {...g} chosen={g.gap.id === chosen} onChoose={() => onChoose(g.gap.id)} />
                  ))}
                </svg>
              </Row>
            );
          })}
        </div>
      </Sheet>
    </Box>
  );
}

const marks = [1, 10, 22, 50, 80, 100, 200, 443, 1000, 2000, 5000, 10000, 20000, 65535];

/** Marks along the ports, in even steps where the range is narrow; none closer to the one before than it is wide. */
function ticks(from: number, to: number, x: (port: number) => number) {
  const step = [1, 2, 5, 10, 20, 50, 100, 200, 500, 1000].find((s) => (to - from) / s <= 12);
  const list = step
    ? Array.from({ length: 14 }, (_, i) => (Math.ceil(from / step) + i) * step).filter((t) => t <= to)
    : marks.filter((m) => m >= from && m <= to && m !== 22 && m !== 80 && m !== 443);
  let free = 0;
  return list.filter((t) => {
    const ok = x(t) > free;
    if (ok) free = x(t) + 52;
    return ok;
  });
}

interface Laid {
  gap: Gap;
  lo: number;
  hi: number;
  label: boolean;
}

/** Where each gap is, at least a few pixels wide; labels where there is room, those to look at first. */
function layOut(gaps: Gap[], x: (port: number) => number, end: number): Laid[] {
  const out = gaps.map((gap) => {
    const a = Math.max(left, x(gap.lo));
    const b = Math.min(end, x(gap.hi + 1));
    const mid = Math.min(end - 5, Math.max(left + 5, (a + b) / 2));
    const half = Math.max(5, (b - a) / 2);
    return { gap, lo: mid - half, hi: mid + half, label: false };
  });
  const taken: [number, number][] = [];
  for (const g of [...out].sort((a, b) => rank(a.gap) - rank(b.gap) || a.gap.lo - b.gap.lo)) {
    const mid = (g.lo + g.hi) / 2;
    const half = (word(g.gap).length * 7.3) / 2 + 3;
    g.label = !taken.some(([lo, hi]) => mid - half < hi && mid + half > lo);
    if (g.label) taken.push([mid - half, mid + half]);
  }
  return out;
}

function rank(g: Gap) {
  if (g.change) return g.change === 'opens' ? 0 : 1;
  return g.look ? 2 : g.unknown ? 4 : 3;
}

function word(g: Gap) {
  const ports = g.hi > g.lo ? `${g.lo}-${g.hi}` : String(g.lo);
  return `${g.change === 'opens' ? '+' : g.change === 'closes' ? '−' : ''}${ports}${g.udp ? '/udp' : ''}`;
}

function Opening({ gap, lo, hi, label, chosen, onChoose }: Laid & { chosen: boolean; onChoose: () => void }) {
  const theme = useTheme();
  const ink = gap.look ? theme.magenta : theme.ink;
  const mid = (lo + hi) / 2;
  const shut = gap.change === 'closes';
  return (
    <g data-gap={gap.id} onClick={onChoose} style={{ cursor: 'pointer' }}>
      <rect x={lo - 4} y="4" width={hi - lo + 8} height={band - 8} fill="transparent" />
      {!shut && <path d={`M${lo} 28H${hi}`} stroke={theme.water} strokeWidth="6" />}
      {gap.unknown && <path d={`M${lo} 28H${hi}`} stroke={theme.ink2} strokeWidth="4" strokeDasharray="2 3" />}
      {gap.some && !gap.unknown && (
        <path
          d={Array.from(
            { length: Math.max(2, Math.floor((hi - lo) / 4)) },
            (_, i) => `M${lo + 1 + i * 4} 32l4 -8`,
          ).join('')}
          stroke={ink}
          strokeWidth="1.2"
        />
      )}
      {!gap.unknown && !shut && (
        <>
          <path d={`M${mid} 20V37`} stroke={ink} strokeWidth="1.8" />
          <path d={`M${mid - 4} 36H${mid + 4}L${mid} 42Z`} fill={ink} />
        </>
      )}
      {shut && <path d={`M${lo} 22V34M${hi} 22V34`} stroke={theme.ink} strokeWidth="1.2" />}
      {label && (
        <text
          x={mid}
          y="15"
          textAnchor="middle"
          fill={ink}
          fontFamily="IBM Plex Mono, monospace"
          fontSize={size.plain}
          fontWeight={chosen ? 700 : 500}
          textDecoration={chosen ? 'underline' : undefined}
        >
          {word(gap)}
        </text>
      )}
    </g>
  );
}
