import styled from 'styled-components';
import { Wrapping } from '../../ui/Wrapping';

const List = styled.ul`
  list-style: none;
  margin: 0 0 8px;
  padding: 0;
  li {
    display: grid;
    grid-template-columns: 16px minmax(0, 1fr);
    padding: 2px 0;
    font:
      12px/19px 'IBM Plex Mono',
      monospace;
    overflow-wrap: anywhere;
  }
  small {
    font:
      12px/19px 'IBM Plex Sans Variable',
      sans-serif;
    color: ${(p) => p.theme.ink2};
  }
  del {
    color: ${(p) => p.theme.ink2};
  }
  u {
    text-decoration: underline dotted ${(p) => p.theme.ink2};
    text-underline-offset: 3px;
  }
`;

interface ChangeLinesProps {
  remove: string[];
  add: string[];
  /** Of each line that comes, the words that nobody said. */
  derived?: string[];
  /** Those of the lines that come which are taken out again later. */
  passing?: string[];
  /** How many lines are shown at most. */
  most?: number;
}

/** Lines that go and come; words that nobody said stand on dots. */
export function ChangeLines({ remove, add, derived = [], passing = [], most = 40 }: ChangeLinesProps) {
  const gone = Math.min(remove.length, Math.max(Math.ceil(most / 2), most - add.length));
  const left = most - gone;
  const more = remove.length + add.length - most;
  return (
    <List>
      {remove.slice(0, gone).map((l) => (
        <li key={`- ${l}`}>
          <span>−</span>
          <del>
            <Wrapping text={l} />
          </del>
        </li>
      ))}
      {add.slice(0, left).map((l, n) => (
        <li key={`+ ${l}`}>
          <span>+</span>
          <span>
            <Derived line={l} words={(derived[n] ?? '').split(' ')} />
            {passing.includes(l) && <small> for a while</small>}
          </span>
        </li>
      ))}
      {more > 0 && (
        <li>
          <span />
          <span>and {more} more</span>
        </li>
      )}
    </List>
  );
}

function Derived({ line, words }: { line: string; words: string[] }) {
  return line.split(' ').map((w, n) => (
    <span key={n}>
      {n > 0 && ' '}
      {words.includes(w) ? <u title="derived: nobody said it">{w}</u> : w}
    </span>
  ));
}
