import { useMemo, useState } from 'react';
import { Button, ComboBox, Input, ListBox, ListBoxItem, Popover } from 'react-aria-components';
import styled from 'styled-components';
import { useVantages } from '../api/client';
import { size } from './theme';

const Box = styled(ComboBox)`
  display: flex;
  align-items: center;
  gap: 8px;
  color: ${(p) => p.theme.ink2};
  white-space: nowrap;
`;

const Field = styled(Input)`
  width: ${(p) => Math.min(24, Math.max(8, String(p.value ?? '').length + 1))}ch;
  border: 0;
  border-bottom: 1px dashed ${(p) => p.theme.ink2};
  background: none;
  padding: 1px 0;
  font:
    600 13px 'IBM Plex Sans Variable',
    sans-serif;
  color: ${(p) => p.theme.ink};
  min-width: 92px;
  &:focus {
    outline: none;
    border-bottom: 2px solid ${(p) => p.theme.ink};
  }
`;

const Chevron = styled(Button)`
  border: 0;
  background: none;
  padding: 0 2px;
  margin-left: -6px;
  cursor: pointer;
  color: ${(p) => p.theme.ink2};
`;

export const List = styled(Popover)`
  background: ${(p) => p.theme.panel};
  border: 1px solid ${(p) => p.theme.ink};
  min-width: 240px;
  max-height: 320px;
  overflow: auto;
  color: ${(p) => p.theme.ink};
`;

export const Item = styled(ListBoxItem)`
  display: flex;
  justify-content: space-between;
  gap: 20px;
  padding: 3px 10px;
  cursor: pointer;
  outline: none;
  font-size: ${size.plain};
  small {
    color: ${(p) => p.theme.ink2};
  }
  &[data-focused],
  &[data-hovered] {
    background: ${(p) => p.theme.shallows};
  }
  &[data-selected] {
    font-weight: 600;
  }
`;

interface PickerProps {
  value: string;
  onChange: (value: string) => void;
  label: string;
  /** What there is to pick from; anything else may be typed. */
  items: { name: string; kind: string }[];
  id?: string;
  /** What stands where nothing is picked. */
  empty?: string;
}

/** How many are offered at once. */
const offered = 60;

/** One of many words, or any that is typed. */
export function Picker({ value, onChange, label, items, id, empty }: PickerProps) {
  const [typed, setTyped] = useState<string | null>(null);
  const text = typed ?? value;
  const shown = useMemo(() => {
    const word = typed?.toLowerCase() ?? '';
    return items.filter((v) => typed === null || v.name.includes(word)).slice(0, offered);
  }, [items, typed]);
  const choose = (next: string) => {
    setTyped(null);
    if ((next || empty !== undefined) && next !== value) onChange(next);
  };
  return (
    <Box
      aria-label={label}
      inputValue={text}
      onInputChange={(t) => setTyped(t === value ? null : t)}
      onChange={(key) => choose(key ? String(key) : (typed ?? '').trim())}
      value={value}
      allowsCustomValue
      menuTrigger="focus"
      onBlur={() => setTyped(null)}
    >
      <span>{label}</span>
      <Field id={id} value={text} placeholder={empty} onFocus={(e) => e.target.select()} />
      <Chevron aria-label={`show what there is: ${label}`}>⌄</Chevron>
      <List placement="bottom end">
        <ListBox items={shown.map((v) => ({ ...v, id: v.name }))}>
          {(v) => (
            <Item id={v.id} textValue={v.name}>
              <span>{v.name}</span> <small>{v.kind}</small>
            </Item>
          )}
        </ListBox>
      </List>
    </Box>
  );
}

interface VantageProps {
  value: string;
  onChange: (from: string) => void;
  label?: string;
  id?: string;
}

/** Where one looks from: what is recorded, or any address. */
export function VantagePicker({ value, onChange, label = 'seen from', id = 'vantage' }: VantageProps) {
  const vantages = useVantages();
  return <Picker value={value} onChange={onChange} label={label} id={id} items={vantages.data ?? []} />;
}
