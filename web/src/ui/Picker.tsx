import { useMemo, useState } from 'react';
import { Button, ComboBox, Input, ListBox, ListBoxItem, Popover } from 'react-aria-components';
import styled from 'styled-components';
import { useVantages } from '../api/client';

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
  font-size: 12.5px;
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

/** Where one looks from: what is recorded, or any address. */
export function VantagePicker({
  value,
  onChange,
  label = 'seen from',
}: {
  value: string;
  onChange: (from: string) => void;
  label?: string;
}) {
  const vantages = useVantages();
  const [typed, setTyped] = useState<string | null>(null);
  const text = typed ?? value;
  const shown = useMemo(() => {
    const word = typed?.toLowerCase() ?? '';
    return (vantages.data ?? []).filter((v) => typed === null || v.name.includes(word)).slice(0, 60);
  }, [vantages.data, typed]);
  const choose = (from: string) => {
    setTyped(null);
    if (from && from !== value) onChange(from);
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
      <Field id="vantage" value={text} onFocus={(e) => e.target.select()} />
      <Chevron aria-label="show the places to look from">⌄</Chevron>
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
