import styled from 'styled-components';
import type { ChainLink } from '../../api/client';
import { duration } from '../change/EffectList';

const Line = styled.ol`
  display: flex;
  flex-wrap: wrap;
  align-items: end;
  row-gap: 3px;
  margin: 6px 0 1px;
  padding: 0;
  list-style: none;
  font:
    12px/17px 'IBM Plex Mono',
    monospace;
  li {
    display: flex;
    align-items: end;
    overflow-wrap: anywhere;
  }
`;

/** What joins two names: the record's type and how long it may be kept, over the line that leads on. */
const Leads = styled.span`
  position: relative;
  padding: 0 12px 1px 6px;
  margin: 0 5px 6px;
  border-bottom: 1px solid ${(p) => p.theme.ink2};
  font:
    11px/13px 'IBM Plex Sans Variable',
    sans-serif;
  color: ${(p) => p.theme.ink2};
  white-space: nowrap;
  &::after {
    content: '';
    position: absolute;
    right: 0;
    bottom: -4px;
    border: 3.5px solid transparent;
    border-left: 6px solid ${(p) => p.theme.ink2};
    border-right: 0;
  }
`;

/** From the name that was asked to its address, link by link. */
export function Chain({ links }: { links: ChainLink[] }) {
  const first = links[0];
  if (!first) return null;
  return (
    <Line aria-label="the chain of records">
      <li>{first.name}</li>
      {links.map((l, i) => (
        <li key={i}>
          <Leads title={l.record}>
            {l.type}
            {l.ttl !== undefined ? ` ${duration(l.ttl)}` : ''}
            {l.age !== undefined && l.age > (l.ttl ?? 0) ? `, behind by ${duration(l.age - (l.ttl ?? 0))}` : ''}
          </Leads>
          {l.value.replace(/\.$/, '')}
        </li>
      ))}
    </Line>
  );
}
