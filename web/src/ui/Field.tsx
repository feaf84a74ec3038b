import { Input, Label, TextField, type TextFieldProps } from 'react-aria-components';
import styled from 'styled-components';
import { size } from './theme';

const Box = styled(TextField)`
  display: grid;
  gap: 3px;
  label {
    color: ${(p) => p.theme.ink2};
  }
  input {
    border: 0;
    border-bottom: 1px solid ${(p) => p.theme.ink2};
    background: none;
    color: ${(p) => p.theme.ink};
    padding: 4px 0;
    font-size: ${size.text};
    min-width: 0;
    &:focus {
      outline: none;
      border-bottom: 2px solid ${(p) => p.theme.ink};
      padding-bottom: 3px;
    }
  }
`;

/** A line to fill in. */
export function Field({ label, ...props }: { label: string } & TextFieldProps) {
  return (
    <Box {...props}>
      <Label>{label}</Label>
      <Input />
    </Box>
  );
}
