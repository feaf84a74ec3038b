import { useCallback, useState } from 'react';
import styled, { useTheme } from 'styled-components';
import type { Due } from '../../api/client';
import { laneHeight, placed, scaled, today, wordsOf } from './timeline';

const Box = styled.div`
  border-bottom: 1px solid ${(p) => p.theme.rule};
  background: ${(p) => p.theme.panel};
  overflow: hidden;
  svg {
    display: block;
  }
  text {
    font:
      12px 'IBM Plex Sans Variable',
      sans-serif;
  }
  text.name {
    font-weight: 600;
  }
  [data-date] {
    cursor: pointer;
  }
`;

const top = 34;
const foot = 34;

interface Props {
  dates: readonly Due[];
  day: string;
  chosen: string;
  onChoose: (id: string) => void;
}

/** What comes due on a line of time, today marked; the near future has most of the width. The list below has the same, to be read and walked. */
export function Timeline({ dates, day, chosen, onChoose }: Props) {
  const theme = useTheme();
  const [width, setWidth] = useState(1280);
  const measured = useCallback((box: HTMLDivElement | null) => {
    if (!box) return;
    const watch = new ResizeObserver(() => setWidth(Math.max(700, box.clientWidth)));
    watch.observe(box);
    return () => watch.disconnect();
  }, []);
  const { at, steps } = scaled(dates, width);
  const places = placed(dates, at, width);
  const used = Math.max(1, ...places.map((p) => (p.lane ?? 0) + 1));
  const line = top + used * laneHeight + 4;
  const height = line + foot;
  const windows = dates.filter((d) => d.window && d.days >= 0 && d.window.from <= day);
  const unsaid = places.filter((p) => p.lane === undefined).length;
  return (
    <Box ref={measured} data-timeline>
      <svg width={width} height={height} aria-hidden>
        <rect x={0} y={0} width={today} height={height} fill={theme.ground} />
        <line x1={0} x2={width} y1={line} y2={line} stroke={theme.ink} strokeWidth={1.5} />
        {steps.map((s) => (
          <g key={s.word}>
            <line x1={s.x} x2={s.x} y1={line - 5} y2={line + 5} stroke={theme.ink2} />
            <text x={s.x} y={line + 22} textAnchor="middle" fill={theme.ink2}>
              {s.word}
            </text>
          </g>
        ))}
        <text x={24} y={line + 22} fill={theme.ink2}>
          over
        </text>
        {windows.map((d) => (
          <g key={idOf(d)}>
            <rect
              x={today}
              y={line - 4}
              width={Math.max(0, at(d.days) - today)}
              height={8}
              fill={theme.landHead}
              stroke={theme.ink2}
              strokeWidth={0.75}
            />
          </g>
        ))}
        {places.map(({ due, x, lane, before }) => {
          const ink = due.concern ? theme.magenta : theme.ink;
          const id = idOf(due);
          const y = lane === undefined ? line - 8 : top + (used - 1 - lane) * laneHeight;
          const [name, said] = wordsOf(due);
          const tries = due.window && due.window.from <= day && !due.late ? `, ${due.window.tries} tries left` : '';
          return (
            <g key={id} data-date={due.name} onClick={() => onChoose(id)}>
              <title>{`${due.date} ${due.name}: ${due.means}`}</title>
              <line
                x1={x}
                x2={x}
                y1={y}
                y2={line}
                stroke={ink}
                strokeWidth={id === chosen ? 2.5 : 1}
                strokeDasharray={due.concern ? '4 3' : undefined}
              />
              <circle cx={x} cy={line} r={id === chosen ? 5.5 : 4} fill={ink} />
              {lane !== undefined && (
                <>
                  <text
                    x={before ? x - 6 : x + 6}
                    y={y + 10}
                    textAnchor={before ? 'end' : 'start'}
                    fill={ink}
                    className="name"
                  >
                    {name}
                  </text>
                  <text x={before ? x - 6 : x + 6} y={y + 26} textAnchor={before ? 'end' : 'start'} fill={theme.ink2}>
                    {said + tries}
                  </text>
                </>
              )}
            </g>
          );
        })}
        <line x1={today} x2={today} y1={8} y2={line + 10} stroke={theme.ink} strokeWidth={2} />
        <text x={today + 6} y={19} fill={theme.ink} className="name">
          today, {new Date(`${day}T00:00`).toLocaleDateString(undefined, { day: 'numeric', month: 'long' })}
        </text>
        {unsaid > 0 && (
          <text x={width - 24} y={19} textAnchor="end" fill={theme.ink2}>
            {unsaid} without room for their words, in the list below
          </text>
        )}
      </svg>
    </Box>
  );
}

export const idOf = (d: Due) => `${d.kind} ${d.record || d.name} ${d.date}`;
