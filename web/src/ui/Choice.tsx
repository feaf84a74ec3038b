import { Button, ListBox, Select, SelectValue, Label } from 'react-aria-components';
import styled from 'styled-components';
import { Item, List } from './Picker';

const Box = styled(Select)`
  display: flex;
  align-items: center;
  gap: 8px;
  color: ${(p) => p.theme.ink2};
  white-space: nowrap;
  button {
    border: 0;
    border-bottom: 1px dashed ${(p) => p.theme.ink2};
    background: none;
    padding: 1px 0;
    font-weight: 600;
    color: ${(p) => p.theme.ink};
    cursor: pointer;
  }
`;

interface Props<T extends string> {
  label: string;
  value: string;
  options: readonly T[];
  onChange: (value: T) => void;
  'aria-label'?: string;
}

/** One of a few words. */
export function Choice<T extends string>({ label, value, options, onChange, ...named }: Props<T>) {
  return (
    <Box value={value} onChange={(key) => onChange(String(key) as T)} {...named}>
      {label && <Label>{label}</Label>}
      <Button>
        <SelectValue />
      </Button>
      <List placement="bottom end">
        <ListBox items={options.map((o) => ({ id: o }))}>
          {(o) => (
            <Item id={o.id} textValue={o.id}>
              {o.id}
            </Item>
          )}
        </ListBox>
      </List>
    </Box>
  );
}
