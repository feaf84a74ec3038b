import { Button } from 'react-aria-components';
import styled from 'styled-components';
import type { ReactNode } from 'react';

/** A sentence where there is nothing else to show. */
export const Quiet = styled.p`
  padding: 28px 24px;
  color: ${(p) => p.theme.ink2};
`;

/** An answer that did not come, and the way to ask again. */
export function Failed({ error, again }: { error: unknown; again: () => void }) {
  return (
    <Quiet role="alert">
      {error instanceof Error ? error.message : String(error)} <LinkButton onPress={again}>Ask again</LinkButton>
    </Quiet>
  );
}

export const LinkButton = styled(Button)`
  border: 0;
  background: none;
  padding: 0;
  color: ${(p) => p.theme.ink};
  border-bottom: 1px dashed ${(p) => p.theme.ink2};
  cursor: pointer;
  &[data-hovered] {
    border-bottom-style: solid;
  }
  &[data-disabled] {
    color: ${(p) => p.theme.ink2};
    border-color: transparent;
    cursor: default;
  }
`;

export const Plain = styled(Button)`
  border: 1px solid ${(p) => p.theme.ink};
  background: transparent;
  color: ${(p) => p.theme.ink};
  padding: 3px 13px 4px;
  font-weight: 500;
  cursor: pointer;
  white-space: nowrap;
  &[data-hovered] {
    background: ${(p) => p.theme.hover};
  }
  &[data-disabled] {
    opacity: 0.45;
    cursor: default;
  }
`;

export const Strong = styled(Plain)`
  background: ${(p) => p.theme.ink};
  color: ${(p) => p.theme.onInk};
  &[data-hovered] {
    background: ${(p) => p.theme.ink2};
  }
`;

/** A fault of something written, with what was expected. */
export const FaultRow = styled.div`
  padding: 7px 0;
  border-top: 1px solid ${(p) => p.theme.hairline};
  color: ${(p) => p.theme.magenta};
  small {
    display: block;
    color: ${(p) => p.theme.ink2};
  }
`;

/** What can be done, side by side. */
export const Acts = styled.div`
  display: flex;
  gap: 10px;
  margin: 14px 0;
`;

export function Loading({ what }: { what: ReactNode }) {
  return <Quiet aria-live="polite">{what}</Quiet>;
}
