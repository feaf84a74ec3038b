import styled from 'styled-components';
import { size } from './theme';

/** A list, and beside it what is to become of it. */
export const Two = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) 372px;
  min-height: 0;
`;

/** The list, which scrolls. */
export const Sheet = styled.div`
  overflow: auto;
  min-width: 0;
`;

/** What stands beside it. */
export const Side = styled.aside`
  border-left: 1px solid ${(p) => p.theme.rule};
  overflow: auto;
  padding: 18px 22px 24px 20px;
  h3 {
    font-size: ${size.text};
    font-weight: 600;
    margin: 0 0 6px;
  }
`;

/** What the list is of. */
export const Top = styled.header`
  padding: 14px 24px 12px;
  border-bottom: 1px solid ${(p) => p.theme.rule};
  h2 {
    font-size: ${size.head};
    line-height: 24px;
    overflow-wrap: anywhere;
  }
  p {
    color: ${(p) => p.theme.ink2};
  }
  code {
    color: ${(p) => p.theme.ink};
  }
`;

/** The head of some lines of a list, and how many they are. */
export const Group = styled.h3`
  font-size: ${size.plain};
  font-weight: 400;
  color: ${(p) => p.theme.ink2};
  padding: 14px 24px 4px;
`;

/** A line of a list: a mark or a tick, what it is, and a word on it. */
export const MarkedLine = styled.div`
  display: grid;
  grid-template-columns: 26px minmax(0, 1fr) fit-content(50%);
  align-items: start;
  padding: 6px 24px;
  border-top: 1px solid ${(p) => p.theme.hairline};
  font:
    12px/19px 'IBM Plex Mono',
    monospace;
  small {
    color: ${(p) => p.theme.ink2};
    font:
      12px/19px 'IBM Plex Sans Variable',
      sans-serif;
    padding-left: 16px;
    text-align: right;
  }
`;

/** Lines one below the other, beside a list. */
export const Lines = styled.ul`
  list-style: none;
  margin: 0 0 14px;
  padding: 0;
  li {
    padding: 3px 0;
    border-top: 1px solid ${(p) => p.theme.hairline};
    font:
      12px/19px 'IBM Plex Mono',
      monospace;
    overflow-wrap: anywhere;
  }
`;
