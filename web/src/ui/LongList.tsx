import { useEffect, useMemo, useRef, type KeyboardEvent as ReactKeyboardEvent, type ReactNode } from 'react';
import { ListBox, ListBoxItem, ListLayout, Virtualizer } from 'react-aria-components';
import styled from 'styled-components';
import { useKeys } from './keys';
import { usePrinting } from './print';

interface Entry {
  id: string;
}

const Around = styled.div`
  display: grid;
  min-height: 0;
  > * {
    overflow: auto;
    outline: none;
    min-height: 0;
  }
`;

/** One line of a long list; what it looks like when chosen is the list's own matter. */
export const ListLine = styled(ListBoxItem)`
  cursor: pointer;
  outline: none;
  &[data-hovered] {
    background: ${(p) => p.theme.hover};
  }
  &[data-selected] {
    background: ${(p) => p.theme.panel};
  }
  &[data-focus-visible] {
    outline: 2px solid ${(p) => p.theme.ink};
    outline-offset: -2px;
  }
`;

/** For how many frames a line is looked for. */
const mostLooks = 5;

interface Props<T extends Entry> {
  label: string;
  items: T[];
  chosen: string;
  onChoose: (id: string) => void;
  onEnter: () => void;
  /** About how high a line is, in pixels; each is measured. */
  lineHeight: number;
  children: (item: T) => ReactNode;
}

/**
 * Many lines of which one is chosen. Only those in sight are in the page, but for when it is printed. Letters are keys
 * of the view, and so none of them searches the list: give each line an empty textValue.
 */
export function LongList<T extends Entry>({ label, items, chosen, onChoose, onEnter, lineHeight, children }: Props<T>) {
  const list = useRef<HTMLDivElement>(null);
  const all = usePrinting();
  const layoutOptions = useMemo(() => ({ estimatedRowSize: lineHeight }), [lineHeight]);
  const selected = useMemo(() => [chosen], [chosen]);

  // The heights of lines that were never in sight are only guessed: the chosen one is looked for until it is in sight.
  const latest = useRef(items);
  useEffect(() => {
    latest.current = items;
  });
  useEffect(() => {
    let left = mostLooks;
    let frame = 0;
    const look = () => {
      const box = list.current;
      const line = box?.querySelector(`[data-key="${CSS.escape(chosen)}"]`);
      if (line) line.scrollIntoView({ block: 'nearest' });
      else if (box) {
        const at = latest.current.findIndex((i) => i.id === chosen);
        box.scrollTop = ((at + 1) / latest.current.length) * box.scrollHeight - box.clientHeight / 2;
      }
      if (--left > 0) frame = requestAnimationFrame(look);
    };
    frame = requestAnimationFrame(look);
    return () => cancelAnimationFrame(frame);
  }, [chosen]);

  // From wherever the view is looked at, an arrow moves in its list.
  const pass = (e: KeyboardEvent, key: string) => {
    const inside = e.target instanceof Node && list.current?.contains(e.target);
    if (inside && e.key === key) return; // the list has had it, and is at its end
    if (!inside) list.current?.focus();
    document.activeElement?.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true, cancelable: true }));
  };
  useKeys({
    j: (e) => pass(e, 'ArrowDown'),
    k: (e) => pass(e, 'ArrowUp'),
    ArrowDown: (e) => pass(e, 'ArrowDown'),
    ArrowUp: (e) => pass(e, 'ArrowUp'),
    Enter: onEnter,
  });

  const box = (
    <ListBox
      ref={list}
      aria-label={label}
      items={items as Entry[]}
      autoFocus={document.activeElement === document.body}
      selectionMode="single"
      selectionBehavior="replace"
      disallowEmptySelection
      escapeKeyBehavior="none"
      selectedKeys={selected}
      onSelectionChange={(keys) => {
        const [key] = keys === 'all' ? [] : keys;
        if (key !== undefined) onChoose(String(key));
      }}
    >
      {children as (item: unknown) => ReactNode}
    </ListBox>
  );
  const onKeyDown = (e: ReactKeyboardEvent) => {
    if (e.key !== 'Enter') return;
    e.preventDefault();
    e.stopPropagation();
    onEnter();
  };
  return (
    <Around onKeyDownCapture={onKeyDown}>
      {all ? (
        box
      ) : (
        <Virtualizer layout={ListLayout} layoutOptions={layoutOptions}>
          {box}
        </Virtualizer>
      )}
    </Around>
  );
}
