import { useEffect, useRef } from 'react';
import styled from 'styled-components';
import type { KindWords } from '../../api/client';
import { Offers, useWriting } from './writing';

const Box = styled.div`
  position: relative;
  input {
    width: 100%;
    min-width: 12ch;
    height: 30px;
    border: 0;
    outline: 2px solid ${(p) => p.theme.ink};
    outline-offset: -2px;
    background: ${(p) => p.theme.panel};
    color: ${(p) => p.theme.ink};
    padding: 0 10px;
    font:
      12px/30px 'IBM Plex Mono',
      monospace;
  }
  p {
    position: absolute;
    top: 30px;
    left: 0;
    min-width: 100%;
    width: max-content;
    max-width: 420px;
    white-space: normal;
    padding: 5px 10px;
    background: ${(p) => p.theme.panel};
    border: 1px dashed ${(p) => p.theme.magenta};
    color: ${(p) => p.theme.magenta};
    font:
      12px/17px 'IBM Plex Sans Variable',
      sans-serif;
  }
`;

/** A cell that is being written. It is of its record, wherever that stands by now. */
export interface EditedCell {
  line: string;
  column: string;
  /** What stood there before. */
  was: string;
  text: string;
  /** Why it could not be kept as it is. */
  refused: string;
}

interface Props {
  kind: KindWords;
  cell: EditedCell;
  onType: (text: string) => void;
  /** Keeps the cell, and goes to the one beside it where a step is given. */
  onKeep: (step: number) => void;
  onLeave: () => void;
}

/** Enter keeps what is typed, Tab keeps it and goes on, Escape leaves it as it was. What is wrong is said below, and stays typed. */
export function CellEditor({ kind, cell, onType, onKeep, onLeave }: Props) {
  const { line, column, text } = cell;
  const field = useRef<HTMLInputElement>(null);
  const left = useRef(false);
  const { wrong, offers } = useWriting({ kind: kind.word, lines: [line], cells: { [column]: text }, offer: column });
  useEffect(() => field.current?.select(), []);
  const said = cell.refused || (text !== cell.was && wrong?.column === column ? wrong.said : '');
  const keep = (step: number) => {
    if (said !== '') return;
    left.current = true;
    onKeep(step);
  };
  return (
    <Box>
      <input
        ref={field}
        autoFocus
        aria-label={`${column} of ${line}`}
        aria-invalid={said !== ''}
        list="cell-offers"
        value={text}
        spellCheck={false}
        autoComplete="off"
        onChange={(e) => onType(e.target.value)}
        onBlur={() => {
          if (!left.current && document.hasFocus()) keep(0);
        }}
        onKeyDown={(e) => {
          e.stopPropagation();
          if (e.key === 'Enter') keep(0);
          else if (e.key === 'Tab') keep(e.shiftKey ? -1 : 1);
          else if (e.key === 'Escape') {
            left.current = true;
            onLeave();
          } else return;
          e.preventDefault();
        }}
      />
      <Offers id="cell-offers" offers={offers} />
      {said !== '' && <p role="alert">{said}</p>}
    </Box>
  );
}
