import { useEffect, useState, type ReactNode } from 'react';
import { createPortal } from 'react-dom';
import styled from 'styled-components';

/** The place under the views, in the frame. */
export const toolsSlot = 'view-tools';

/** What a view can be set to, shown in its head. */
export function Tools({ children }: { children: ReactNode }) {
  const [slot, setSlot] = useState<HTMLElement | null>(null);
  useEffect(() => {
    // The slot is the frame's: it is there once this view is.
    setSlot(document.getElementById(toolsSlot)); // eslint-disable-line react-hooks/set-state-in-effect
  }, []);
  return slot ? createPortal(children, slot) : null;
}

const Filter = styled.input`
  border: 0;
  border-bottom: 1px dashed ${(p) => p.theme.ink2};
  background: none;
  color: ${(p) => p.theme.ink};
  width: 130px;
  padding: 1px 0 2px;
  &:focus {
    outline: none;
    border-bottom: 2px solid ${(p) => p.theme.ink};
    padding-bottom: 1px;
  }
`;

interface FilterProps {
  value: string;
  onChange: (value: string) => void;
  /** Leaves the field for what it filters. */
  onLeave?: () => void;
}

/** Shows only what has some word in it; Escape shows all again. */
export function FilterField({ value, onChange, onLeave }: FilterProps) {
  return (
    <label style={{ color: 'inherit' }}>
      <span className="visually-hidden">filter</span>
      <Filter
        id="filter"
        placeholder="filter"
        value={value}
        onChange={(e) => onChange(e.target.value)}
        onKeyDown={(e) => {
          if (e.key === 'Escape') onChange('');
          if (['Escape', 'Enter', 'ArrowDown'].includes(e.key)) {
            e.currentTarget.blur();
            onLeave?.();
          }
        }}
      />
    </label>
  );
}
