import styled from 'styled-components';
import { LinkButton } from '../../ui/Quiet';
import { count } from '../../ui/time';

const Nav = styled.nav`
  border-right: 1px solid ${(p) => p.theme.rule};
  overflow: auto;
  padding: 8px 0;
  > p {
    display: flex;
    gap: 12px;
    padding: 2px 14px 8px 24px;
    margin-bottom: 6px;
    border-bottom: 1px solid ${(p) => p.theme.hairline};
    b {
      font-weight: 600;
    }
  }
  > button {
    display: flex;
    justify-content: space-between;
    width: 100%;
    padding: 3px 14px 3px 24px;
    border: 0;
    background: none;
    cursor: pointer;
    font:
      12px/19px 'IBM Plex Mono',
      monospace;
    color: ${(p) => p.theme.ink};
  }
  > button:hover {
    background: ${(p) => p.theme.hover};
  }
  > button[aria-current] {
    background: ${(p) => p.theme.panel};
    box-shadow: inset 3px 0 0 ${(p) => p.theme.ink};
    font-weight: 600;
  }
  small {
    color: ${(p) => p.theme.ink2};
    font-weight: 400;
  }
`;

interface Props {
  kinds: { word: string }[];
  counts: Record<string, number>;
  /** Whether the records are shown as text, or as tables. */
  asText?: boolean;
  /** The kind whose table is shown. */
  current?: string;
  onKind: (kind: string) => void;
  /** Goes to the other way of showing them. */
  onOther: () => void;
}

/** The kinds of records, with how many there are, and the two ways of showing them. */
export function KindsNav({ kinds, counts, asText, current, onKind, onOther }: Props) {
  return (
    <Nav aria-label="Kinds of records" className="no-print">
      <p>
        {asText ? <b>text</b> : <LinkButton onPress={onOther}>text</LinkButton>}
        {asText ? <LinkButton onPress={onOther}>table</LinkButton> : <b>table</b>}
      </p>
      {kinds.map((k) => (
        <button
          key={k.word}
          type="button"
          aria-current={k.word === current ? 'true' : undefined}
          onClick={() => onKind(k.word)}
        >
          {k.word} <small>{counts[k.word] ? count(counts[k.word] ?? 0) : ''}</small>
        </button>
      ))}
    </Nav>
  );
}
